package run

import (
	"os/exec"
	"sync"
)

// children are those that this process started and has not waited for. As the system
// has one such list for a process, so has this.
var children = struct {
	sync.RWMutex
	stages map[int]bool // by process number; false for a program that only answers
}{stages: map[int]bool{}}

// begin starts a child and remembers it. A stage may leave processes behind: they
// become this one's.
func begin(cmd *exec.Cmd, stage bool) error {
	children.Lock()
	defer children.Unlock()
	if stage {
		adopt()
	}
	err := cmd.Start()
	if err == nil {
		children.stages[cmd.Process.Pid] = stage
	}
	return err
}

// finish waits for a child, and for what it prints.
func finish(cmd *exec.Cmd) error {
	err := cmd.Wait()
	children.Lock()
	defer children.Unlock()
	delete(children.stages, cmd.Process.Pid)
	return err
}
