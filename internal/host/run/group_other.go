//go:build !unix

package run

import "os/exec"

func inOwnGroup(*exec.Cmd) {}

func endGroup(cmd *exec.Cmd) error { return cmd.Process.Kill() }

func killGroup(*exec.Cmd) {}
