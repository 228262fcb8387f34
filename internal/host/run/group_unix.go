//go:build unix

package run

import (
	"os/exec"
	"syscall"
)

// inOwnSession gives the program a session of its own: what it starts is one process
// group, and there is no terminal that it could wait for.
func inOwnSession(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }

// endGroup asks the program and its children to end.
func endGroup(cmd *exec.Cmd) error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM) }

// killGroup ends whatever of the group is left.
func killGroup(cmd *exec.Cmd) {
	if cmd.Process != nil {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
	}
}

func kill(pid int) { _ = syscall.Kill(pid, syscall.SIGKILL) }
