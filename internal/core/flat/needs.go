package flat

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/solve"
)

// need states one need of a release, for all releases that say the same.
func (s *resolver) need(n *node, candidate int, need Need) error {
	when := s.alike(n, candidate, need)
	if when.Len() > 1 { // what is stated for several is stated once
		if n.stated[need.words()] {
			return nil
		}
		n.stated[need.words()] = true
	}
	switch {
	case need.Sense == Excludes, need.Sense == IfPresent:
		for _, o := range need.Options {
			s.ifThere(o.Key, func(t *node) { s.restrict(n, when, t, o, need) })
		}
		return nil
	case len(need.Options) == 1:
		return s.requireOne(n, when, need)
	}
	return s.requireAny(n, when, need)
}

// ifThere states something about a key once it is in the problem, if it ever is.
func (s *resolver) ifThere(key Key, state func(t *node)) {
	if t := s.nodes[key]; t != nil {
		state(t)
		return
	}
	s.waiting[key] = append(s.waiting[key], state)
}

// restrict states that while a node is at some releases, another is not as a need excludes.
func (s *resolver) restrict(n *node, when solve.Set, t *node, o Option, need Need) {
	in := s.problem.Pick(t.id, func(i int) bool { return o.Allows(t.releases[i].Version) == (need.Sense == Excludes) })
	if t == n {
		s.problem.ForbidEach(
			s.each(n, need, ""), solve.Term{Subject: n.id, In: s.problem.Pick(n.id, func(i int) bool { return when.Has(i) && in.Has(i) })},
		)
		return
	}
	s.problem.ForbidEach(s.each(n, need, ""), solve.Term{Subject: n.id, In: when}, solve.Term{Subject: t.id, In: in})
}

func (s *resolver) requireOne(n *node, when solve.Set, need Need) error {
	t, err := s.node(need.Options[0].Key)
	if errors.Is(err, ErrUnknown) {
		s.problem.ForbidEach(s.each(n, need, ", which the registry does not know"), solve.Term{Subject: n.id, In: when})
		return nil
	}
	if err != nil {
		return fmt.Errorf("%s needs %s: %w", n.key, need.Text, err)
	}
	in := s.problem.Pick(t.id, func(i int) bool { return need.Options[0].Allows(t.releases[i].Version) })
	none := ""
	if in.Len() == 0 {
		none = ", and there is no such release"
	}
	s.problem.ImplyEach(s.each(n, need, none), n.id, when, t.id, in)
	s.ahead(t, members(in, len(t.releases)))
	return nil
}

func members(in solve.Set, n int) []bool {
	all := make([]bool, n)
	for i := range all {
		all[i] = in.Has(i)
	}
	return all
}

// choice is which of several options meets a need.
type choice struct{ options []*node }

// requireAny states that one of several options has to be there: a subject of its own chooses
// which, what is there already before all others.
func (s *resolver) requireAny(n *node, when solve.Set, need Need) error {
	c := &choice{}
	var sets []solve.Set
	var texts []string
	for _, o := range need.Options {
		t, err := s.node(o.Key)
		if errors.Is(err, ErrUnknown) {
			continue
		}
		if err != nil {
			return fmt.Errorf("%s needs %s: %w", n.key, need.Text, err)
		}
		in := s.problem.Pick(t.id, func(i int) bool { return o.Allows(t.releases[i].Version) })
		if in.Len() == 0 {
			continue
		}
		c.options, sets, texts = append(c.options, t), append(sets, in), append(texts, t.key.String())
	}
	if len(c.options) == 0 {
		none := ", and there is no such release"
		if len(need.Options) == 0 {
			none = ""
		}
		s.problem.ForbidEach(s.each(n, need, none), solve.Term{Subject: n.id, In: when})
		return nil
	}
	each := s.each(n, need, "")
	id := s.problem.Subject(strings.Join(texts, " or "), texts)
	s.choices[id] = c
	order := make([]int, len(texts))
	for i := range order {
		order[i] = i
	}
	there := func(i int) bool {
		return s.Locked[c.options[i].key] != "" || slices.Contains(s.named[c.options[i].want.Name], c.options[i])
	}
	slices.SortStableFunc(order, func(a, b int) int {
		switch {
		case there(a) && !there(b):
			return -1
		case there(b) && !there(a):
			return 1
		}
		return a - b
	})
	s.problem.Prefer(id, order)
	s.problem.ImplyEach(each, n.id, when, id, s.problem.Pick(id, func(int) bool { return true }))
	for k, t := range c.options {
		at := s.problem.Pick(id, func(i int) bool { return i == k })
		s.problem.Imply(id, at, t.id, sets[k], func() string { return fmt.Sprintf("%s %s can be met by %s", n.key, need.Text, t.key) })
	}
	return nil
}

// each is a need as a fact of a series: what releases of a key say of another alike.
func (s *resolver) each(n *node, need Need, more string) solve.Each {
	verb := [...]string{"needs", "does not go with", "needs, where it is there,"}[need.Sense]
	key := said{of: n.key, kind: verb + more}
	if len(need.Options) > 0 {
		key.to = need.Options[0].Key.String()
	}
	if s.series[key] == nil {
		s.series[key] = &solve.Series{Weak: need.Sense == IfPresent, Say: func(which, wants string) string {
			return strings.TrimSpace(fmt.Sprintf("%s %s %s %s", n.key, which, verb, wants)) + more
		}}
	}
	return solve.Each{Series: s.series[key], Want: need.Text, About: need.About}
}
