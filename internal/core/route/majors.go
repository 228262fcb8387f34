package route

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
)

// moveTo makes a leg that takes one subject into a set of versions.
func (r *planner) moveTo(s *Subject, title, why string, reason string, allow func(v version.Version) bool) (bool, error) {
	name := s.Name
	lead := r.lead
	defer func() { r.lead = lead }()
	r.lead = s
	if err := r.companions(r.goalOf(s, why, allow)); err != nil {
		return false, err
	}
	siblings := r.siblings(s)
	spoken := s.String()
	if len(siblings) > 0 {
		_, spoken = model.Parted(name)
	}
	return r.leg(Slug(spoken)+"-"+Slug(title), spoken+" to "+title, r.goalOf(s, why, allow), func(m model.Move) string {
		switch about := r.moved(m); {
		case m.Key() == name || overlap(about, siblings):
			return reason
		case overlap(about, r.family(s)):
			return "is released together with " + spoken
		}
		return "cannot stay as it is beside " + spoken + " " + title
	})
}

// companions takes what a goal forces along through the majors that it would skip, one
// after the other, where none is to be skipped and they go.
func (r *planner) companions(goal contract.Goal) error {
	if !r.Stepwise || r.passing {
		return nil
	}
	r.passing = true
	defer func() { r.passing = false }()
	state, err := r.try(goal)
	if errors.As(err, new(*solve.Conflict)) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, m := range state.Moves {
		s := r.subject(m.Key())
		to, err := r.Order.Parse(m.To)
		if s == nil || s.At == nil || err != nil || goal.Leads(m.Key()) >= 0 {
			continue
		}
		for _, line := range s.linesTo(to) {
			if line.Line() == to.Line() {
				break
			}
			_, err := r.moveTo(s, line.Line(), toBe(s, line), "no major is to be skipped", s.inLine(line))
			if err != nil && !errors.As(err, new(*solve.Conflict)) {
				return err
			}
		}
	}
	return nil
}

