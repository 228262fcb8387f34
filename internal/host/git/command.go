package git

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"syscall"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/host/run"
)

// full is how git says that a disk is.
var full = lazyregexp.New(`(?i)no space left on device|out of disk ?space`)

// failure is the error of a git that failed.
type failure struct {
	command string
	err     error
	said    string
}

// Error names the command, and holds all that git said.
func (f *failure) Error() string { return fmt.Sprintf("git %s: %v: %s", f.command, f.err, f.said) }
func (f *failure) Unwrap() error { return f.err }

// maxAnswer bounds what git may print where it is not written to a file, in bytes.
const maxAnswer = 256 << 20

// maxProblems is how much is kept of what git says on its standard error, in bytes.
const maxProblems = 1 << 20

// always is the environment of every git of ours.
var always = []string{"GIT_TERMINAL_PROMPT=0", "LC_ALL=C"}

// reading is that of a git that only looks: it writes nothing, not even what it
// remembers of the state of files, and goes nowhere for what a partial clone lacks.
var reading = []string{"GIT_OPTIONAL_LOCKS=0", "GIT_PAGER=cat", "GIT_NO_LAZY_FETCH=1", "GIT_ALLOW_PROTOCOL=none"}

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
	err := r.pipe(ctx, strings.NewReader(in.String()), &bounded{to: &out, left: maxAnswer}, args...)
	if f := (*failure)(nil); errors.As(err, &f) { // some of it git says there
		f.said = strings.TrimSpace(f.said + "\n" + out.String())
	}
	if err != nil {
		return "", err
	}
	return out.String(), nil
}

// environment is what git gets: where it changes the repository, as the person asked,
// what git gets from them by hand; else one from a list, and settings that outweigh all
// of the repository's by which git runs something.
func (r *Repo) environment() []string {
	if r.acting {
		return run.Building(append(append(always, configured([]setting{bareIsNone})...), r.env...)...)
	}
	env := run.Asking(append(append(always, reading...), configured(append(quiet(), r.outer...))...)...)
	return append(env, r.env...)
}

// pipe runs git between a reader and a writer.
func (r *Repo) pipe(ctx context.Context, in io.Reader, out io.Writer, args ...string) error {
	var problems strings.Builder
	err := run.Call{
		Dir: r.Top, Args: append([]string{"git"}, args...), Env: r.environment(), In: in, Out: out,
		Errors: &bounded{to: &problems, left: maxProblems, drop: true},
	}.Run(ctx)
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

// bounded fails where more is written than may be, or drops that.
type bounded struct {
	to   io.Writer
	left int64 // bytes
	drop bool
}

// Write takes what still has room.
func (b *bounded) Write(p []byte) (int, error) {
	if b.left -= int64(len(p)); b.left >= 0 {
		return b.to.Write(p)
	}
	if b.drop {
		return len(p), nil
	}
	return 0, errors.New("it is too large")
}
