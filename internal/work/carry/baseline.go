package carry

import (
	"context"
	"fmt"
	"strings"

	"bellwether/internal/core/finding"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/verify"
)

// FailedStage is the error of a stage without which there is no going on.
type FailedStage struct {
	Stage finding.Stage
	What  string // what follows from it
	Next  string
}

// mostRed is how many failing tests an error names.
const mostRed = 20

// red are the tests that fail, each with its first cause and its place; of a stage without any, the failures that were read from
// what it printed, and else the end of that.
func (f *FailedStage) red() (lines []string) {
	add := func(text, place string) {
		text, _, _ = strings.Cut(text, "\n")
		if place != "" {
			text += " (" + place + ")"
		}
		lines = append(lines, text)
	}
	for _, t := range f.Stage.Tests {
		if t.Failed() {
			add(strings.TrimSuffix(t.Name+": "+t.Message, ": "), t.Place)
		}
	}
	if len(lines) == 0 && f.Stage.Name != "fetch" { // of which the client's own words say most
		for _, found := range f.Stage.Findings {
			if found.Kind == finding.Failure {
				add(strings.TrimPrefix(found.Code+": "+found.Text, ": "), found.Place)
			}
		}
	}
	if len(lines) == 0 {
		return f.Stage.Tail
	}
	if more := len(lines) - mostRed; more > 0 {
		lines = append(lines[:mostRed], fmt.Sprintf("and %d more", more))
	}
	return lines
}

// Error names the stage and what is red in it.
func (f *FailedStage) Error() string {
	where := f.Stage.Name
	if f.Stage.Component != "." {
		where = f.Stage.Component + ": " + where
	}
	text := fmt.Sprintf("%s: %s: %s (log: %s)", f.What, where, f.Stage.Why, f.Stage.Log)
	for _, line := range f.red() {
		text += "\n    " + line
	}
	return text + "\n  next: " + f.Next
}

// ensureBaseline gives the verification of the untouched project: a kept one
// if content, tools and stages are the same, else a new one.
func (a *advance) ensureBaseline(ctx context.Context) (*finding.Verification, error) {
	was := a.kept.Baseline()
	if a.journey.Moved() && was != nil {
		return was, nil
	}
	if was != nil {
		same, err := a.start().Same(ctx, was)
		if err != nil {
			return nil, err
		}
		if same {
			return a.checkBaseline(was)
		}
	}
	a.desk.Tell(desk.Event{Text: "proving the start: the project as it is", Done: true, Good: true})
	v, _, err := a.start().Run(ctx)
	if err != nil {
		return nil, err
	}
	if err := a.kept.KeepBaseline(v); err != nil {
		return nil, err
	}
	return a.checkBaseline(v)
}

func (a *advance) checkBaseline(v *finding.Verification) (*finding.Verification, error) {
	if a.opt.FromRed {
		return v, nil
	}
	for _, s := range v.Stages {
		if s.Red() {
			return nil, &FailedStage{
				Stage: s, What: "the project fails before anything is changed",
				Next: "make it pass first, or go on with --from-red, which then only asks that nothing gets worse",
			}
		}
	}
	return v, nil
}

// start is a verification of the project before the first leg.
func (a *advance) start() verify.Job {
	return verify.Job{Desk: a.desk, Tree: a.tree, Kept: a.kept, Repo: a.repo, Label: "baseline", Whole: true}
}
