package finding

import (
	"fmt"
	"slices"
	"time"
)

// Comparison is what changed from a baseline to a later verification. Names
// are sorted.
type Comparison struct {
	NewlyFailing []Test       `json:"newly-failing,omitempty"` // failed, and did not fail before
	StillFailing []Test       `json:"still-failing,omitempty"` // failed before, too
	NewlyPassing []string     `json:"newly-passing,omitempty"` // failed before
	Unstable     []Test       `json:"unstable,omitempty"`      // failed, and passed when they were run once more
	Vanished     []string     `json:"vanished,omitempty"`      // ran before, did not run now
	BrokenStages []Stage      `json:"broken-stages,omitempty"` // failed, and did not before, and no test tells why
	NewFindings  []Finding    `json:"new-findings,omitempty"`  // said now, and not before
	GoneFindings []Finding    `json:"gone-findings,omitempty"` // said before, and not now
	Differences  []Difference `json:"differences,omitempty"`   // from the versions that were to be reached
	Times        []StageTime  `json:"times,omitempty"`         // of stages that ran both times
}

// Difference is a version at work that is not the one that was to be reached.
type Difference struct {
	Effect
	Wanted string `json:"wanted"`
}

// String says the difference in a sentence.
func (d Difference) String() string {
	return fmt.Sprintf("%s is to be at %s, and is %s %s", d.Name, d.Wanted, d.Version, d.Where)
}

// StageTime is how long a stage took, before and now.
type StageTime struct {
	Component string        `json:"component"`
	Name      string        `json:"name"`
	Before    time.Duration `json:"nanoseconds-before"`
	After     time.Duration `json:"nanoseconds"`
}

// Worse tells whether something that was right before no longer is.
func (c *Comparison) Worse() bool {
	return len(c.NewlyFailing)+len(c.Vanished)+len(c.BrokenStages)+len(c.Differences) > 0
}

// Compare sets a verification against a baseline. Tests that could not run
// because their stage was not reached count as the stage's failure only.
func Compare(before, after *Verification) Comparison {
	var c Comparison
	for _, s := range after.Stages {
		old := before.stage(s.Component, s.Name)
		c.compareTests(old, s)
		var said []Finding
		if old != nil {
			said = old.Findings
		}
		c.NewFindings = append(c.NewFindings, Missing(s.Findings, said)...)
		if s.Status == Passed || s.Status == Failed {
			c.GoneFindings = append(c.GoneFindings, Missing(said, s.Findings)...)
		}
		if old != nil && old.Duration > 0 && s.Duration > 0 {
			c.Times = append(c.Times, StageTime{s.Component, s.Name, old.Duration, s.Duration})
		}
		wasRed := old != nil && old.Red()
		explained := slices.ContainsFunc(s.Tests, Test.Failed)
		if s.Red() && !wasRed && !explained {
			c.BrokenStages = append(c.BrokenStages, s)
		}
	}
	slices.Sort(c.Vanished)
	slices.Sort(c.NewlyPassing)
	return c
}

func (c *Comparison) compareTests(old *Stage, s Stage) {
	was := map[string]Test{}
	if old != nil {
		for _, t := range old.Tests {
			was[t.Name] = t
		}
	}
	now := map[string]bool{}
	for _, t := range s.Tests {
		now[t.Name] = true
		if t.Within != "" {
			now[t.Within] = true // its file ran
		}
		before, known := was[t.Name]
		switch {
		case t.Unstable:
			c.Unstable = append(c.Unstable, t)
		case t.Failed() && known && before.Failed():
			c.StillFailing = append(c.StillFailing, t)
		case t.Failed():
			c.NewlyFailing = append(c.NewlyFailing, t)
		case known && before.Failed():
			c.NewlyPassing = append(c.NewlyPassing, t.Name)
		}
	}
	if s.Status == NotRun || s.Status == TimedOut {
		return
	}
	for name, t := range was {
		switch {
		case now[name] || t.Skipped:
		case t.Within != "" && now[t.Within]: // what passes there is not named
			if t.Failed() {
				c.NewlyPassing = append(c.NewlyPassing, name)
			}
		default:
			c.Vanished = append(c.Vanished, name)
		}
	}
}

// Again is a stage that failed, with what came of running it once more: tests that
// pass now are unstable, and so is the stage if nothing else failed.
func (s Stage) Again(second Stage) Stage {
	passes := map[string]bool{}
	for _, t := range second.Tests {
		if t.Passed {
			passes[t.Name] = true
		}
	}
	s.Tests = slices.Clone(s.Tests)
	unstable := 0
	for i := range s.Tests {
		if t := &s.Tests[i]; t.Failed() && (passes[t.Name] || t.Within != "" && passes[t.Within]) {
			t.Unstable = true
			unstable++
		}
	}
	if second.Status == Passed && !slices.ContainsFunc(s.Tests, Test.Failed) {
		s.Status, s.Exit, s.Tail, s.Crash, s.Counted = Passed, 0, nil, nil, second.Counted
		s.Why = "passed when it was run once more"
		if unstable > 0 {
			s.Why = fmt.Sprintf("%d unstable: passed when run once more", unstable)
		}
	}
	return s
}

// NewlyRed tells whether a stage fails as it did not before: another test, or all of
// it.
func NewlyRed(before *Verification, s Stage) bool {
	if !s.Red() {
		return false
	}
	if before == nil {
		return true
	}
	c := Compare(before, &Verification{Stages: []Stage{s}})
	return len(c.NewlyFailing)+len(c.BrokenStages) > 0
}
