package desk

import (
	"fmt"
	"sync"
)

// Event is a step of progress.
type Event struct {
	Text string // what is being done: "board: test"
	Done bool   // it has come to its end
	Good bool   // and went well
	Note string // how it ended, in a few words
	// Always is that it is told even where progress is not.
	Always bool
	// Aside is that it is nothing that was done, but something to know.
	Aside bool
}

// teller tells the person, and remembers what was told once.
type teller struct {
	report func(Event)
	mu     sync.Mutex
	told   map[string]bool
}

// once tells whether a sentence is new.
func (t *teller) once(text string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.told[text] {
		return false
	}
	if t.told == nil {
		t.told = map[string]bool{}
	}
	t.told[text] = true
	return true
}

func (t *teller) count() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return len(t.told)
}

// Tell tells of progress.
func (d *Desk) Tell(e Event) {
	if !e.Done {
		d.Doing(e.Text)
	}
	if d.teller.report != nil {
		d.teller.report(e)
	}
}

// Doing says what is at work, for the case that it meets a limit.
func (d *Desk) Doing(text string) {
	if d.Options.Doing != nil {
		d.Options.Doing(text)
	}
}

// Aside tells something to know, once.
func (d *Desk) Aside(text string) {
	if d.teller.once(text) {
		d.Tell(Event{Text: text, Done: true, Always: true, Aside: true})
	}
}

// maxPassed is how many places that were passed over are told one by one.
const maxPassed = 10

// passOver tells once what is passed over while the project is looked through.
func (d *Desk) passOver(name string, why error) {
	text := fmt.Sprintf("%s is passed over: %s", name, why)
	if d.teller.count() >= maxPassed {
		text = "further places are passed over, too"
	}
	d.Aside(text)
}
