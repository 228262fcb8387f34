package route

import (
	"errors"
	"fmt"
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
)

// follow lets the families of what a goal forces over a major go along, where they were at its major before and have the new one:
// what describes a package is of no use beside another major of it. Where they do not go, the state stays as it was. Why each goes
// is put into along, by its key.
func (r *planner) follow(
	goal contract.Goal, state *contract.State, along map[string]string,
) (contract.Goal, *contract.State, error) {
	for {
		bounds := map[string]contract.Bound{}
		for _, m := range state.Moves {
			for _, s := range r.moved(m) {
				for _, f := range r.leftBehind(s, m, state) {
					if along[f.Name] == "" && goal.Leads(f.Name) < 0 {
						to, _ := r.Order.Parse(m.To)
						along[f.Name] = "is released together with " + s.String()
						bounds[f.Name] = contract.Bound{
							Allow: f.inLine(to), Newest: true, Why: fmt.Sprintf("%s is released together with %s, which goes to %s", f, s, m.To),
						}
					}
				}
			}
		}
		if len(bounds) == 0 {
			return goal, state, nil
		}
		more := goal
		more.Bounds = map[string]contract.Bound{}
		for _, all := range []map[string]contract.Bound{goal.Bounds, bounds} {
			for key, bound := range all {
				more.Bounds[key] = bound
			}
		}
		with, err := r.try(more)
		if errors.As(err, new(*solve.Conflict)) {
			return goal, state, nil
		}
		if err != nil {
			return goal, state, err
		}
		goal, state = more, with
	}
}

// leftBehind are those of a subject's family that were at its major, have the one that it goes to, and stay.
func (r *planner) leftBehind(s *Subject, m model.Move, state *contract.State) (all []*Subject) {
	to, err := r.Order.Parse(m.To)
	if err != nil || s.At == nil || to.Line() == s.At.Line() || to.Compare(s.At) < 0 {
		return nil
	}
	for _, f := range r.family(s) {
		there := slices.ContainsFunc(f.Releases, func(v version.Version) bool { return f.inLine(to)(v) })
		moves := slices.ContainsFunc(state.Moves, func(o model.Move) bool { return slices.Contains(r.moved(o), f) })
		if there && !moves && !f.Held && f.At != nil && f.At.Line() == s.At.Line() && r.wish(f.Name) == nil {
			all = append(all, f)
		}
	}
	return all
}
