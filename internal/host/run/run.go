// Package run runs programs: each in a session of its own, without a
// terminal, with a bounded log, and ended whole on time-out or interrupt.
package run

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"bellwether/internal/host/marked"
)

// Command is a program to run.
type Command struct {
	Dir     string
	Args    []string
	Env     []string      // "NAME=value", added to Building
	First   []string      // folders whose programs come before those of the PATH
	Timeout time.Duration // zero for none
	Log     io.Writer     // receives what the program prints; nil for nowhere
	Owner   string        // by whose name EndAll finds it
}

// Result is how a program ended.
type Result struct {
	Exit     int // exit status; -1 if it was ended
	TimedOut bool
	Duration time.Duration
}

// ErrMissing is the error of a program that is not installed.
var ErrMissing = errors.New("is not installed, or not on the PATH")

// grace is how long a program may take to end after it was asked to, and briefly the same after an interrupt: the person
// waits.
const (
	grace   = 5 * time.Second
	briefly = 400 * time.Millisecond
)

// Run runs a program to its end. A program that fails is no error; one that
// cannot be started is, and so is a cancelled ctx.
func Run(ctx context.Context, c Command) (Result, error) {
	limited := ctx
	if c.Timeout > 0 {
		var cancel context.CancelFunc
		limited, cancel = context.WithTimeout(ctx, c.Timeout)
		defer cancel()
	}
	p, err := Start(limited, c)
	if err != nil {
		return Result{}, err
	}
	result, err := p.Wait()
	if ctx.Err() != nil {
		return result, ctx.Err()
	}
	result.TimedOut = limited.Err() != nil
	return result, err
}

// Process is a program that was started.
type Process struct {
	cmd    *exec.Cmd
	mark   string // that all which it starts has in its environment
	args   []string
	start  time.Time
	copied chan struct{} // closed when all that it printed is taken down
	out    *os.File      // that its output is read from; nil for none
	done   chan struct{}
	result Result
	err    error
}

// Start starts a program. When ctx ends, the program and its children are asked to
// end, and are killed a little later.
func Start(ctx context.Context, c Command) (*Process, error) {
	program := c.program()
	if _, err := exec.LookPath(program); err != nil && !strings.Contains(program, "/") {
		return nil, fmt.Errorf("%s %w", c.Args[0], ErrMissing)
	}
	cmd := exec.CommandContext(ctx, program, c.Args[1:]...)
	cmd.Dir = c.Dir
	mark := marked.New(c.Owner)
	var env []string
	if len(c.First) > 0 { // before what the command lays down itself, which is the last word
		env = []string{"PATH=" + strings.Join(append(slices.Clone(c.First), os.Getenv("PATH")), string(filepath.ListSeparator))}
	}
	cmd.Env = Building(append(slices.Concat(env, c.Env), mark)...)
	inOwnSession(cmd)
	p := &Process{cmd: cmd, mark: mark, args: c.Args, start: time.Now(), done: make(chan struct{})}
	cmd.Cancel = func() error {
		if errors.Is(ctx.Err(), context.Canceled) {
			go p.killAfter(briefly)
		}
		return endGroup(cmd)
	}
	cmd.WaitDelay = grace
	if err := p.begin(c.Log); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("%s %w", c.Args[0], ErrMissing)
		}
		return nil, fmt.Errorf("running %s: %w", strings.Join(c.Args, " "), err)
	}
	go p.await()
	return p, nil
}

