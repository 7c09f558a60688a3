//go:build unix

package signing

import (
	"os/exec"
	"syscall"
)

// apart keeps a program from the terminal.
func apart(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }
