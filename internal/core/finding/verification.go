// Package finding has the nouns of a verification, what is found in what stages print, and compares two verifications.
package finding

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/output"
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
	Kept      string        `json:"kept,omitempty"`     // it was not run again, since nothing that it reads has changed since then
	Tests     []Test        `json:"tests,omitempty"`    // where the runner tells them one by one
	Counted   *Counted      `json:"counted,omitempty"`  // by the runner, where it names only some of them
	Findings  []Finding     `json:"findings,omitempty"` // the gravest first
	More      int           `json:"more-findings,omitempty"`
	Crash     *Crash        `json:"crash,omitempty"`   // the first uncaught error, of a failed stage
	Removed   []string      `json:"removed,omitempty"` // what clean removed
	Touched   []string      `json:"touched,omitempty"` // files under version control that the stage changed
	Notes     []string      `json:"notes,omitempty"`   // what is worth knowing, as sentences
	Log       string        `json:"log,omitempty"`     // file, relative to the project
	Tail      []string      `json:"tail,omitempty"`    // the last lines printed, of a failed stage
}

// Verification is what came of all stages.
type Verification struct {
	Key    string            `json:"key"` // names the content and stages that were verified
	At     time.Time         `json:"at"`
	Tools  map[string]string `json:"tools"` // versions, by program
	Stages []Stage           `json:"stages"`
	Effect []Effect          `json:"in-effect,omitempty"` // versions as they were found at work
	// Runtimes are what the stages ran with, beside what files state of it.
	Runtimes []Runtime `json:"runtimes,omitempty"`
}

// Runtime is the version of a runtime that the stages of a component ran with.
type Runtime struct {
	Component string `json:"component"`
	Name      string `json:"name"` // "runtime/node"
	Version   string `json:"version"`
	Where     string `json:"where,omitempty"` // the version manager's folder that it was taken from; empty for what a bare command starts
	// Other are places that state another one, each with what it states: "24 (.nvmrc:1)".
	Other []string `json:"other-stated,omitempty"`
}

// Untried says that nothing was built, tested or started, "" where something was.
func (v *Verification) Untried() string {
	if slices.ContainsFunc(v.Stages, func(s Stage) bool {
		return s.Status != Skipped && s.Status != NotRun && (s.Name == "build" || s.Name == "test" || s.Name == "start")
	}) {
		return ""
	}
	if !slices.ContainsFunc(v.Stages, func(s Stage) bool { return s.Status != Skipped && len(s.Command) > 0 }) {
		return "nothing was built or tested, since there is no stage for it"
	}
	return "nothing was built or tested"
}

// Effect is a version that was found at work, and where.
type Effect struct {
	Component string `json:"component"`
	Name      string `json:"name"` // of a requirement, or "runtime/node"
	Version   string `json:"version"`
	Where     string `json:"where"` // "installed", "told by the started program", "as it runs"
}

// Red tells whether the stage failed, and was not optional.
func (s Stage) Red() bool {
	return (s.Status == Failed || s.Status == TimedOut) && !s.Optional
}

// Green tells whether no stage is red.
func (v *Verification) Green() bool { return !slices.ContainsFunc(v.Stages, Stage.Red) }

// Findings are those of all stages, each with its stage's place among them.
func (v *Verification) Findings() (all []Finding) {
	for _, s := range v.Stages {
		all = append(all, s.Findings...)
	}
	return all
}

// Count gives how many tests passed and failed.
func (v *Verification) Count() (passed, failed int) {
	for _, s := range v.Stages {
		if s.Counted != nil {
			passed, failed = passed+s.Counted.Passed, failed+s.Counted.Failed
			continue
		}
		for _, t := range s.Tests {
			switch {
			case t.Skipped:
			case t.Failed():
				failed++
			default:
				passed++
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
	Limit      *int        `json:"deprecations-limit,omitempty"` // of own deprecations; nil for none
	Comparison *Comparison `json:"comparison,omitempty"`         // nil without a baseline
	// Deprecations are what is deprecated, by cause, where that was asked for.
	Deprecations []Cause `json:"deprecations,omitempty"`
}

// OverLimit tells whether there are more deprecations of the project's own than
// it allows itself.
func (r *Result) OverLimit() bool {
	return r.Limit != nil && OwnCount(r.Findings(), Deprecation) > *r.Limit
}

// LegResult is what came of carrying out one leg.
type LegResult struct {
	Leg          output.LegResult `json:"leg"`
	Verification *Verification    `json:"verification"`
	Comparison   Comparison       `json:"comparison"`
	Done         bool             `json:"done"`             // nothing is worse, and it is committed where there is git
	Commit       string           `json:"commit,omitempty"` // empty without git
	Left         int              `json:"left"`             // legs that are still to go
	// Pause tells that the leg is the first of its route that is not verified, and that nobody said to go on.
	Pause bool `json:"-"`
	// Hints are what releases and rules say of what fails.
	Hints []string `json:"hints,omitempty"`
}

// Compare orders effects by component, name and where they were found.
func (e Effect) Compare(o Effect) int {
	return cmp.Or(strings.Compare(e.Component, o.Component), strings.Compare(e.Name, o.Name), strings.Compare(e.Where, o.Where))
}
