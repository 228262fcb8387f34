//go:build !unix

package run

import "os/exec"

func inOwnSession(*exec.Cmd) {}

func endGroup(cmd *exec.Cmd) error { return cmd.Process.Kill() }

func killGroup(*exec.Cmd) {}

func kill(int) {}
