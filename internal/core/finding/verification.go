// Package finding reads what stages print and compares two verifications.
package finding

import (
	"slices"
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

func (v *Verification) stage(component, name string) *Stage {
	for i := range v.Stages {
		if v.Stages[i].Component == component && v.Stages[i].Name == name {
			return &v.Stages[i]
		}
	}
	return nil
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
