package route

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
)

// moveTo makes a leg that takes one subject into a set of versions.
func (r *planner) moveTo(s *Subject, title, why string, reason string, allow func(v version.Version) bool) (bool, error) {
	bounds := r.held()
	for _, name := range r.Down {
		bounds[name] = Bound{Allow: func(v version.Version) bool { return !v.Preview() }, Why: name + " may go down"}
	}
	bounds[s.Name] = Bound{Allow: allow, Newest: true, Why: why}
	for _, name := range s.Family {
		if f := r.subject(name); f != nil && !f.Held && slices.ContainsFunc(f.Releases, allow) && f.At != nil && !allow(f.At) {
			bounds[name] = Bound{Allow: allow, Newest: true, Why: name + " is released together with " + s.Name}
		}
	}
	name := s.Name
	return r.leg(Slug(name)+"-"+Slug(title), name+" to "+title, Goal{Bounds: bounds, First: []string{name}, Fit: r.wish(name) == nil}, func(m model.Move) string {
		switch {
		case m.Name == name:
			return reason
		case slices.Contains(s.Family, m.Name):
			return "is released together with " + name
		}
		return "cannot stay as it is beside " + name + " " + title
	})
}

// Slug is a name made fit for an identifier.
func Slug(name string) string {
	return strings.Trim(strings.Map(func(c rune) rune {
		switch {
		case c >= 'a' && c <= 'z', c >= '0' && c <= '9', c == '.':
			return c
		case c >= 'A' && c <= 'Z':
			return c + 'a' - 'A'
		}
		return '-'
	}, name), "-")
}

// destinations takes each named subject, or each named runtime, to where it was
// asked to go, one major at a time. What runs older things runs newer ones, so
// that a runtime goes there at once.
func (r *planner) destinations(runtimes bool) error {
	for _, w := range r.Wishes {
		s := r.subject(w.Name)
		if s.Runtime != runtimes {
			continue
		}
		goals := s.candidates(w.Range)
		if len(goals) == 0 {
			return fmt.Errorf("%s: no release of %s is in the range", w.Text, w.Name)
		}
		target := goals[len(goals)-1]
		passes := r.passes(s)
		if s.At != nil && !runtimes && passes != "" {
			for _, line := range s.linesTo(target) {
				if line.Line() == target.Line() || w.Range.Contains(line) {
					continue
				}
				why := fmt.Sprintf("%s is to pass through %s on the way to %s, since %s", s.Name, line.Line(), w.Text, passes)
				_, err := r.moveTo(s, line.Line(), why,
					"on the way to "+w.Text, s.inLine(line))
				var conflict *solve.Conflict
				if errors.As(err, &conflict) && s.Stepwise == "" {
					r.notices = append(r.notices, fmt.Sprintf("%s skips %s: %s", s.Name, line.Line(), firstFacts(conflict)))
					continue
				}
				if err != nil {
					return err
				}
			}
		}
		title := target.Line()
		if s.At != nil && s.At.Line() == title {
			title = target.String()
		}
		why, reason := w.Text+" is asked for", "asked for"
		if w.Because != "" {
			why, reason = fmt.Sprintf("%s is to be %s, since %s", s.Name, w.Range, w.Because), w.Because
		}
		_, err := r.moveTo(s, title, why, reason, w.Range.Contains)
		if errors.As(err, new(*solve.Conflict)) && w.Because != "" {
			continue
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// passes tells why a subject goes through the majors on its way, "" if it goes past
// them.
func (r *planner) passes(s *Subject) string {
	if s.Stepwise != "" {
		return s.Stepwise
	}
	for _, other := range r.Subjects {
		if other != s && slices.Contains(other.Peers, s.Name) {
			return other.Name + " goes with it step by step"
		}
	}
	if r.Stepwise {
		return "no major is to be skipped"
	}
	return ""
}

// inLine admits the releases of a line.
func (s *Subject) inLine(line version.Version) func(version.Version) bool {
	return func(v version.Version) bool { return v.Line() == line.Line() && (s.Previews || !v.Preview()) }
}

// firstFacts are the facts of a proof, in one line.
func firstFacts(c *solve.Conflict) string {
	var facts []string
	for _, s := range c.Proof() {
		if len(s.From) == 0 {
			facts = append(facts, s.Text)
		}
	}
	return strings.Join(facts, "; ")
}

// frameworks takes what others want to meet up to the newest major, one major
// at a time, with what cannot stay behind.
func (r *planner) frameworks() error {
	for _, name := range r.byUse() {
		s := r.subject(name)
		if s.Held || s.At == nil || r.wish(name) != nil {
			continue
		}
		all := s.candidates(nil)
		if len(all) == 0 {
			continue
		}
		for _, line := range s.linesTo(all[len(all)-1]) {
			_, err := r.moveTo(s, line.Line(), fmt.Sprintf("%s is to move to %s", name, line.Line()), "newer major, within --reach major", s.inLine(line))
			if stop, err := r.leftBehind(s, line, err); err != nil {
				return err
			} else if stop {
				break
			}
		}
	}
	return nil
}

// leftBehind notes a subject that cannot move on, and why.
func (r *planner) leftBehind(s *Subject, line version.Version, err error) (bool, error) {
	var conflict *solve.Conflict
	if !errors.As(err, &conflict) {
		return false, err
	}
	r.notices = append(r.notices, fmt.Sprintf("%s stays at %s and does not go to %s: %s", s.Name, s.At, line.Line(), firstFacts(conflict)))
	return true, nil
}

// rest takes everything else to the newest major that goes, each by itself.
func (r *planner) rest() error {
	used := r.byUse()
	for _, s := range r.Subjects {
		if s.Held || s.At == nil || r.wish(s.Name) != nil || slices.Contains(used, s.Name) {
			continue
		}
		all := s.candidates(nil)
		if len(all) == 0 {
			continue
		}
		lines := s.linesTo(all[len(all)-1])
		steps := s.Stepwise != "" || r.Stepwise
		if !steps {
			slices.Reverse(lines) // the newest first, and that is it
		}
		for _, line := range lines {
			_, err := r.moveTo(s, line.Line(), fmt.Sprintf("%s is to move to %s", s.Name, line.Line()), "newer major, within --reach major", s.inLine(line))
			stuck, err := r.leftBehind(s, line, err)
			if err != nil {
				return err
			}
			if !steps && !stuck || s.Stepwise != "" && stuck {
				break
			}
		}
	}
	return nil
}
