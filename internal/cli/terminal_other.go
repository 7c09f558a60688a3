//go:build !unix

package cli

import (
	"fmt"
	"os"
)

// terminal tells terminals apart: by the process that commands are called from.
func terminal() string { return fmt.Sprint(os.Getppid()) }
