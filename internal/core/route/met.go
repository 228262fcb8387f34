package route

import (
	"fmt"
	"maps"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
)

// byItself makes a step one that nobody asked for by name, where there is a reach for it.
func (r *planner) byItself(run func() error) func() error {
	return func() error {
		r.unasked = r.Reach > version.Stay
		defer func() { r.unasked = false }()
		return run()
	}
}

// met sees that what nobody asked for by name needs no other runtime than there is: what a project runs on is moved because it is
// wanted, not because a tool wants it. A release that has nothing in it any more is none to go to, either. In a leg about one subject
// that is a conflict. In one about many, those that bring such needs stay where they are, and are told.
func (r *planner) met(goal contract.Goal, state *contract.State) (contract.Goal, *contract.State, error) {
	if !r.unasked {
		return goal, state, nil
	}
	stays := map[string]bool{} // in this leg
	for {
		unmet, err := r.world.Unmet(r.ctx, state)
		for _, h := range state.Hollow {
			unmet = append(unmet, Unmet(h))
		}
		if err != nil || len(unmet) == 0 {
			return goal, state, err
		}
		if r.lead != nil {
			return goal, state, solve.Refute(r.lead.String(), unmet[0].Text)
		}
		bounds := maps.Clone(goal.Bounds)
		held := false
		for _, u := range unmet {
			for _, s := range r.named(u.Name) {
				if s.At == nil || stays[s.Name] {
					continue
				}
				at := s.At
				bounds[s.Name] = contract.Bound{
					Allow: func(v version.Version) bool { return v.Compare(at) == 0 }, Why: fmt.Sprintf("%s stays at %s: %s", s, at, u.Text),
				}
				held, stays[s.Name] = true, true
				if !r.told[s.Name] {
					r.told[s.Name] = true
					r.notices = append(r.notices, fmt.Sprintf("%s stays at %s: %s", s, at, u.Text))
				}
			}
		}
		if !held {
			return goal, state, solve.Refute(unmet[0].Name, unmet[0].Text)
		}
		goal.Bounds = bounds
		if goal, state, err = r.solve(goal); err != nil {
			return goal, state, err
		}
	}
}
