//go:build unix

package cli

import (
	"context"
	"os/signal"
	"syscall"
)

// hungUp is a context that also ends when the terminal goes away, or when the program is told to dump itself: a screen is put
// back first.
func hungUp(ctx context.Context) (context.Context, context.CancelFunc) {
	return signal.NotifyContext(ctx, syscall.SIGHUP, syscall.SIGQUIT)
}
