package compat

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/mod/module"

	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
)

// Prefer is which version is taken where what is there will not do.
type Prefer string

// The preferences.
const (
	Lowest    Prefer = "lowest"
	Supported Prefer = "supported" // the lowest that is not past its end
	Newest    Prefer = "newest"
)

// Prefers are all of them.
var Prefers = []Prefer{Lowest, Supported, Newest}

// Question asks which versions of some subjects meet all that is needed of
// them, with as little change as may be.
type Question struct {
	Orders   Orders
	Subjects []*Subject
	Demands  []Demand
	Rules    []*Rule
	// Worlds are the packages in effect that are not to be chosen, for each
	// state that the answer is to hold in; the needs told are those of the last.
	Worlds []World
	Prefer Prefer
	// Ended tells whether a version is past its end.
	Ended func(s model.Subject, v version.Version) bool
}

// World is packages in effect, with their versions.
type World map[model.Subject][]version.Version

// Holds tells whether some version in effect is in a condition's range.
func (w World) Holds(c Condition) bool {
	holds := func(v version.Version) bool { return c.Range == nil || c.Range.Contains(v) }
	if slices.ContainsFunc(w[c.Subject], holds) {
		return true
	}
	if c.Subject.Kind != "golang" {
		return false
	}
	// Majors of a Go module have paths of their own, and are the same module.
	base, _, _ := module.SplitPathVersion(c.Subject.Name)
	for s, versions := range w {
		if s.Kind != "golang" || !strings.HasPrefix(s.Name, base) {
			continue
		}
		if other, _, _ := module.SplitPathVersion(s.Name); other == base && slices.ContainsFunc(versions, holds) {
			return true
		}
	}
	return false
}

// Subject is what a question may choose a version of.
type Subject struct {
	model.Subject
	At         version.Version   // what is there; nil for nothing
	Candidates []version.Version // what else there is, in any order
	// Ready is at hand and taken where nothing is there, if it will do; nil for
	// nothing.
	Ready version.Version
	// Allow tells what may be chosen, and Why says who wants that; nil for
	// anything that is not lower than At.
	Allow  func(v version.Version) bool
	Why    string
	Newest bool // the newest that is allowed is asked for
}

// Answer is what was found.
type Answer struct {
	Chosen map[model.Subject]version.Version // without what is not there
	Links  []Link
	Unmet  []Demand // advice that gave way
}

// Link is a need that holds in an answer.
type Link struct {
	By     model.Subject
	Need   Condition
	With   []Condition // what else must hold for it
	Rule   *Rule       // nil for what a package states
	Demand *Demand     // nil for a rule
	Not    bool        // it is a clash: Need must not hold
}

// Answer solves the question. The error is a *solve.Conflict if nothing meets
// all that is needed. Advice that asks for older versions than something else
// needs gives way.
func (q *Question) Answer(ctx context.Context) (*Answer, error) {
	answer, err := q.answer(ctx)
	if !errors.As(err, new(*solve.Conflict)) {
		return answer, err
	}
	firm := *q
	var advice []Demand
	firm.Demands = nil
	for _, d := range q.Demands {
		if d.Advice {
			advice = append(advice, d)
		} else {
			firm.Demands = append(firm.Demands, d)
		}
	}
	if len(advice) == 0 {
		return nil, err
	}
	answer, firmErr := firm.answer(ctx)
	if firmErr != nil {
		return nil, err
	}
	newest := func(d Demand) version.Version {
		return slices.MaxFunc(append(version.Bounds(version.Plain{}, d.Need.Range), zero), version.Version.Compare)
	}
	slices.SortStableFunc(advice, func(a, b Demand) int { return newest(b).Compare(newest(a)) })
	for _, d := range advice {
		more := firm
		more.Demands = append(slices.Clone(firm.Demands), d)
		a, err := more.answer(ctx)
		if err == nil {
			firm, answer = more, a
			continue
		}
		if v := answer.Chosen[d.Need.Subject]; !errors.As(err, new(*solve.Conflict)) || v == nil || d.Need.Range.Contains(v) ||
			newest(d).Compare(v) > 0 {
			return nil, err
		}
		answer.Unmet = append(answer.Unmet, d)
	}
	return answer, nil
}

var zero, _ = version.Plain{}.Parse("0")

func (q *Question) answer(ctx context.Context) (*Answer, error) {
	a := &asking{Question: q, problem: &solve.Problem{}, ids: map[model.Subject]solve.ID{}, picked: map[string]solve.Set{}}
	if len(q.Worlds) == 0 {
		q.Worlds = []World{nil}
	}
	a.reach()
	a.prepare()
	for i := range q.Demands {
		a.demand(&q.Demands[i])
	}
	for _, w := range q.Worlds {
		for _, r := range a.live {
			a.rule(r, w)
		}
	}
	solution, err := a.problem.Solve(ctx)
	if err != nil {
		return nil, err
	}
	answer := &Answer{Chosen: map[model.Subject]version.Version{}}
	for id, c := range solution {
		if c >= 0 {
			answer.Chosen[a.subjects[id].Subject.Subject] = a.subjects[id].candidates[c]
		}
	}
	answer.link(q)
	return answer, nil
}

