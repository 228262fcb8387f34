package cli

import (
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"bellwether/internal/core/harmless"
	"bellwether/internal/work/desk"
)

// spinner is one of the progress bar library's spinners.
const spinner = 14

// progress tells what is being done on stderr: a moving line on a terminal,
// else a line for each thing that is done.
func (a *app) progress() func(desk.Event) {
	if f, ok := a.stderr.(*os.File); ok && term.IsTerminal(int(f.Fd())) && a.colour != "never" {
		return moving(f)
	}
	return oneByOne(func(e desk.Event) {
		if e.Done {
			fmt.Fprintln(a.stderr, finished(e))
		}
	})
}

// oneByOne lets several goroutines tell at once.
func oneByOne(report func(desk.Event)) func(desk.Event) {
	var telling sync.Mutex
	return func(e desk.Event) {
		telling.Lock()
		defer telling.Unlock()
		report(e)
	}
}

// urgent passes on only what is to be told always.
func urgent(report func(desk.Event)) func(desk.Event) {
	return func(e desk.Event) {
		if e.Always {
			report(e)
		}
	}
}

func finished(e desk.Event) string {
	mark := "ok    "
	switch {
	case e.Aside:
		mark = "note  "
	case !e.Good:
		mark = "FAILED"
	}
	if e.Note == "" {
		return fmt.Sprintf("  %s  %s", mark, harmless.Line(e.Text))
	}
	return fmt.Sprintf("  %s  %s (%s)", mark, harmless.Line(e.Text), harmless.Line(e.Note))
}

// moving shows what is being done on a line of its own that is wiped again;
// the result tells how it ended.
func moving(w io.Writer) func(desk.Event) {
	wipe := func() {}
	return oneByOne(func(e desk.Event) {
		wipe()
		wipe = func() {}
		if e.Done {
			if e.Always {
				fmt.Fprintln(w, finished(e))
			}
			return
		}
		bar := progressbar.NewOptions(-1, progressbar.OptionSetWriter(w), progressbar.OptionSetDescription(harmless.Line(e.Text)),
			progressbar.OptionSpinnerType(spinner), progressbar.OptionSetElapsedTime(true),
			progressbar.OptionSetSpinnerChangeInterval(100*time.Millisecond), progressbar.OptionClearOnFinish())
		_ = bar.Add(1) // starts it
		wipe = func() { _ = bar.Finish() }
	})
}
