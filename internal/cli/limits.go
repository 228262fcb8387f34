package cli

import (
	"context"
	"fmt"
	"io"
	"math"
	"os"
	"os/signal"
	"runtime/debug"
	"runtime/metrics"
	"sync/atomic"
	"syscall"
	"time"

	"bellwether/internal/core/harmless"
	"bellwether/internal/host/run"
)

// maxMemory is the memory that a call may take, in bytes, unless GOMEMLIMIT says otherwise. The runtime keeps
// below it as long as it can, and the call ends where it cannot.
const maxMemory = 2 << 30

// endWithin is how long a call may take to end by itself after an interrupt: to stop what it
// started and remove its scratch. What is left then, the next call puts right.
const endWithin = 900 * time.Millisecond

// limits ends a call that takes too much memory, or too long to end after an interrupt.
type limits struct {
	stderr io.Writer
	doing  atomic.Pointer[string] // what is at work
}

// note says what is at work.
func (l *limits) note(text string) { l.doing.Store(&text) }

// memory is the limit that counts, in bytes.
func memory() int64 {
	if given := debug.SetMemoryLimit(-1); given != math.MaxInt64 {
		return given
	}
	debug.SetMemoryLimit(maxMemory)
	return maxMemory
}

// watch looks after a call until it is finished.
func (l *limits) watch(ctx context.Context, stop func(), finished <-chan struct{}) {
	limit := memory()
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	look := time.NewTicker(100 * time.Millisecond)
	defer look.Stop()
	for {
		select {
		case <-finished:
			return
		case <-look.C:
			if metrics.Read(live); int64(live[0].Value.Uint64()) > limit/10*9 {
				l.end(exitOutside, fmt.Sprintf("this takes more than %d MB of memory, while %s; the next call puts right what is left\n"+
					"  next: if the files are yours and as large as that, set GOMEMLIMIT (4GiB, say)", limit>>20, l.at()))
			}
		case <-ctx.Done():
			stop() // a second interrupt ends the program at once
			select {
			case <-finished:
			case <-time.After(endWithin):
				l.end(exitInterrupted, "interrupted while "+l.at()+"; the next call puts right what is left")
			}
			return
		}
	}
}

func (l *limits) at() string {
	if text := l.doing.Load(); text != nil {
		return harmless.Line(*text)
	}
	return "starting"
}

// end ends the program, with all that it started.
func (l *limits) end(status int, why string) {
	run.EndChildren()
	fmt.Fprintln(l.stderr, "bellwether: "+why)
	os.Exit(status)
}

// ending are the signals that end the program: also the one that comes when its terminal
// goes, unless it was started to outlive that (nohup).
func ending() []os.Signal {
	signals := []os.Signal{os.Interrupt, syscall.SIGTERM}
	if !signal.Ignored(syscall.SIGHUP) {
		signals = append(signals, syscall.SIGHUP)
	}
	return signals
}
