package route

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/spelling"
	"bellwether/internal/core/version"
)

// split makes legs of what a goal leads to, each with as few moves as Few says,
// or with those that cannot do without each other. What moves last is what is left
// over: it may then be where only all together are.
func (r *planner) split(id, title string, goal contract.Goal, because func(m model.Move) string) error {
	whole, err := r.try(goal)
	if err != nil {
		return err
	}
	to := map[string]version.Version{}
	var waiting []string
	for _, m := range whole.Moves {
		if to[m.Key()], err = r.Order.Parse(m.To); err != nil {
			return err
		}
		if !slices.Contains(waiting, m.Key()) {
			waiting = append(waiting, m.Key())
		}
	}
	slices.SortStableFunc(waiting, func(a, b string) int {
		return position(goal.First, a) - position(goal.First, b)
	})
	for len(waiting) > 0 {
		before := len(r.legs)
		chunk := waiting[:min(r.Few, len(waiting))]
		_, err := r.leg(id, title+" "+listed(spoken(chunk)), r.part(goal, chunk, to), because)
		if err != nil && !errors.As(err, new(*solve.Conflict)) {
			return err
		}
		waiting = waiting[len(chunk):]
		if len(r.legs) > before {
			waiting = slices.DeleteFunc(waiting, func(name string) bool {
				return slices.ContainsFunc(r.legs[before].Moves, func(m model.Move) bool { return m.Key() == name })
			})
		}
	}
	_, err = r.leg(id, title+" what is left within the majors that are in use", goal, because)
	return err
}

// part is a goal for some of what moves: they go where they are to go, and the
// rest there only if it has to.
func (r *planner) part(goal contract.Goal, names []string, to map[string]version.Version) contract.Goal {
	part := goal
	part.Bounds, part.First = map[string]contract.Bound{}, names
	for name, b := range goal.Bounds {
		s, target := r.subject(name), to[name]
		if s == nil || s.At == nil || s.Runtime {
			part.Bounds[name] = b
			continue
		}
		at, moves := s.At, slices.Contains(names, name)
		part.Bounds[name] = contract.Bound{Newest: moves, Why: fmt.Sprintf("%s is at %s", s, at), Allow: func(v version.Version) bool {
			return !moves && v.Compare(at) == 0 || target != nil && v.Compare(target) == 0
		}}
	}
	return part
}

// position is where a name stands in a list, after all of it if it does not.
func position(names []string, name string) int {
	if i := slices.Index(names, name); i >= 0 {
		return i
	}
	return len(names)
}

// spoken are keys as sentences have them.
func spoken(keys []string) []string {
	all := make([]string, len(keys))
	for i, key := range keys {
		all[i] = model.Spoken(key)
	}
	return all
}

// listed names a few, and counts the rest.
func listed(names []string) string {
	const shown = 3
	if len(names) > shown+1 {
		return spelling.Few(names, shown)
	}
	if len(names) == 1 {
		return names[0]
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}
