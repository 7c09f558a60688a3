//go:build unix

package program

import (
	"os/exec"
	"syscall"
)

// group gives a program a group of its own, so that all that it starts ends with it.
func group(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

func killGroup(cmd *exec.Cmd) { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
