package work

import (
	"context"
	"fmt"

	"bellwether/internal/core/model"
)

// Status tells where the project is on its route.
func (p *Project) Status(ctx context.Context) (*model.StatusResult, error) {
	file, err := p.readRoute(ctx)
	if err != nil {
		return nil, err
	}
	j, err := p.readJourney()
	if err != nil {
		return nil, err
	}
	return p.status(file, j)
}

func (p *Project) status(file *routeFile, j *journey) (*model.StatusResult, error) {
	s := &model.StatusResult{Branch: j.Branch, Legs: []model.LegResult{}}
	var err error
	if s.Checklist, err = p.checklist(file, j); err != nil {
		return nil, err
	}
	if file == nil {
		s.Next = "compute a route: bellwether route --to NAME@RANGE, or --reach minor"
		return s, nil
	}
	s.Destination = file.Destination
	next := nextLeg(file, j)
	for i := range file.Legs {
		l := &file.Legs[i]
		leg := model.Leg{ID: l.ID, Title: l.Title, Component: l.Component, Moves: l.moves(p.partOf(l)), Steps: l.steps()}
		r := leg.Result()
		r.Status = "waiting"
		if record := j.find(l.ID); record != nil {
			r.Status, r.Commit = p.stateOfLeg(record), record.Commit
		} else if l == next {
			r.Status = "next"
		}
		s.Legs = append(s.Legs, r)
	}
	switch {
	case next == nil:
		s.Next = "the route is complete"
		if n := stillOpen(s.Checklist); n > 0 {
			s.Next += fmt.Sprintf("; %s to be tried by hand: bellwether tick ITEM --pass or --fail", counted(n, "thing is", "things are"))
		}
	case len(next.Steps) > 0:
		s.Next = fmt.Sprintf("for you: %s (%s); then bellwether advance", next.Steps[0].Text, next.Steps[0].Because)
	case next.Deprecations != nil:
		s.Next = fmt.Sprintf("bellwether advance passes leg %s once the project's own code uses no more than %d deprecated; bellwether verify --deprecations lists them", next.ID, *next.Deprecations)
	case j.find(next.ID) != nil && p.stateOfLeg(j.find(next.ID)) == legRepair:
		s.Next = fmt.Sprintf("repair what leg %s breaks, then bellwether advance verifies and commits it; bellwether undo takes it back", next.ID)
	default:
		s.Next = fmt.Sprintf("bellwether advance carries out leg %s", next.ID)
	}
	return s, nil
}

// stateOfLeg is the state of a leg for people. One whose call was killed is in the
// tree, to be verified, or was not begun.
func (p *Project) stateOfLeg(l *legRecord) string {
	if l.Status != legBegun {
		return l.Status
	}
	if p.unwritten(l) {
		return "next"
	}
	return legRepair
}

func stillOpen(items []model.ChecklistItem) (n int) {
	for _, item := range items {
		if item.State == model.TickOpen {
			n++
		}
	}
	return n
}
