// Package finding reads what stages print and compares two verifications.
package finding

import (
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/model"
)

// Status is how a stage ended.
type Status string

// The ends that a stage can come to.
const (
	Passed   Status = "passed"
	Failed   Status = "failed"
	TimedOut Status = "timed out"
	Skipped  Status = "skipped"
	NotRun   Status = "not run" // because a stage before it failed
)

// Stage is what came of one stage.
type Stage struct {
	Component string        `json:"component"` // its folder
	Name      string        `json:"name"`
	Command   []string      `json:"command"`
	Status    Status        `json:"status"`
	Optional  bool          `json:"optional,omitempty"` // a failure does not fail the verification
	Exit      int           `json:"exit,omitempty"`
	Duration  time.Duration `json:"nanoseconds,omitempty"`
	Why       string        `json:"why,omitempty"`      // of a skipped or failed stage
	Tests     []Test        `json:"tests,omitempty"`    // where the runner tells them one by one
	Findings  []Finding     `json:"findings,omitempty"` // what a compiler or checker says of places
	Log       string        `json:"log,omitempty"`      // file, relative to the project
	Tail      []string      `json:"tail,omitempty"`     // the last lines printed, of a failed stage
}

// Verification is what came of all stages.
type Verification struct {
	Key    string            `json:"key"` // names the content and stages that were verified
	At     time.Time         `json:"at"`
	Tools  map[string]string `json:"tools"` // versions, by program
	Stages []Stage           `json:"stages"`
}

// Red tells whether the stage failed, and was not optional.
func (s Stage) Red() bool {
	return (s.Status == Failed || s.Status == TimedOut) && !s.Optional
}

// Green tells whether no stage is red.
func (v *Verification) Green() bool { return !slices.ContainsFunc(v.Stages, Stage.Red) }

// Count gives how many tests passed and failed.
func (v *Verification) Count() (passed, failed int) {
	for _, s := range v.Stages {
		for _, t := range s.Tests {
			switch {
			case t.Skipped:
			case t.Passed:
				passed++
			default:
				failed++
			}
		}
	}
	return passed, failed
}

// Comparison is what changed from a baseline to a later verification. Names
// are sorted.
type Comparison struct {
	NewlyFailing []Test    `json:"newly-failing,omitempty"` // failed, and did not fail before
	StillFailing []Test    `json:"still-failing,omitempty"` // failed before, too
	NewlyPassing []string  `json:"newly-passing,omitempty"` // failed before
	Vanished     []string  `json:"vanished,omitempty"`      // ran before, did not run now
	BrokenStages []Stage   `json:"broken-stages,omitempty"` // failed, and did not before, and no test tells why
	NewFindings  []Finding `json:"new-findings,omitempty"`  // said of places now, and not before
}

// Worse tells whether something that was right before no longer is.
func (c *Comparison) Worse() bool {
	return len(c.NewlyFailing)+len(c.Vanished)+len(c.BrokenStages) > 0
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
		c.NewFindings = append(c.NewFindings, newFindings(said, s.Findings)...)
		wasRed := old != nil && old.Red()
		explained := slices.ContainsFunc(s.Tests, func(t Test) bool { return !t.Passed && !t.Skipped })
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
		before, known := was[t.Name]
		switch {
		case !t.Passed && !t.Skipped && known && !before.Passed:
			c.StillFailing = append(c.StillFailing, t)
		case !t.Passed && !t.Skipped:
			c.NewlyFailing = append(c.NewlyFailing, t)
		case known && !before.Passed && !before.Skipped:
			c.NewlyPassing = append(c.NewlyPassing, t.Name)
		}
	}
	if s.Status == NotRun || s.Status == TimedOut {
		return
	}
	for name, t := range was {
		if !now[name] && !t.Skipped {
			c.Vanished = append(c.Vanished, name)
		}
	}
}

func (v *Verification) stage(component, name string) *Stage {
	for i := range v.Stages {
		if v.Stages[i].Component == component && v.Stages[i].Name == name {
			return &v.Stages[i]
		}
	}
	return nil
}

// LastLines are the last n lines of a text that are not empty, without
// terminal colours.
func LastLines(text string, n int) []string {
	var lines []string
	for line := range strings.Lines(text) {
		if line = strings.TrimRight(plain(line), " \t\r\n"); line != "" {
			lines = append(lines, line)
		}
	}
	return lines[max(0, len(lines)-n):]
}

// plain drops terminal control sequences (ECMA-48).
func plain(line string) string {
	var b strings.Builder
	for i := 0; i < len(line); i++ {
		if line[i] != 0x1b {
			b.WriteByte(line[i])
			continue
		}
		if i+1 < len(line) && line[i+1] == '[' {
			for i += 2; i < len(line) && (line[i] < 0x40 || line[i] > 0x7e); i++ {
			}
		}
	}
	return b.String()
}

// Result is a verification, and how it compares with the baseline.
type Result struct {
	*Verification
	IsBaseline bool        `json:"is-baseline,omitempty"`
	Comparison *Comparison `json:"comparison,omitempty"` // nil without a baseline
}

// LegResult is what came of carrying out one leg.
type LegResult struct {
	Leg          model.LegResult `json:"leg"`
	Verification *Verification   `json:"verification"`
	Comparison   Comparison      `json:"comparison"`
	Done         bool            `json:"done"`             // verified, and committed where there is git
	Commit       string          `json:"commit,omitempty"` // empty without git
	Left         int             `json:"left"`             // legs that are still to go
}
