package run

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
)

// Call is a program that answers and ends: git, or a tool that tells its version. Its
// environment is only what Env says.
type Call struct {
	Dir     string
	Args    []string
	Env     []string
	In      io.Reader
	Out     io.Writer
	Errors  io.Writer
	Session bool // it gets a session of its own, without a terminal
}

// Run runs the program to its end. One that fails is an error, of which ExitStatus
// tells the status. When ctx ends, it is asked to end, and killed a little later.
func (c Call) Run(ctx context.Context) error {
	cmd := exec.CommandContext(ctx, c.Args[0], c.Args[1:]...)
	cmd.Dir, cmd.Stdin, cmd.Stdout, cmd.Stderr = c.Dir, c.In, c.Out, c.Errors
	cmd.Env = c.Env
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = grace
	if c.Session {
		inOwnSession(cmd)
		cmd.Cancel = func() error { return endGroup(cmd) }
		defer killGroup(cmd)
	}
	if err := begin(cmd, false); err != nil {
		return err
	}
	return finish(cmd)
}

// ExitStatus is the status that a program ended with; ok is false for an error of
// another kind.
func ExitStatus(err error) (status int, ok bool) {
	var exit *exec.ExitError
	if !errors.As(err, &exit) {
		return 0, false
	}
	return exit.ExitCode(), true
}

// Installed tells whether a program can be started by its name.
func Installed(program string) bool {
	_, err := exec.LookPath(program)
	return err == nil
}

// Find is where a program lies that is started by its name, links followed. The error is ErrMissing for one that is not installed.
func Find(program string) (string, error) {
	at, err := exec.LookPath(program)
	if err != nil {
		return "", fmt.Errorf("%s %w", program, ErrMissing)
	}
	return filepath.EvalSymlinks(at)
}

// neutral is a folder that belongs to no project: a tool that is asked there finds no
// settings that tell it to run something else.
func neutral() string { return filepath.VolumeName(os.TempDir()) + string(filepath.Separator) }
