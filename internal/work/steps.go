package work

import (
	"context"
	"fmt"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/host/machine"
)

// passSteps gives the next leg that moves something. Legs for a person before it
// are passed where what they are for is seen to be done.
func (p *Project) passSteps(ctx context.Context, file *routeFile, j *journey) (*fileLeg, error) {
	for {
		leg := nextLeg(file, j)
		if leg == nil || len(leg.Steps) == 0 && leg.Deprecations == nil {
			return leg, nil
		}
		if leg.Deprecations != nil {
			if err := p.settled(ctx, j, leg); err != nil {
				return nil, err
			}
		}
		ticks, err := p.readTicks()
		if err != nil {
			return nil, err
		}
		ticked := func(n int) bool {
			return ticks[leg.ID].Pass || ticks[fmt.Sprintf("%s.%d", leg.ID, n+1)].Pass
		}
		for n, s := range leg.Steps {
			if ticked(n) {
				continue
			}
			seen, askable, err := p.stepDone(ctx, s)
			if err != nil {
				return nil, err
			}
			if !seen {
				next := "do it, and run bellwether advance again"
				if !askable {
					next = "do it, say bellwether tick " + leg.ID + " --pass, since it cannot be seen from here, and run bellwether advance again"
				}
				return nil, &model.Fault{Doing: "advancing to leg " + leg.ID, Wrong: "it waits for you: " + s.Text + " (" + s.Because + ")", Next: next, Found: true}
			}
		}
		p.tell(Event{Text: leg.Title, Done: true, Good: true, Note: "done"})
		j.Legs = append(j.Legs, &legRecord{ID: leg.ID, Title: leg.Title, Status: legDone})
		if err := p.writeJourney(j); err != nil {
			return nil, err
		}
	}
}

// stepDone tells whether what a person was to do is seen to be done, and whether
// it can be asked for at all.
func (p *Project) stepDone(ctx context.Context, s fileStep) (seen, askable bool, err error) {
	wants, err := compat.ReadWants(s.Needs)
	if err != nil {
		return false, false, &model.Fault{Doing: "reading the route", File: keepDir + "/route.yaml", Wrong: err.Error()}
	}
	subject, _ := model.ReadSubject(s.Subject)
	for _, i := range p.machine().Versions(ctx, subject) {
		if v, err := (version.Plain{}).Parse(i.Version); err == nil && i.Where == "" && wants.Hold(v) {
			return true, true, nil
		}
	}
	return false, machine.Askable(subject), nil
}
