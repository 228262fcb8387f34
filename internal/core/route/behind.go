package route

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
)

// stuck is a subject that did not go to a newer line.
type stuck struct {
	name     string
	line     string
	legs     int // how many there were when it was tried
	conflict *solve.Conflict
}

// behind remembers that a subject did not go to a line.
func (r *planner) behind(s *Subject, line version.Version, conflict *solve.Conflict) {
	now := stuck{s.Name, line.Line(), len(r.legs), conflict}
	if i := slices.IndexFunc(r.stuck, func(o stuck) bool { return o.name == s.Name }); i >= 0 {
		r.stuck[i] = now
	} else {
		r.stuck = append(r.stuck, now)
	}
}

// catchUp tries once more what did not go to its newest major, since others may have
// made room, and tells why the rest stays: as things are at the end, each cause once.
func (r *planner) catchUp() error {
	if r.Reach != version.Major {
		return nil
	}
	r.place = "the majors before have made room for it"
	for moved := true; moved; {
		moved = false
		for i := range r.stuck {
			s := r.subject(r.stuck[i].name)
			if s == nil || r.stuck[i].legs == len(r.legs) {
				continue
			}
			lines := s.newerLines()
			if s.Stepwise != "" && len(lines) > 1 {
				lines = lines[:1]
			}
			for _, line := range slices.Backward(lines) {
				went, err := r.toLine(s, line)
				if err != nil {
					return err
				}
				if went {
					moved = true
					break
				}
			}
		}
	}
	var list []left
	for _, was := range r.stuck {
		s := r.subject(was.name)
		if s == nil {
			continue
		}
		lines := s.newerLines()
		if len(lines) == 0 {
			continue
		}
		newest := lines[len(lines)-1]
		if was.line != newest.Line() || was.legs != len(r.legs) {
			var err error
			if was.conflict, err = r.why(s, newest); err != nil {
				return err
			}
		}
		if was.conflict != nil {
			l := leftBehind(s, toBe(s, newest), was.conflict)
			l.line = newest.Line()
			list = append(list, l)
		}
	}
	r.notices = append(r.notices, tellLeft(list)...)
	r.shunned(list)
	return nil
}

// why is the conflict of a line that a subject does not go to; nil if it could.
func (r *planner) why(s *Subject, line version.Version) (*solve.Conflict, error) {
	return r.whyNot(r.goalOf(s, toBe(s, line), s.inLine(line)), s)
}

// whyNot is the conflict of a goal that is about a subject; nil if there is none.
func (r *planner) whyNot(goal contract.Goal, s *Subject) (*solve.Conflict, error) {
	goal.Bounds = r.oneByOne(goal.Bounds)
	state, err := r.try(goal)
	if err == nil {
		r.lead, r.unasked = s, true
		defer func() { r.lead, r.unasked = nil, false }()
		_, _, err = r.met(goal, state)
	}
	var conflict *solve.Conflict
	if errors.As(err, &conflict) {
		return conflict, nil
	}
	return nil, err
}

// toBe says where a subject is to go.
func toBe(s *Subject, line version.Version) string {
	return fmt.Sprintf("%s is to move to %s", s, line.Line())
}

// left is a subject that stays behind a newer major, and the facts from which that
// follows.
type left struct {
	name, at, line string
	facts          []string
	others         []string // the facts that others state
	cause          string   // those that say where others are
}

// leftBehind is a subject that stays, since a wish that it moves is in conflict.
func leftBehind(s *Subject, wish string, conflict *solve.Conflict) left {
	l := left{name: s.String(), at: s.At.String()}
	for _, step := range conflict.Proof() {
		if len(step.From) > 0 || step.Text == wish {
			continue
		}
		l.facts = append(l.facts, step.Text)
		if len(step.About) > 0 && step.About[0] == s.String() {
			continue
		}
		l.others = append(l.others, step.Text)
		if len(step.About) == 1 {
			l.cause += step.Text + "\n"
		}
	}
	return l
}

// tellLeft tells what stays behind, those with one cause together.
func tellLeft(list []left) (notices []string) {
	told := map[string]bool{}
	for i, l := range list {
		if told[l.name] {
			continue
		}
		var group, names, facts []string
		for _, other := range list[i:] {
			if other.name != l.name && (l.cause == "" || other.cause != l.cause) {
				continue
			}
			told[other.name] = true
			group = append(group, other.name)
			names = append(names, fmt.Sprintf("%s (at %s, not %s)", other.name, other.at, other.line))
			for _, fact := range other.others {
				if !slices.Contains(facts, fact) {
					facts = append(facts, fact)
				}
			}
		}
		if len(names) == 1 {
			notices = append(notices, fmt.Sprintf("%s stays at %s and does not go to %s: %s", l.name, l.at, l.line, strings.Join(l.facts, "; ")))
			continue
		}
		facts = slices.DeleteFunc(facts, func(fact string) bool { return about(group, fact) })
		notices = append(notices, fmt.Sprintf("%s stay behind: %s", listed(names), strings.Join(facts, "; ")))
	}
	return notices
}

// about tells whether a fact is about one of some names.
func about(names []string, fact string) bool {
	return slices.ContainsFunc(names, func(name string) bool { return strings.HasPrefix(fact, name+" ") })
}

