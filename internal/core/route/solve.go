package route

import (
	"errors"
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
)

// try finds a state for a goal.
func (r *planner) try(goal contract.Goal) (*contract.State, error) {
	return r.world.Solve(r.ctx, r.framed(goal))
}

// help is what may be made with a goal that has no state without it.
type help struct {
	overrides []model.Override
	names     []contract.Change
}

// helps are the ways to help a goal, the smallest first: the overrides that are asked for, one of the names that could not be taken
// by themselves, all of them, and both.
func (r *planner) helps(goal contract.Goal) (all []help) {
	var overrides []model.Override
	if len(goal.Overrides) == 0 {
		overrides = r.Overrides
	}
	var names []contract.Change
	if len(goal.Changes) == 0 {
		names = slices.Clone(r.waiting)
	}
	if len(overrides) > 0 {
		all = append(all, help{overrides: overrides})
	}
	if len(names) > 1 {
		for i := range names {
			all = append(all, help{names: names[i : i+1]})
		}
	}
	if len(names) > 0 {
		all = append(all, help{names: names})
		if len(overrides) > 0 {
			all = append(all, help{overrides, names})
		}
	}
	return all
}

// solve finds a state for a goal; where there is none, with what may help. What helps is made with this goal, and is done with then.
func (r *planner) solve(goal contract.Goal) (contract.Goal, *contract.State, error) {
	state, err := r.try(goal)
	if !errors.As(err, new(*solve.Conflict)) {
		return goal, state, err
	}
	for _, with := range r.helps(goal) {
		more := goal
		if with.overrides != nil {
			more.Overrides = with.overrides
		}
		if with.names != nil {
			more.Changes = with.names
		}
		helped, failed := r.try(more)
		if errors.As(failed, new(*solve.Conflict)) {
			continue // the proof of what was asked for is the one to tell
		}
		if failed != nil {
			return goal, nil, failed
		}
		if with.overrides != nil {
			r.Overrides = nil
		}
		r.waiting = slices.DeleteFunc(r.waiting, func(c contract.Change) bool {
			return slices.ContainsFunc(with.names, func(o contract.Change) bool { return o.Old == c.Old && o.New == c.New })
		})
		return more, helped, nil
	}
	return goal, state, err
}
