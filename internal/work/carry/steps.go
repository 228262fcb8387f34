package carry

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
	"bellwether/internal/core/version"
	"bellwether/internal/host/machine"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
)

// passSteps gives the next leg that moves something. Legs for a person before it
// are passed where what they are for is seen to be done.
func (a *advance) passSteps(ctx context.Context) (*model.Leg, error) {
	for {
		leg := a.journey.Next(a.file)
		if leg == nil || leg.Kind() == model.LegMoves {
			return leg, nil
		}
		if leg.Kind() == model.LegSettle {
			if err := a.settled(ctx, leg); err != nil {
				return nil, err
			}
		}
		ticks, err := a.kept.Ticks()
		if err != nil {
			return nil, err
		}
		ticked := func(n int) bool {
			return ticks[leg.ID].Pass || ticks[fmt.Sprintf("%s.%d", leg.ID, n+1)].Pass
		}
		var without []string
		for n, s := range leg.Steps {
			if ticked(n) {
				continue
			}
			seen, askable, err := a.stepDone(ctx, s)
			if err != nil {
				return nil, err
			}
			if !seen && a.opt.Unverified && s.Subject.Kind == "runtime" {
				without = append(without, "it was gone on without: "+s.Text)
				continue
			}
			if !seen {
				next := "do it, and run bellwether advance again"
				if s.Subject.Kind == "runtime" && len(s.Wants) == 1 {
					if by := a.desk.Machine().InstalledBy(s.Subject, s.Wants[0]); by != "" {
						next = "do it, with " + by + " say, and run bellwether advance again"
					}
					next += "; or go on without it, which every leg will be marked with: bellwether advance --unverified"
				}
				if !askable {
					next = "do it, say bellwether tick " + leg.ID + " --pass, since it cannot be seen from here, and run bellwether advance again"
				}
				return nil, &model.Fault{
					Doing: "advancing to leg " + leg.ID, Wrong: "it waits for you: " + s.Text + " (" + s.Because + ")", Next: next, Found: true,
				}
			}
		}
		if len(without) > 0 {
			a.desk.Aside(strings.Join(without, "; "))
		} else {
			a.desk.Tell(desk.Event{Text: leg.Title, Done: true, Good: true, Note: "done"})
		}
		a.journey.Legs = append(a.journey.Legs, &kept.LegRecord{ID: leg.ID, Title: leg.Title, Status: kept.Done, Unverified: without})
		if err := a.kept.WriteJourney(a.journey); err != nil {
			return nil, err
		}
	}
}

// stepDone tells whether what a person was to do is seen to be done, and whether
// it can be asked for at all.
func (a *advance) stepDone(ctx context.Context, s model.Step) (seen, askable bool, err error) {
	wants, err := compat.ReadWants(s.Wants)
	if err != nil {
		return false, false, &model.Fault{Doing: "reading the route", File: kept.RouteFile, Wrong: err.Error()}
	}
	for _, i := range a.desk.Machine().Versions(ctx, s.Subject) {
		if v, err := (version.Plain{}).Parse(i.Version); err == nil && i.Where == "" && wants.Hold(v) {
			return true, true, nil
		}
	}
	return false, machine.Askable(s.Subject), nil
}

// settled verifies the project for a leg that asks how many deprecations of its own
// are left. The error tells those that are too many.
func (a *advance) settled(ctx context.Context, leg *model.Leg) error {
	job := a.start()
	job.Label, job.Before = leg.ID, a.kept.Baseline()
	v, _, err := job.Run(ctx)
	if err != nil {
		return err
	}
	if !a.journey.Moved() { // it is the untouched project, which needs no second proof
		if err := a.kept.KeepBaseline(v); err != nil {
			return err
		}
	}
	own := 0
	var lines string
	const most = 10
	for _, c := range finding.Causes(v.Findings(), finding.Deprecation) {
		if !c.Own() {
			break
		}
		if own++; own <= most {
			lines += fmt.Sprintf("\n    %s (%s)", c.Text, cmp.Or(c.Place, "no place is told"))
		}
	}
	if own <= *leg.Deprecations {
		return nil
	}
	return &model.Fault{
		Doing: "advancing to leg " + leg.ID, Found: true,
		Wrong: fmt.Sprintf(
			"the project's own code uses %s, and %d may be left%s", spelling.Count(own, "deprecated thing", "deprecated things"),
			*leg.Deprecations, lines,
		),
		Next: "repair them, commit, and run bellwether advance again; bellwether verify --deprecations lists all",
	}
}
