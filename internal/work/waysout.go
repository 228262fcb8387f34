package work

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
)

// NoWay is the error of a destination that cannot be reached.
type NoWay struct {
	Conflict *solve.Conflict
	Ways     []model.WayOut // each was tried, and solves
	raise    *destination   // a runtime that the way goes by if it is raised; nil for none
}

// conflictOf gives the conflict that an error is; other errors are none.
func conflictOf(err error) (c *solve.Conflict, ok bool) {
	ok = errors.As(err, &c)
	return c, ok
}

// Error is the proof, and what would do instead.
func (n *NoWay) Error() string {
	text := n.Conflict.Error()
	for _, w := range n.Ways {
		text += "\n  way out: " + w.Text + ": " + w.Option
	}
	return text
}

// Unwrap gives the conflict.
func (n *NoWay) Unwrap() error { return n.Conflict }

// waysOut looks for changes of the wish that would make it possible: to raise
// a runtime that the manifest states, or to ask for an older release.
func (p *Project) waysOut(ctx context.Context, part *Part, plan *route.Plan, conflict *solve.Conflict) (*NoWay, error) {
	no := &NoWay{Conflict: conflict}
	w, err := p.world(ctx, part)
	if err != nil {
		return nil, err
	}
	order := part.eco.Order()
	upward := func(at string) func(version.Version) bool {
		from, err := order.Parse(at)
		return func(v version.Version) bool { return err == nil && v.Compare(from) >= 0 && !v.Preview() }
	}
	goal := func() route.Goal {
		g := route.Goal{Bounds: map[string]route.Bound{}, Rules: plan.Rules}
		for _, wish := range plan.Wishes {
			g.Bounds[wish.Name] = route.Bound{Allow: wish.Range.Contains, Newest: true, Why: wish.Text + " is asked for"}
			g.First = append(g.First, wish.Name)
		}
		return g
	}
	// try solves for a goal, and tells where a requirement would go.
	try := func(g route.Goal, name string) (string, error) {
		state, err := w.Solve(ctx, g)
		var again *solve.Conflict
		if errors.As(err, &again) {
			return "", nil
		}
		if err != nil {
			return "", err
		}
		at := slices.IndexFunc(state.Moves, func(m model.Move) bool { return m.Name == name })
		if at < 0 {
			return "", nil
		}
		return state.Moves[at].To, nil
	}
	for _, r := range part.Requirements {
		if r.Subject.Kind != "runtime" || slices.Contains(goal().First, r.Name) {
			continue
		}
		g := goal()
		g.Bounds[r.Name] = route.Bound{Allow: upward(r.Locked), Why: r.Name + " may be raised"}
		to, err := try(g, r.Name)
		if err != nil {
			return nil, err
		}
		if to != "" {
			if no.raise == nil {
				no.raise = &destination{name: r.Name, rng: lineOf(order, to), text: r.Name + "@" + to, because: "what is asked for needs it"}
			}
			no.Ways = append(no.Ways, model.WayOut{Text: fmt.Sprintf("raise %s from %s to %s (%s)", r.Name, r.Locked, to, r.Site), Option: "--to " + r.Name + "@" + lineOf(order, to)})
		}
	}
	for i, wish := range plan.Wishes {
		found := part.Find(wish.Name)
		if len(found) == 0 || found[0].Locked == "" {
			continue
		}
		g := goal()
		g.Bounds[wish.Name] = route.Bound{Allow: upward(found[0].Locked), Newest: true, Why: wish.Name + " may be at any later version"}
		to, err := try(g, wish.Name)
		if err != nil {
			return nil, err
		}
		if to != "" && to != found[0].Locked {
			no.Ways = append(no.Ways, model.WayOut{Text: fmt.Sprintf("the newest %s that goes without that is %s", plan.Wishes[i].Name, to), Option: "--to " + wish.Name + "@" + to})
		}
	}
	return no, nil
}

// lineOf is the line of a version where that is a range which has it, else the
// version itself.
func lineOf(order version.Order, text string) string {
	v, err := order.Parse(text)
	if err != nil {
		return text
	}
	if line, err := order.ParseRange(v.Line()); err == nil && line.Contains(v) {
		return v.Line()
	}
	return text
}
