//go:build !unix

package program

import "os/exec"

func group(*exec.Cmd) {}

func killGroup(cmd *exec.Cmd) { _ = cmd.Process.Kill() }