// asking is a question while its problem is put together.
type asking struct {
	*Question
	problem  *solve.Problem
	subjects []*asked // by solve.ID
	ids      map[model.Subject]solve.ID
	picked   map[string]solve.Set // by subject and range
	live     []*Rule              // that can apply
	reached  map[model.Subject]bool
}

type asked struct {
	*Subject
	candidates []version.Version // ascending
}

// reach finds the rules that can apply: those about what is there, about packages
// in effect, and about what such rules need in turn. What nothing leads to stays
// absent, and so need not be in the problem.
func (a *asking) reach() {
	a.reached = map[model.Subject]bool{}
	var queue []model.Subject
	mark := func(s model.Subject) {
		if !a.reached[s] {
			a.reached[s] = true
			queue = append(queue, s)
		}
	}
	variable := map[model.Subject]bool{}
	for _, s := range a.Subjects {
		variable[s.Subject] = true
		if s.At != nil || s.Allow != nil {
			mark(s.Subject)
		}
	}
	for _, d := range a.Demands {
		mark(d.Need.Subject)
	}
	waits := map[*Rule]int{} // for how many of its subjects to be reached
	about := map[model.Subject][]*Rule{}
	fire := func(r *Rule) {
		a.live = append(a.live, r)
		for _, then := range r.Then {
			mark(then.Subject)
		}
	}
	for _, r := range a.Rules {
		if r.Foreign != "" || r.Kind != Needs && r.Kind != Clashes && r.Kind != Together {
			continue
		}
		dead := false
		for _, c := range r.When {
			if c.Subject.IsPin() || variable[c.Subject] {
				waits[r]++
				about[c.Subject] = append(about[c.Subject], r)
			} else {
				dead = dead || !slices.ContainsFunc(a.Worlds, func(w World) bool { return w.Holds(c) })
			}
		}
		switch {
		case dead:
			waits[r] = -1
		case waits[r] == 0:
			fire(r)
		}
	}
	for len(queue) > 0 {
		s := queue[0]
		queue = queue[1:]
		for _, r := range about[s] {
			if waits[r] > 0 {
				if waits[r]--; waits[r] == 0 {
					fire(r)
				}
			}
		}
	}
}

// prepare adds all subjects, with the versions that ranges begin with among
// their candidates.
func (a *asking) prepare() {
	known := map[model.Subject]*Subject{}
	var order []model.Subject
	add := func(s *Subject) {
		if known[s.Subject] == nil {
			order = append(order, s.Subject)
		}
		known[s.Subject] = s
	}
	for _, s := range a.Subjects {
		if a.reached[s.Subject] {
			add(s)
		}
	}
	bounds := map[model.Subject][]version.Version{}
	ranges := map[string]bool{}
	mention := func(c Condition) {
		if known[c.Subject] == nil && c.Subject.IsPin() {
			add(&Subject{Subject: c.Subject})
		}
		if key := c.String(); c.Range != nil && c.Subject.IsPin() && !ranges[key] {
			ranges[key] = true
			bounds[c.Subject] = append(bounds[c.Subject], version.Bounds(a.Orders(c.Subject.Kind), c.Range)...)
		}
	}
	for _, d := range a.Demands {
		mention(d.Need)
	}
	for _, r := range a.live {
		if r.Kind == Needs || r.Kind == Clashes {
			for _, c := range slices.Concat(r.When, r.Then) {
				mention(c)
			}
		}
	}
	ranks := a.ranks()
	for _, s := range order {
		a.add(known[s], bounds[s], ranks[s])
	}
}

// ranks is how far a subject is from what nothing else needs: what needs is
// decided before what is needed.
func (a *asking) ranks() map[model.Subject]int {
	needs := map[model.Subject][]model.Subject{}
	needed := map[model.Subject]bool{}
	note := func(by, of model.Subject) {
		needs[by] = append(needs[by], of)
		needed[of] = true
	}
	for _, d := range a.Demands {
		note(d.By, d.Need.Subject)
	}
	for _, r := range a.live {
		if r.Kind == Needs {
			for _, w := range r.When {
				for _, t := range r.Then {
					note(w.Subject, t.Subject)
				}
			}
		}
	}
	ranks := map[model.Subject]int{}
	var level []model.Subject
	for by := range needs {
		if !needed[by] {
			level = append(level, by)
		}
	}
	// In a cycle of needs nobody is first; whoever is reached first goes first.
	for depth := 1; len(level) > 0; depth++ {
		var next []model.Subject
		for _, by := range level {
			for _, of := range needs[by] {
				if ranks[of] < depth && depth <= len(needs) {
					ranks[of] = depth
					next = append(next, of)
				}
			}
		}
		slices.SortFunc(next, model.Subject.Compare)
		level = slices.Compact(next)
	}
	return ranks
}

