package git

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"syscall"
	"time"
)

// full is how git says that a disk is.
var full = regexp.MustCompile(`(?i)no space left on device|out of disk ?space`)

// failure is the error of a git that failed.
type failure struct {
	command string
	err     error
	said    string
}

// Error names the command, and holds all that git said.
func (f *failure) Error() string { return fmt.Sprintf("git %s: %v: %s", f.command, f.err, f.said) }
func (f *failure) Unwrap() error { return f.err }

// grace is how long a git may take to put its locks away after it was asked to end.
const grace = 5 * time.Second

// maxAnswer bounds what git may print where it is not written to a file, in bytes.
const maxAnswer = 256 << 20

func (r *Repo) run(ctx context.Context, args ...string) (string, error) {
	return r.feed(ctx, nil, args...)
}

// feed runs git with paths on its standard input, each ended by a NUL.
func (r *Repo) feed(ctx context.Context, paths []string, args ...string) (string, error) {
	var in strings.Builder
	for _, p := range paths {
		in.WriteString(p + "\x00")
	}
	var out strings.Builder
	err := r.pipe(ctx, strings.NewReader(in.String()), &bounded{&out, maxAnswer}, args...)
	if f := (*failure)(nil); errors.As(err, &f) { // some of it git says there
		f.said = strings.TrimSpace(f.said + "\n" + out.String())
	}
	if err != nil {
		return "", err
	}
	return out.String(), nil
}

// pipe runs git between a reader and a writer.
func (r *Repo) pipe(ctx context.Context, in io.Reader, out io.Writer, args ...string) error {
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = grace
	cmd.Dir = r.Top
	cmd.Env = append(append(os.Environ(), "GIT_TERMINAL_PROMPT=0", "LC_ALL=C"), r.env...)
	var problems strings.Builder
	cmd.Stdin, cmd.Stdout, cmd.Stderr = in, out, &problems
	err := cmd.Run()
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if full.MatchString(problems.String()) {
		err = syscall.ENOSPC
	}
	return &failure{args[0], err, strings.TrimSpace(problems.String())}
}

// bounded fails where more is written than may be.
type bounded struct {
	to   io.Writer
	left int64 // bytes
}

// Write takes what still has room.
func (b *bounded) Write(p []byte) (int, error) {
	if b.left -= int64(len(p)); b.left < 0 {
		return 0, errors.New("it is too large")
	}
	return b.to.Write(p)
}
