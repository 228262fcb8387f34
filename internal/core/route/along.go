package route

import (
	"errors"
	"fmt"
	"maps"
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
)

// single keeps a leg from bringing in a second major of what the project requires itself, if moving something else along helps: the
// package that needs the second one goes to a release that works with the project's own, or the requirement goes to the major that
// came in. If nothing helps, the state stays as it was, and tells of the second one. The reason of each is put into along, by its
// key. Where majors are out of reach, this is done only for what was asked for by name.
func (r *planner) single(goal contract.Goal, state *contract.State, along map[string]string) (contract.Goal, *contract.State, error) {
	if r.Reach != version.Major && (r.lead == nil || r.unasked) {
		return goal, state, nil
	}
	for _, d := range state.Doubled {
		for _, with := range r.uniting(goal, d) {
			more := goal
			more.Bounds = maps.Clone(goal.Bounds)
			more.Bounds[with.s.Name] = contract.Bound{Allow: with.s.inLine(with.line), Newest: true, Why: toBe(with.s, with.line)}
			next, err := r.try(more)
			if errors.As(err, new(*solve.Conflict)) {
				continue
			}
			if err != nil {
				return goal, state, err
			}
			still := slices.ContainsFunc(next.Doubled, func(o contract.Double) bool { return o.Name == d.Name })
			if still || len(next.Doubled) >= len(state.Doubled) {
				continue
			}
			along[with.s.Name] = fmt.Sprintf("without it there would be another %s, %s", d.Name, d.Version)
			return r.single(more, next, along)
		}
	}
	return goal, state, nil
}

// uniter is a line to which a subject may go so that one major is left.
type uniter struct {
	s    *Subject
	line version.Version
}

// maxUniting bounds how many ways to have one major are tried.
const maxUniting = 6

// uniting are the ways to have one major, the nearest first.
func (r *planner) uniting(goal contract.Goal, d contract.Double) (ways []uniter) {
	for _, name := range append(slices.Clone(d.For), d.Name) {
		for _, s := range r.named(name) {
			if goal.Leads(s.Name) >= 0 || !r.climbs(s) || s.Runtime {
				continue
			}
			for _, line := range s.newerLines() {
				if name != d.Name || line.Line() == r.lineOf(d.Version) {
					ways = append(ways, uniter{s, line})
				}
			}
		}
	}
	return ways[:min(len(ways), maxUniting)]
}

// cured moves along what a state would break: a package that refers to something that is gone compiles, and fails when it runs. It
// goes to a release that no longer refers to that, or what others refer to goes to a release that has it. If that cannot be, the
// state stays as it was, and tells of it.
func (r *planner) cured(goal contract.Goal, state *contract.State, along map[string]string) (contract.Goal, *contract.State, error) {
	within := r.Reach
	if r.lead == nil { // a leg about many is one within majors
		within = min(within, version.Minor)
	}
	for _, c := range state.Cures {
		for _, s := range r.named(c.Name) {
			to, err := r.Order.Parse(c.To)
			if err != nil || goal.Leads(s.Name) >= 0 || !r.climbs(s) || to.Compare(s.At) <= 0 ||
				r.Order.Step(s.At, to) > within && (r.lead == nil || r.unasked) {
				continue
			}
			more := goal
			more.Bounds = maps.Clone(goal.Bounds)
			more.Bounds[s.Name] = contract.Bound{
				Allow: func(v version.Version) bool { return v.Compare(to) == 0 }, Why: fmt.Sprintf("%s is to move to %s", s, c.To),
			}
			next, err := r.try(more)
			if errors.As(err, new(*solve.Conflict)) {
				continue
			}
			if err != nil {
				return goal, state, err
			}
			if len(next.Cures) < len(state.Cures) {
				along[s.Name] = c.Why
				return r.cured(more, next, along)
			}
		}
	}
	return goal, state, nil
}
