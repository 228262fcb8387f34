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

// follow lets the families of what a goal moves go along: over a major, where they were at the same one before and have the new one,
// since what describes a package is of no use beside another major of it; and those that were at the very same version, where they
// have the new one, too. Where they do not go, the state stays as it was. Why each goes is put into along, by its key.
func (r *planner) follow(
	goal contract.Goal, state *contract.State, along map[string]string,
) (contract.Goal, *contract.State, error) {
	for {
		bounds := map[string]contract.Bound{}
		for _, m := range state.Moves {
			for _, s := range r.moved(m) {
				for _, f := range r.leftBehind(s, m, state) {
					if along[f.Name] == "" && goal.Leads(f.Name) < 0 {
						along[f.Name] = "is released together with " + s.String()
						bounds[f.Name] = contract.Bound{
							Allow: r.beside(s, f, m), Newest: true,
							Why: fmt.Sprintf("%s is released together with %s, which goes to %s", f, s, m.To),
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

// beside are the versions of a family's member that belong to a move of another: the same one, where they are at the same one now,
// else those of the line.
func (r *planner) beside(s, f *Subject, m model.Move) func(v version.Version) bool {
	to, err := r.Order.Parse(m.To)
	switch {
	case err != nil:
		return func(version.Version) bool { return false }
	case f.At.Compare(s.At) == 0 && slices.ContainsFunc(f.Releases, func(v version.Version) bool { return v.Compare(to) == 0 }):
		return func(v version.Version) bool { return v.Compare(to) == 0 }
	case to.Line() != s.At.Line():
		return f.inLine(to)
	}
	return func(version.Version) bool { return false }
}

// leftBehind are those of a subject's family that were where it was, have what belongs to where it goes, and are not there.
func (r *planner) leftBehind(s *Subject, m model.Move, state *contract.State) (all []*Subject) {
	to, err := r.Order.Parse(m.To)
	if err != nil || s.At == nil || to.Compare(s.At) <= 0 {
		return nil
	}
	for _, f := range r.family(s) {
		decided := f.Exact && to.Line() == s.At.Line() // over a major, it would be of no use where it is
		if f.Held || decided || f.At == nil || f.At.Line() != s.At.Line() || r.wish(f.Name) != nil {
			continue
		}
		fits := r.beside(s, f, m)
		there := slices.ContainsFunc(state.Moves, func(o model.Move) bool {
			v, err := r.Order.Parse(o.To)
			return err == nil && slices.Contains(r.moved(o), f) && (fits(v) || v.Compare(to) > 0)
		})
		if !there && slices.ContainsFunc(f.Releases, fits) {
			all = append(all, f)
		}
	}
	return all
}
