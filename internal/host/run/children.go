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

// maxGenerations is how often children of children that were ended are looked for.
const maxGenerations = 20

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

// EndChildren ends at once whatever this process has started and not waited for, with all that it left behind. The process
// is to end right after that.
func EndChildren() {
	children.RLock()
	defer children.RUnlock()
	for pid := range children.stages {
		kill(pid)
		kill(-pid) // its group, where it has one
	}
	for range maxGenerations {
		adopted := orphans()
		for _, pid := range adopted {
			kill(pid)
		}
		if len(adopted) == 0 {
			return
		}
	}
}