// goalOf is that one subject goes into a set of versions, and its family with it.
func (r *planner) goalOf(s *Subject, why string, allow func(v version.Version) bool) contract.Goal {
	bounds := r.held()
	for _, name := range r.Down {
		bounds[name] = contract.Bound{Allow: func(v version.Version) bool { return !v.Preview() }, Why: name + " may go down"}
	}
	bounds[s.Name] = contract.Bound{Allow: allow, Newest: true, Why: why}
	for _, f := range r.family(s) {
		if !f.Held && slices.ContainsFunc(f.Releases, allow) && f.At != nil && !allow(f.At) {
			bounds[f.Name] = contract.Bound{Allow: allow, Newest: true, Why: fmt.Sprintf("%s is released together with %s", f, s)}
		}
	}
	for _, o := range r.siblings(s) {
		wish := r.wish(o.Name)
		// What is on the way to a wish for one of them is not to take another one down.
		goes := func(v version.Version) bool {
			return allow(v) && (v.Compare(o.At) >= 0 || wish != nil && wish.Range.Contains(v))
		}
		if !o.Held && slices.ContainsFunc(o.Releases, goes) {
			bounds[o.Name] = contract.Bound{Allow: goes, Newest: true, Why: why}
		}
	}
	return contract.Goal{Bounds: bounds, First: []string{s.Name}, Fit: r.wish(s.Name) == nil}
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
		if s == nil || s.Runtime != runtimes { // it may have gone meanwhile
			continue
		}
		goals := s.candidates(w.Range)
		if len(goals) == 0 {
			return fmt.Errorf("%s: no release of %s is in the range", w.Text, s)
		}
		target := goals[len(goals)-1]
		passes := r.passes(s)
		if s.At != nil && !runtimes && passes != "" {
			for _, line := range s.linesTo(target) {
				if line.Line() == target.Line() || w.Range.Contains(line) {
					continue
				}
				why := fmt.Sprintf("%s is to pass through %s on the way to %s, since %s", s, line.Line(), w.Text, passes)
				_, err := r.moveTo(s, line.Line(), why,
					"on the way to "+w.Text, s.inLine(line))
				var conflict *solve.Conflict
				if errors.As(err, &conflict) && s.Stepwise == "" {
					r.notices = append(r.notices, fmt.Sprintf("%s skips %s: %s", s, line.Line(), firstFacts(conflict)))
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
			why, reason = fmt.Sprintf("%s is to be %s, since %s", s, w.Range, w.Because), w.Because
		}
		_, err := r.moveTo(s, title, why, reason, w.Range.Contains)
		var conflict *solve.Conflict
		if errors.As(err, &conflict) && w.Because != "" {
			if w.Follows {
				r.notices = append(r.notices, fmt.Sprintf(
					"%s stays at %s, and does not go to %s, which %s: %s", s, s.At, title, w.Because, firstFacts(conflict),
				))
			}
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
		if other != s && r.wants(other, other.Peers, s) {
			return other.String() + " goes with it step by step"
		}
	}
	if s.Carries {
		return "it is a parent or a list of versions"
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
		if s := r.subject(name); r.climbs(s) && !r.loose(s) {
			if err := r.climb(s); err != nil {
				return err
			}
		}
	}
	return nil
}

// rest takes everything else to the newest major that goes: development tools that go there alone some at a time, all others each by
// itself.
func (r *planner) rest() error {
	used := r.byUse()
	together, err := r.bundles()
	if err != nil {
		return err
	}
	for _, s := range slices.Clone(r.Subjects) {
		if !r.climbs(s) || slices.Contains(used, s.Name) && !r.loose(s) || together[s] {
			continue
		}
		if s.Stepwise != "" || s.Carries || r.Stepwise {
			if err := r.climb(s); err != nil {
				return err
			}
			continue
		}
		for _, line := range slices.Backward(s.newerLines()) {
			went, err := r.toLine(s, line)
			if err != nil {
				return err
			}
			if went {
				break
			}
		}
	}
	return nil
}

// climbs tells whether a subject goes to newer majors that nobody named.
func (r *planner) climbs(s *Subject) bool {
	return s != nil && !s.Held && !s.Exact && s.At != nil && r.wish(s.Name) == nil
}

// newerLines are the lines above the present one, each by one of its versions.
func (s *Subject) newerLines() []version.Version {
	all := s.candidates(nil)
	if len(all) == 0 || s.At == nil {
		return nil
	}
	return s.linesTo(all[len(all)-1])
}

// climb takes a subject from major to major. One that cannot be reached is passed over;
// and where nothing has to go along, it goes to the newest at once.
func (r *planner) climb(s *Subject) error {
	lines := s.newerLines()
	if len(lines) > 1 && s.Stepwise == "" && !s.Carries && !r.Stepwise && r.wantedNow(s) <= fewWant {
		alone, err := r.goesAlone(s, lines[len(lines)-1])
		if err != nil {
			return err
		}
		if alone {
			lines = lines[len(lines)-1:]
		}
	}
	for i, line := range lines {
		if s.Stepwise == "" && !r.Stepwise && i+1 < len(lines) && unfinished(line) && unfinished(lines[i+1]) {
			continue
		}
		went, err := r.toLine(s, line)
		if err != nil {
			return err
		}
		if !went && s.Stepwise != "" {
			break
		}
	}
	return nil
}

// unfinished tells of a line below 1: there are often dozens of them, and only the last of some in a row is stopped at.
func unfinished(line version.Version) bool {
	return strings.HasPrefix(strings.TrimPrefix(line.Line(), "v"), "0.")
}

// fewWant is up to how many packages may want to meet one for it to be tried whether it
// goes to the newest at once: where more do, some have to go along.
const fewWant = 2

// wantedNow counts the subjects that want to meet one as they are now.
func (r *planner) wantedNow(s *Subject) (n int) {
	for _, other := range r.Subjects {
		if other.PeersAt != nil && other.At != nil && r.wants(other, other.PeersAt(other.At), s) {
			n++
		}
	}
	return n
}

// goesAlone tells whether a subject can go to a line while all others stay.
func (r *planner) goesAlone(s *Subject, line version.Version) (bool, error) {
	goal := r.goalOf(s, "", s.inLine(line))
	goal.Peek = true
	state, err := r.try(goal)
	if errors.As(err, new(*solve.Conflict)) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	own := append(r.with(s), s)
	along := slices.ContainsFunc(state.Moves, func(m model.Move) bool { return !overlap(r.moved(m), own) })
	return !along, nil
}

// toLine takes a subject to a line that nobody named, and tells whether it went.
func (r *planner) toLine(s *Subject, line version.Version) (bool, error) {
	_, err := r.moveTo(s, line.Line(), toBe(s, line), "newer major, within --reach major", s.inLine(line))
	var conflict *solve.Conflict
	if errors.As(err, &conflict) {
		r.behind(s, line, conflict)
		return false, nil
	}
	return err == nil, err
}
