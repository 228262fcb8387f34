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

// explain says why the moves of a state belong together, and why the leg stands
// where it does. What was not asked to move is held back, one by one, to see what
// that runs into.
func (r *planner) explain(goal contract.Goal, state *contract.State) ([]string, error) {
	if !r.Explain {
		return nil, nil
	}
	var why []string
	lead := ""
	if len(goal.First) == 1 {
		lead = goal.Bounds[goal.First[0]].Why
		why = append(why, lead)
	}
	own := 0 // moves that were to be made by themselves
	for _, m := range state.Moves {
		key := m.Key()
		s := r.subject(key)
		if b, bound := goal.Bounds[key]; s == nil || s.At == nil || bound && b.Newest {
			own++
			continue
		}
		held := goal
		held.Bounds = maps.Clone(goal.Bounds)
		at := s.At
		held.Bounds[key] = contract.Bound{
			Allow: func(v version.Version) bool { return v.Compare(at) == 0 }, Why: fmt.Sprintf("%s is to stay at %s", s, at),
		}
		_, err := r.try(held)
		var conflict *solve.Conflict
		switch {
		case errors.As(err, &conflict):
			why = append(why, fmt.Sprintf("%s moves along: %s", s, reasons(conflict, held.Bounds[key].Why, lead)))
		case err != nil:
			return nil, err
		default:
			why = append(why, fmt.Sprintf("%s could stay at %s, if something else went another way", s, at))
		}
	}
	if own > 1 {
		text := fmt.Sprintf("%d of the moves are wanted for themselves", own)
		if r.Few == 0 {
			text += "; --few makes several legs of them"
		}
		why = append(why, text)
	}
	if r.place != "" {
		why = append(why, "in this place: "+r.place)
	}
	return why, nil
}

// reasons are the facts of a proof but for some, in one line.
func reasons(c *solve.Conflict, but ...string) string {
	text := ""
	for _, s := range c.Proof() {
		if len(s.From) > 0 || slices.Contains(but, s.Text) {
			continue
		}
		if text != "" {
			text += "; "
		}
		text += s.Text
	}
	return text
}
