// Package standing tells where a project is on its route, and what is to be tried by hand.
package standing

import (
	"context"
	"fmt"

	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/spelling"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/todo"
	"bellwether/internal/work/tree"
)

// Status tells where the project is on its route.
func Status(ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store) (*output.StatusResult, error) {
	file, err := k.Route(ctx, t)
	if err != nil {
		return nil, err
	}
	j, err := k.Journey()
	if err != nil {
		return nil, err
	}
	s, err := status(d, k, file, j)
	if err != nil {
		return nil, err
	}
	left, err := todo.List(t.Files.FS)
	if err != nil {
		return nil, err
	}
	s.ToDos = left.ToDos
	return s, nil
}

func status(d *desk.Desk, k *kept.Store, file *kept.Route, j *kept.Journey) (*output.StatusResult, error) {
	s := &output.StatusResult{Branch: j.Branch, Legs: []output.LegResult{}}
	var err error
	if s.Checklist, err = checklist(d, k, file, j); err != nil {
		return nil, err
	}
	if file == nil {
		s.Next = "compute a route: bellwether route --to NAME@RANGE, or --reach minor"
		return s, nil
	}
	s.Destination = file.Destination
	next := j.Next(file)
	for i := range file.Legs {
		l := &file.Legs[i]
		leg := model.Leg{ID: l.ID, Title: l.Title, Component: l.Component, Moves: l.Moves, Steps: l.Steps}
		r := output.OfLeg(leg)
		r.Status = "waiting"
		if record := j.Find(l.ID); record != nil {
			r.Status, r.Commit, r.Unverified = stateOfLeg(k, record), record.Commit, record.Unverified
		} else if l == next {
			r.Status = "next"
		}
		s.Legs = append(s.Legs, r)
	}
	switch {
	case next == nil:
		s.Next = "the route is complete"
		if n := stillOpen(s.Checklist); n > 0 {
			s.Next += fmt.Sprintf("; %s to be tried by hand: bellwether tick ITEM --pass or --fail", spelling.Count(n, "thing is", "things are"))
		}
	case len(next.Steps) > 0:
		s.Next = fmt.Sprintf("for you: %s (%s); then bellwether advance", next.Steps[0].Text, next.Steps[0].Because)
	case next.Deprecations != nil:
		s.Next = fmt.Sprintf(
			"bellwether advance passes leg %s once the project's own code uses no more than %d deprecated; bellwether verify "+
				"--deprecations lists them",
			next.ID, *next.Deprecations,
		)
	case j.Find(next.ID) != nil && stateOfLeg(k, j.Find(next.ID)) == kept.Repair:
		s.Next = fmt.Sprintf("repair what leg %s breaks, then bellwether advance verifies and commits it; bellwether undo takes it back", next.ID)
	default:
		s.Next = fmt.Sprintf("bellwether advance carries out leg %s", next.ID)
	}
	return s, nil
}

// stateOfLeg is the state of a leg for people. One whose call was killed is in the
// tree, to be verified, or was not begun.
func stateOfLeg(k *kept.Store, l *kept.LegRecord) string {
	if l.Status != kept.Begun {
		return l.Status
	}
	if k.Unwritten(l) {
		return "next"
	}
	return kept.Repair
}

func stillOpen(items []output.ChecklistItem) (n int) {
	for _, item := range items {
		if item.State == output.TickOpen {
			n++
		}
	}
	return n
}
