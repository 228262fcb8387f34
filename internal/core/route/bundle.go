package route

import (
	"errors"
	"fmt"
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/spelling"
	"bellwether/internal/core/version"
)

// Bundle is how many development tools go to new majors in one leg, where no other number is asked for.
const Bundle = 8

// loose tells of a development tool that nothing else in use wants to meet, and few others ever do: what breaks with it breaks by
// itself.
func (r *planner) loose(s *Subject) bool {
	return s.Development && s.Stepwise == "" && !r.Stepwise && r.wantedNow(s) == 0 && r.uses()[s.Name] <= fewWant
}

// bundles takes loose development tools to their newest majors, some at a time, and tells which subjects went that way. Those that
// do not go there alone, or bring needs that are not met, are none of them.
func (r *planner) bundles() (went map[*Subject]bool, err error) {
	went = map[*Subject]bool{}
	var alone []*Subject
	lines := map[*Subject]version.Version{}
	for _, s := range r.Subjects {
		newer := []version.Version(nil)
		if r.climbs(s) && r.loose(s) {
			newer = s.newerLines()
		}
		if len(newer) == 0 || slices.ContainsFunc(alone, func(o *Subject) bool { return slices.Contains(r.with(o), s) }) {
			continue
		}
		line := newer[len(newer)-1]
		goes, err := r.fits(s, line)
		if err != nil {
			return nil, err
		}
		if goes {
			alone, lines[s] = append(alone, s), line
		}
	}
	most := Bundle
	if r.Few > 0 {
		most = r.Few
	}
	for chunk := range slices.Chunk(alone, most) {
		if len(chunk) == 1 {
			continue // it goes by itself, as others do
		}
		moved, err := r.bundle(chunk, lines)
		if err != nil {
			return nil, err
		}
		for _, s := range chunk {
			went[s] = moved
		}
	}
	return went, nil
}

// fits tells whether a subject goes to a line while all others stay, and what comes with it needs nothing that is not there
// and is no second major of anything that is required.
func (r *planner) fits(s *Subject, line version.Version) (bool, error) {
	state, err := r.try(r.goalOf(s, "", s.inLine(line)))
	if errors.As(err, new(*solve.Conflict)) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	own := append(r.with(s), s)
	if len(state.Doubled) > 0 || slices.ContainsFunc(state.Moves, func(m model.Move) bool { return !overlap(r.moved(m), own) }) {
		return false, nil
	}
	unmet, err := r.world.Unmet(r.ctx, state)
	return len(unmet) == 0, err
}

// bundle makes a leg of some subjects that go to their lines; it is false where they do not go together.
func (r *planner) bundle(all []*Subject, lines map[*Subject]version.Version) (bool, error) {
	goal := contract.Goal{Bounds: r.held(), Fit: true}
	var names []string
	for _, s := range all {
		for key, bound := range r.goalOf(s, toBe(s, lines[s]), s.inLine(lines[s])).Bounds {
			goal.Bounds[key] = bound
		}
		goal.First, names = append(goal.First, s.Name), append(names, s.String())
	}
	title := fmt.Sprintf("%d development tools to newer majors: %s", len(all), spelling.Few(names, 3))
	_, err := r.leg("tools", title, goal, func(m model.Move) string {
		if slices.ContainsFunc(all, func(s *Subject) bool { return slices.Contains(r.moved(m), s) }) {
			return "newer major, within --reach major"
		}
		return "cannot stay as it is beside the others"
	})
	if errors.As(err, new(*solve.Conflict)) {
		return false, nil
	}
	return err == nil, err
}