// program is what is started: by its name, that of the first folders, if one of them has it.
func (c Command) program() string {
	if strings.ContainsAny(c.Args[0], `/\`) {
		return c.Args[0]
	}
	for _, dir := range c.First {
		if at, err := exec.LookPath(filepath.Join(dir, c.Args[0])); err == nil {
			return at
		}
	}
	return c.Args[0]
}

// begin starts the program. What it prints comes by a pipe of our own, so that the end of
// the program is seen although something that it left behind goes on printing.
func (p *Process) begin(log io.Writer) (err error) {
	p.copied = make(chan struct{})
	if log == nil {
		close(p.copied)
		return begin(p.cmd, true)
	}
	var in *os.File
	if p.out, in, err = os.Pipe(); err != nil {
		return err
	}
	p.cmd.Stdout, p.cmd.Stderr = in, in
	if err := errors.Join(begin(p.cmd, true), in.Close()); err != nil {
		return errors.Join(err, p.out.Close())
	}
	go func() {
		defer close(p.copied)
		_, _ = io.Copy(log, p.out)
	}()
	return nil
}

func (p *Process) await() {
	defer close(p.done)
	err := finish(p.cmd)
	killGroup(p.cmd)  // children that outlived the program
	endMarked(p.mark) // those that left the group to be independent
	endOrphans()      // and those that left their environment behind as well
	select {
	case <-p.copied:
	case <-time.After(grace): // something holds the pipe that nobody can end
	}
	if p.out != nil {
		_ = p.out.Close()
		<-p.copied
	}
	p.result = Result{Duration: time.Since(p.start)}
	if p.cmd.ProcessState != nil {
		p.result.Exit = p.cmd.ProcessState.ExitCode()
	}
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) && !errors.Is(err, exec.ErrWaitDelay) && !errors.Is(err, context.DeadlineExceeded) &&
		!errors.Is(err, context.Canceled) {
		p.err = fmt.Errorf("running %s: %w", strings.Join(p.args, " "), err)
	}
}

// killAfter kills what has not ended by itself within a while.
func (p *Process) killAfter(while time.Duration) {
	select {
	case <-p.done:
	case <-time.After(while):
		killGroup(p.cmd)
	}
}

// EndAll ends whatever an owner's programs left running, also those of a call that
// crashed.
func EndAll(owner string) { endMarked(marked.Of(owner)) }

func endMarked(mark string) {
	left, _ := marked.Find(mark)
	for _, p := range left {
		kill(p.PID)
	}
}

// Wait waits for the end of the program.
func (p *Process) Wait() (Result, error) {
	<-p.done
	return p.result, p.err
}

// Ended is closed when the program has come to its end.
func (p *Process) Ended() <-chan struct{} { return p.done }

// Stop ends the program with all its children, and waits until they are gone.
func (p *Process) Stop() (Result, error) {
	select {
	case <-p.done:
		return p.result, p.err
	default:
	}
	_ = endGroup(p.cmd)
	select {
	case <-p.done:
	case <-time.After(grace):
		killGroup(p.cmd)
		<-p.done
	}
	return p.result, p.err
}

// Output gives what a program prints that is asked something in a neutral folder,
// trimmed.
func Output(ctx context.Context, args ...string) (string, error) {
	return output(ctx, nil, args...)
}

func output(ctx context.Context, env []string, args ...string) (string, error) {
	if _, err := Find(args[0]); err != nil {
		return "", err
	}
	limited, cancel := context.WithTimeout(ctx, outputTimeout)
	defer cancel()
	var out, problems bounded
	err := Call{Dir: neutral(), Args: args, Env: Asking(env...), Out: &out, Errors: &problems, Session: true}.Run(limited)
	if ctx.Err() != nil {
		return "", ctx.Err()
	}
	if err != nil {
		return "", fmt.Errorf("running %s: %w: %s", strings.Join(args, " "), err, strings.TrimSpace(problems.String()))
	}
	if out.Len() == 0 {
		out = problems // some print their version there
	}
	return strings.TrimSpace(out.String()), nil
}

// outputTimeout is how long a program may take to tell a short fact.
const outputTimeout = 10 * time.Second

// maxOutput is how much of a short fact is taken, in bytes.
const maxOutput = 1 << 20

// bounded keeps the beginning of what is written.
type bounded struct{ bytes.Buffer }

func (b *bounded) Write(p []byte) (int, error) {
	if room := maxOutput - b.Len(); room > 0 {
		b.Buffer.Write(p[:min(room, len(p))])
	}
	return len(p), nil
}

// Log is a file that takes at most a number of bytes: the first half of them
// and the newest half; what lies between is counted and left out.
type Log struct {
	file    *os.File
	head    int64 // bytes that may still be written as they come
	tail    []byte
	dropped int64
	limit   int
	broken  error // why nothing more can be written
}

// NewLog makes a log of at most limit bytes in an empty file.
func NewLog(file *os.File, limit int) *Log {
	return &Log{file: file, head: int64(limit / 2), limit: limit / 2}
}

// Write takes what a program printed. It always does, so that the program can go on;
// what could not be written is the error of Close.
func (l *Log) Write(p []byte) (int, error) {
	n := len(p)
	if l.broken != nil {
		return n, nil
	}
	if l.head > 0 {
		first := p[:min(int64(len(p)), l.head)]
		if _, err := l.file.Write(first); err != nil {
			l.broken = err
			return n, nil
		}
		l.head -= int64(len(first))
		p = p[len(first):]
	}
	l.tail = append(l.tail, p...)
	if over := len(l.tail) - l.limit; over > 0 && len(l.tail) > 2*l.limit {
		l.dropped += int64(over)
		l.tail = append([]byte(nil), l.tail[over:]...)
	}
	return n, nil
}

// Close writes the rest and closes the file.
func (l *Log) Close() error {
	if over := len(l.tail) - l.limit; over > 0 {
		l.dropped += int64(over)
		l.tail = l.tail[over:]
	}
	if l.dropped > 0 {
		fmt.Fprintf(l.file, "\n… %d bytes left out …\n", l.dropped)
	}
	_, err := l.file.Write(l.tail)
	return errors.Join(l.broken, err, l.file.Close())
}
