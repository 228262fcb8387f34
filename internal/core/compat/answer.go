package compat

import (
	"slices"

	"bellwether/internal/core/model"
)

// present tells whether a subject was chosen, or is in a world.
func (n *Answer) present(s model.Subject, w World) bool { return n.Chosen[s] != nil || len(w[s]) > 0 }

// holds tells whether a condition holds of what was chosen, or of a world.
func (n *Answer) holds(c Condition, w World) bool {
	v := n.Chosen[c.Subject]
	if v == nil {
		return w.Holds(c)
	}
	return c.Range == nil || c.Range.Contains(v)
}

// link finds the needs that hold.
func (n *Answer) link(q *Question) {
	world := q.Worlds[len(q.Worlds)-1]
	holds := func(c Condition) bool { return n.holds(c, world) }
	for i := range q.Demands {
		d := &q.Demands[i]
		v := n.Chosen[d.By]
		if v == nil || d.When == nil || d.When(v) {
			n.Links = append(n.Links, Link{By: d.By, Need: d.Need, Demand: d})
		}
	}
	for _, r := range q.Rules {
		if r.Foreign != "" {
			continue
		}
		unmet := slices.DeleteFunc(slices.Clone(r.When), holds)
		switch {
		case (r.Kind == Needs || r.Kind == Restored) && len(unmet) == 0:
			for _, then := range r.Then {
				n.Links = append(n.Links, Link{By: r.When[0].Subject, Need: then, With: r.When[1:], Rule: r})
			}
		case r.Kind == Clashes && len(unmet) == 1 && len(r.When) > 1 && n.present(unmet[0].Subject, world):
			with := slices.DeleteFunc(slices.Clone(r.When), func(c Condition) bool { return c.String() == unmet[0].String() })
			n.Links = append(n.Links, Link{By: with[0].Subject, Need: unmet[0], With: with[1:], Rule: r, Not: true})
		}
	}
}
