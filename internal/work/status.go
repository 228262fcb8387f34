package work

import (
	"context"
	"fmt"

	"bellwether/internal/core/model"
)

// Status tells where the project is on its route.
func (p *Project) Status(context.Context) (*model.StatusResult, error) {
	file, err := p.readRoute()
	if err != nil {
		return nil, err
	}
	j, err := p.readJourney()
	if err != nil {
		return nil, err
	}
	s := &model.StatusResult{Branch: j.Branch, Legs: []model.LegResult{}}
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
			r.Status, r.Commit = record.Status, record.Commit
		} else if l == next {
			r.Status = "next"
		}
		s.Legs = append(s.Legs, r)
	}
	switch {
	case next == nil:
		s.Next = "the route is complete"
	case len(next.Steps) > 0:
		s.Next = fmt.Sprintf("for you: %s (%s); then bellwether advance", next.Steps[0].Text, next.Steps[0].Because)
	case j.find(next.ID) != nil:
		s.Next = fmt.Sprintf("repair what leg %s breaks, then bellwether advance verifies and commits it; bellwether undo takes it back", next.ID)
	default:
		s.Next = fmt.Sprintf("bellwether advance carries out leg %s", next.ID)
	}
	return s, nil
}