func (a *asking) add(s *Subject, bounds []version.Version, rank int) {
	var all []version.Version
	put := func(v version.Version) {
		if v != nil && !slices.ContainsFunc(all, func(w version.Version) bool { return w.Compare(v) == 0 }) {
			all = append(all, v)
		}
	}
	put(s.At)
	for _, v := range s.Candidates {
		put(v)
	}
	for _, v := range bounds {
		if released(v, s.Candidates) {
			put(v)
		}
	}
	slices.SortFunc(all, version.Version.Compare)
	texts := make([]string, len(all))
	for i, v := range all {
		texts[i] = v.String()
	}
	id := a.problem.Subject(s.String(), texts)
	a.subjects = append(a.subjects, &asked{s, all})
	a.ids[s.Subject] = id
	a.problem.Rank(id, rank)
	a.problem.Prefer(id, a.preference(s, all))
	if s.Allow != nil || s.At != nil {
		allowed := a.problem.Pick(id, func(i int) bool {
			if s.Allow != nil {
				return s.Allow(all[i])
			}
			return all[i].Compare(s.At) >= 0
		})
		a.problem.Require(id, allowed, func() string {
			if s.Why != "" {
				return s.Why
			}
			return fmt.Sprintf("%s is at %s, and nobody asked for an older one", s, s.At)
		})
	}
	// What is not there needs not be there: absence comes first for the solver.
}

// in is the set of a subject's candidates that are in a range.
func (a *asking) in(c Condition) solve.Term {
	id := a.ids[c.Subject]
	key := c.String()
	set, known := a.picked[key]
	if !known {
		all := a.subjects[id].candidates
		set = a.problem.Pick(id, func(i int) bool { return c.Range == nil || c.Range.Contains(all[i]) })
		a.picked[key] = set
	}
	return solve.Term{Subject: id, In: set}
}

func (a *asking) demand(d *Demand) {
	need := a.in(d.Need)
	terms := []solve.Term{{Subject: need.Subject, In: a.problem.Not(need.Subject, need.In)}}
	if id, known := a.ids[d.By]; known {
		all := a.subjects[id].candidates
		terms = append(terms, solve.Term{Subject: id, In: a.problem.Pick(id, func(i int) bool { return d.When == nil || d.When(all[i]) })})
	}
	a.problem.Forbid(d.String, terms...)
}

// rule states what a rule demands in a world. What it demands of packages that
// are not to be chosen is decided where they are.
func (a *asking) rule(r *Rule, w World) {
	if r.Foreign != "" {
		return
	}
	switch r.Kind {
	case Needs:
		for _, then := range r.Then {
			if _, variable := a.ids[then.Subject]; !variable {
				continue
			}
			need := a.in(then)
			terms := []solve.Term{{Subject: need.Subject, In: a.problem.Not(need.Subject, need.In)}}
			if terms, ok := a.with(terms, r.When, w); ok {
				a.problem.Forbid(r.String, terms...)
			}
		}
	case Clashes:
		if terms, ok := a.with(nil, r.When, w); ok && len(terms) > 0 {
			a.problem.Forbid(r.String, terms...)
		}
	case Together:
		a.together(r)
	}
}

// with adds the terms of conditions, those about the same subject as one; ok is
// false where they never hold together.
func (a *asking) with(terms []solve.Term, conditions []Condition, w World) (all []solve.Term, ok bool) {
	for _, c := range conditions {
		if _, variable := a.ids[c.Subject]; !variable {
			if !w.Holds(c) {
				return nil, false
			}
			continue
		}
		t := a.in(c)
		at := slices.IndexFunc(terms, func(o solve.Term) bool { return o.Subject == t.Subject })
		if at < 0 {
			terms = append(terms, t)
			continue
		}
		both := a.problem.Pick(t.Subject, func(i int) bool { return t.In.Has(i) && terms[at].In.Has(i) })
		if both.Len() == 0 {
			return nil, false
		}
		terms[at].In = both
	}
	return terms, true
}

// together states that members of a family that are there share what they are
// to share.
func (a *asking) together(r *Rule) {
	for i, s := range r.Subjects {
		for _, t := range r.Subjects[i+1:] {
			x, known := a.ids[s]
			y, both := a.ids[t]
			if !known || !both {
				continue
			}
			order := a.Orders(s.Kind)
			for k, v := range a.subjects[x].candidates {
				apart := a.problem.Pick(y, func(i int) bool { return order.Step(v, a.subjects[y].candidates[i]) > r.Share.Reach() })
				a.problem.Forbid(
					r.String, solve.Term{Subject: x, In: a.problem.Pick(x, func(i int) bool { return i == k })}, solve.Term{Subject: y, In: apart},
				)
			}
		}
	}
}