// shunned tells of newer majors that there is something against, but for what is told to stay behind already.
func (r *planner) shunned(behind []left) {
	type why struct{ line, reason string }
	names := map[why][]string{}
	var order []why
	for _, s := range r.Subjects {
		n := len(s.Releases)
		if s.Held || s.At == nil || s.Shun == nil || n == 0 || s.Runtime ||
			slices.ContainsFunc(behind, func(l left) bool { return l.name == s.String() }) {
			continue
		}
		for _, v := range slices.Backward(s.Releases) {
			if v.Preview() || v.Compare(s.At) <= 0 || v.Line() == s.At.Line() {
				continue
			}
			if reason := s.Shun(v); reason != "" {
				k := why{v.Line(), reason}
				if names[k] == nil {
					order = append(order, k)
				}
				names[k] = append(names[k], fmt.Sprintf("%s stays at %s and does not go to %s", s, s.At, v))
			}
			break
		}
	}
	for _, k := range order {
		if list := names[k]; len(list) == 1 {
			r.notices = append(r.notices, list[0]+": "+k.reason)
			continue
		}
		var short []string
		for _, text := range names[k] {
			name, _, _ := strings.Cut(text, " ")
			short = append(short, name)
		}
		r.notices = append(r.notices, fmt.Sprintf("%s do not go to %s; of each: %s", listed(short), k.line, k.reason))
	}
}

// maxShort bounds for how many subjects the reason is told.
const maxShort = 3

// tellShort tells why subjects stay behind the newest release that a reach below majors would allow.
func (r *planner) tellShort() error {
	if r.Reach != version.Minor && r.Reach != version.Patch {
		return nil
	}
	told := 0
	for _, s := range r.Subjects {
		if !r.climbs(s) || s.Runtime || r.told[s.Name] {
			continue
		}
		var newest version.Version
		for _, v := range s.candidates(nil) {
			if within := r.Order.Step(s.At, v) <= r.Reach && (!r.Stated || s.Admits != nil && s.Admits(v)); within && v.Compare(s.At) > 0 {
				newest = v
			}
		}
		if newest == nil || r.isTold(s) {
			continue
		}
		if told++; told > maxShort {
			break
		}
		to := fmt.Sprintf("%s is to move to %s", s, newest)
		goal := r.goalOf(s, to, func(v version.Version) bool { return v.Compare(newest) == 0 })
		for _, o := range r.Subjects {
			if _, bound := goal.Bounds[o.Name]; !bound && o.At != nil && !o.Runtime && !o.Exact {
				goal.Bounds[o.Name] = r.reachable(o)
			}
		}
		conflict, err := r.whyNot(goal, s)
		if err != nil {
			return err
		}
		if conflict != nil {
			l := leftBehind(s, to, conflict)
			l.line = newest.String()
			r.notices = append(r.notices, tellLeft([]left{l})...)
		}
	}
	return nil
}

// isTold tells whether a notice speaks of a subject already.
func (r *planner) isTold(s *Subject) bool {
	return slices.ContainsFunc(r.notices, func(text string) bool { return strings.Contains(" "+text, " "+s.String()+" ") })
}

// tellBarred tells of newer releases within the majors in use that do not run on what is there, those with one cause together.
func (r *planner) tellBarred() {
	names := map[string][]string{}
	var order []string
	for _, s := range r.Subjects {
		if r.Reach < version.Patch || !r.climbs(s) || s.Runtime || s.Bars == nil || r.isTold(s) {
			continue
		}
		within := min(r.Reach, version.Minor)
		for _, v := range slices.Backward(s.Releases) {
			if v.Preview() || v.Compare(s.At) <= 0 || r.Order.Step(s.At, v) > within || r.Stated && (s.Admits == nil || !s.Admits(v)) {
				continue
			}
			reason := s.Bars(v)
			if reason != "" {
				if names[reason] == nil {
					order = append(order, reason)
				}
				names[reason] = append(names[reason], fmt.Sprintf("%s (at %s, not %s)", s, s.At, v))
			}
			if reason != "" || s.Shun == nil || s.Shun(v) == "" {
				break
			}
		}
	}
	for _, reason := range order {
		stay := "stay"
		if len(names[reason]) == 1 {
			stay = "stays"
		}
		r.notices = append(r.notices, fmt.Sprintf("%s %s behind: %s", listed(names[reason]), stay, reason))
	}
}

// reachable are the versions of a subject that the reach takes it to.
func (r *planner) reachable(s *Subject) contract.Bound {
	at := s.At
	return contract.Bound{
		Allow: func(v version.Version) bool { return v.Compare(at) >= 0 && r.Order.Step(at, v) <= r.Reach },
		Why:   fmt.Sprintf("%s is to stay within %s", s, at.Line()),
	}
}

// tellExact tells of versions that somebody decided on, where newer ones are within reach.
func (r *planner) tellExact() {
	var names []string
	for _, s := range r.Subjects {
		newer := func(v version.Version) bool { return v.Compare(s.At) > 0 && r.Order.Step(s.At, v) <= r.Reach }
		if s.Exact && !s.Held && s.At != nil && r.wish(s.Name) == nil && slices.ContainsFunc(s.candidates(nil), newer) {
			names = append(names, fmt.Sprintf("%s (%s)", s, s.Stated))
		}
	}
	var ranges []string
	for _, s := range r.Subjects {
		all := s.candidates(nil)
		if s.Ranged && r.Reach > version.Stay && r.wish(s.Name) == nil && len(all) > 0 && !s.Admits(all[len(all)-1]) {
			ranges = append(ranges, fmt.Sprintf("%s (%s)", s, s.Stated))
		}
	}
	if len(ranges) > 0 {
		text := "ranges that leave newer releases out are left as they are stated: " + listed(ranges) + "; --to NAME@RANGE moves one"
		r.notices = append(r.notices, text)
	}
	switch {
	case len(names) == 1:
		r.notices = append(r.notices, names[0]+" is stated as one version among ranges, and stays; --to NAME@RANGE moves it")
	case len(names) > 1:
		r.notices = append(r.notices, listed(names)+" are stated as one version each among ranges, and stay; --to NAME@RANGE moves one")
	}
}
