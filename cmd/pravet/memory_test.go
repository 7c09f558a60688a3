//go:build unix

package main

import (
	"runtime/debug"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestASmallHeapMayGrow: what is collected often costs more than it saves.
func TestASmallHeapMayGrow(t *testing.T) {
	pace()
	require.Equal(t, most, debug.SetGCPercent(100))
}
