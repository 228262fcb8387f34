package route

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
)

// oneByOne adds to bounds that what must not skip a major goes no further than
// the next.
func (r *planner) oneByOne(bounds map[string]contract.Bound) map[string]contract.Bound {
	all := maps.Clone(bounds)
	if all == nil {
		all = map[string]contract.Bound{}
	}
	for _, s := range r.Subjects {
		if s.Stepwise == "" || s.At == nil || len(s.Releases) == 0 {
			continue
		}
		at, next := s.At, s.At.Line()
		if lines := s.linesTo(s.Releases[len(s.Releases)-1]); len(lines) > 0 {
			next = lines[0].Line()
		}
		b := all[s.Name]
		allow := b.Allow
		b.Allow = func(v version.Version) bool {
			if v.Line() != at.Line() && v.Line() != next {
				return false
			}
			return allow == nil && v.Compare(at) >= 0 || allow != nil && allow(v)
		}
		if b.Why == "" {
			b.Why = fmt.Sprintf("%s is at %s, and %s", s, at, s.Stepwise)
		}
		all[s.Name] = b
	}
	return all
}

// restore are the requirements that a state needs and that are not there.
func (r *planner) restore(state *contract.State) (added []contract.Change) {
	at := func(s *Subject) version.Version {
		for _, m := range state.Moves {
			if slices.Contains(r.moved(m), s) {
				if v, err := r.Order.Parse(m.To); err == nil {
					return v
				}
			}
		}
		return s.At
	}
	for _, restored := range r.Restored {
		needed := len(r.named(restored.Add.New)) == 0 && !slices.Contains(r.restored, restored.Add.New)
		for _, t := range restored.When {
			needed = needed && slices.ContainsFunc(r.named(t.Name), func(s *Subject) bool {
				v := at(s)
				return v != nil && t.In(v)
			})
		}
		if needed {
			added = append(added, restored.Add)
			r.restored = append(r.restored, restored.Add.New)
		}
	}
	return added
}

// fix makes a leg that takes what has known vulnerabilities to the nearest
// version without. What cannot go there is told, and the rest goes without it.
func (r *planner) fix() error {
	if r.Avoid == nil {
		return nil
	}
	why := map[string]string{}
	goal := func(list []Vulnerable) contract.Goal {
		g := contract.Goal{Bounds: r.held(), Terms: model.Terms{Fixes: true}}
		for _, v := range list {
			if _, held := g.Bounds[v.Name]; !held {
				g.Bounds[v.Name] = contract.Bound{Allow: v.Free, Why: model.Spoken(v.Name) + " is to be free of known vulnerabilities"}
				why[v.Name] = v.Why
			}
		}
		return g
	}
	because := func(m model.Move) string {
		return cmp.Or(why[m.Key()], why[m.Name], "cannot stay as it is beside the others")
	}
	id, title := "fix", "what has known vulnerabilities to the nearest versions without"
	_, err := r.leg(id, title, goal(r.Vulnerable), because)
	if !errors.As(err, new(*solve.Conflict)) {
		return err
	}
	var can []Vulnerable
	for _, v := range r.Vulnerable {
		clear(why)
		_, err := r.try(goal(append(slices.Clone(can), v)))
		var conflict *solve.Conflict
		switch {
		case errors.As(err, &conflict):
			r.notices = append(r.notices, fmt.Sprintf("%s cannot get rid of %s: %s", model.Spoken(v.Name), v.Why, firstFacts(conflict)))
		case err != nil:
			return err
		default:
			can = append(can, v)
		}
	}
	clear(why)
	_, err = r.leg(id, title, goal(can), because)
	return err
}

// replace makes a leg for each requirement that goes on under another name, or otherwise: of those that go first, or of the others.
func (r *planner) replace(first bool) error {
	for _, c := range r.Replaced {
		if c.First != first {
			continue
		}
		if c.New == "" && (len(r.Wishes) > 0 || r.Reach == version.Major) {
			r.waiting = append(r.waiting, c) // it goes where it is in the way, else at the end
			continue
		}
		err := r.change(c)
		if errors.As(err, new(*solve.Conflict)) {
			r.waiting = append(r.waiting, c) // it may go together with something else
			continue
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// change makes a leg of a change alone.
func (r *planner) change(c contract.Change) error {
	if !c.Asked {
		unasked := r.unasked
		r.unasked = r.Reach > version.Stay
		defer func() { r.unasked = unasked }()
	}
	title := cmp.Or(c.Title, c.Old+" becomes "+c.New)
	_, err := r.leg(
		Slug(title), title, contract.Goal{Bounds: r.stay(c.Old), Changes: []contract.Change{c}},
		func(model.Move) string { return "comes with " + cmp.Or(c.New, "that") },
	)
	return err
}

// override makes a leg for each override that says what it leads to, or that goes.
func (r *planner) override() error {
	var waiting []model.Override
	for _, o := range r.Overrides {
		if o.Range == "" && !o.Drop {
			waiting = append(waiting, o)
			continue
		}
		title := "override " + o.Name
		if o.Drop {
			title = "no override of " + o.Name
		}
		if o.Of != "" {
			title += " in " + o.Of
		}
		_, err := r.leg(
			Slug(title), title, contract.Goal{Bounds: r.stay(o.Of), Terms: model.Terms{Overrides: []model.Override{o}}},
			func(model.Move) string { return "comes with it" },
		)
		if err != nil {
			return err
		}
	}
	r.Overrides = waiting
	return nil
}

// indirect makes a leg that takes what only the lock has to the newest of its major that is asked for.
func (r *planner) indirect() error {
	if !r.Indirect || r.Reach < version.Minor {
		return nil
	}
	_, err := r.leg(
		"indirect", "what only the lock has to the newest that is asked for",
		contract.Goal{Bounds: r.stay(""), Fit: true, Terms: model.Terms{Indirect: true}},
		func(model.Move) string { return "comes with it" },
	)
	var conflict *solve.Conflict
	if errors.As(err, &conflict) {
		r.notices = append(r.notices, "what only the lock has stays as it is: "+firstFacts(conflict))
		return nil
	}
	return err
}

// dedupe makes a leg that takes out copies of packages which nobody needs.
func (r *planner) dedupe() error {
	if !r.Dedupe {
		return nil
	}
	_, err := r.leg(
		"dedupe", "as few copies of packages as there can be", contract.Goal{Bounds: r.stay(""), Terms: model.Terms{Dedupe: true}},
		func(model.Move) string { return "comes with it" },
	)
	return err
}

// stay are bounds that leave everything but one where it is.
func (r *planner) stay(but string) map[string]contract.Bound {
	bounds := map[string]contract.Bound{}
	for _, s := range r.Subjects {
		if _, name := model.Parted(s.Name); s.At != nil && s.Name != but && name != but {
			at := s.At
			bounds[s.Name] = contract.Bound{
				Allow: func(v version.Version) bool { return v.Compare(at) == 0 }, Why: fmt.Sprintf("%s is at %s", s, at),
			}
		}
	}
	return bounds
}
