package flat

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"bellwether/internal/core/solve"
	"bellwether/internal/core/want"
)

// resolver states the problem while it is solved.
type resolver struct {
	Request
	ctx     context.Context
	asked   *answers
	problem *solve.Problem
	nodes   map[Key]*node
	byID    map[solve.ID]*node
	choices map[solve.ID]*choice
	waiting map[Key][]func(t *node) // needs that hold only if a key is there
	series  map[said]*solve.Series
	named   map[string][]*node // roots by their names
}

// node is a key with its subject in the problem.
type node struct {
	id       solve.ID
	key      Key
	want     *want.Want
	releases []Release
	order    []int               // in which releases are tried
	stated   map[words]bool      // needs that were stated for several releases
	sayers   map[words]solve.Set // the releases that say a need; nil until it is asked for
}

// said are needs of one kind, of which a proof tells several in one sentence.
type said struct {
	of   Key
	to   string
	kind string
}

func newResolver(ctx context.Context, r Request, asked *answers) *resolver {
	s := &resolver{
		Request: r, ctx: ctx, asked: asked, problem: &solve.Problem{}, nodes: map[Key]*node{}, byID: map[solve.ID]*node{},
		choices: map[solve.ID]*choice{}, waiting: map[Key][]func(*node){}, series: map[said]*solve.Series{}, named: map[string][]*node{},
	}
	s.problem.Expand = s.expand
	return s
}

// roots states what the project itself asks for.
func (s *resolver) roots() error {
	var keys []Key
	for _, r := range s.Roots {
		keys = append(keys, r.Key)
	}
	s.asked.all(keys)
	for _, r := range s.Roots {
		if err := s.root(r); err != nil {
			return err
		}
	}
	for _, r := range s.Goal.Rules {
		want.Rule(s.problem, r, func(name string) (units []want.Unit) {
			for _, n := range s.named[name] {
				units = append(units, want.Unit{Subject: n.id, Want: n.want, Places: []string{n.key.Place}})
			}
			return units
		})
	}
	return nil
}

func (s *resolver) root(r Root) error {
	n, err := s.node(r.Key)
	if errors.Is(err, ErrUnknown) {
		return solve.Refute(r.Name, r.asks()+", which the registry does not know")
	}
	if err != nil {
		return fmt.Errorf("%s: %w", r.Where, err)
	}
	w := n.want
	w.Name, w.Key, w.Still, w.Weight, w.Indirect = r.Name, r.Spoken, r.Still, r.Weight, false
	w.Asks = r.asks()
	w.Down = fmt.Sprintf("%s is at %s (%s), and nobody asked for an older one", n.key, s.Locked[r.Key], r.Where)
	for i := range w.Candidates {
		w.Candidates[i].InRange = r.Allows(w.Candidates[i].Version)
	}
	if !slices.Contains(s.named[r.Name], n) {
		s.named[r.Name] = append(s.named[r.Name], n)
	}
	allowed := w.Allowed(&s.Goal)
	why := w.Why(&s.Goal, allowed)
	if !slices.Contains(allowed, true) {
		why = s.nothing(r, n)
	}
	s.problem.Require(n.id, s.problem.Pick(n.id, func(i int) bool { return allowed[i] }), why)
	s.prefer(n)
	s.problem.Rank(n.id, w.Rank(&s.Goal))
	s.ahead(n, allowed)
	return nil
}

// nothing says that no release can be what is asked for.
func (s *resolver) nothing(r Root, n *node) solve.Why {
	return func() string {
		text := r.asks()
		if b := s.Goal.Bound(cmp.Or(r.Spoken, r.Name)); b.Allow != nil {
			text = b.Why
		}
		if len(n.releases) == 0 {
			return text + ", and there are no releases at all"
		}
		return fmt.Sprintf("%s, and no release can be that (the newest is %s)", text, n.releases[len(n.releases)-1].Text)
	}
}

// node is the node of a key, made when it is first needed.
func (s *resolver) node(key Key) (*node, error) {
	if n := s.nodes[key]; n != nil {
		return n, nil
	}
	releases, err := s.asked.Releases(key)
	if err != nil {
		return nil, err
	}
	n := &node{key: key, releases: releases, stated: map[words]bool{}}
	w := &want.Want{
		Name: key.String(), At: -1, Tendency: s.Tendency, Newest: true, Indirect: true, Candidates: make([]want.Candidate, len(releases)),
	}
	for i, r := range releases {
		w.Candidates[i] = want.Candidate{Text: r.Text, Version: r.Version, Shunned: r.Shunned || r.Version.Preview(), Unfit: r.Unfit}
		if r.Text == s.Locked[key] {
			w.At, w.Locked = i, r.Version
		}
	}
	n.want, n.id = w, s.problem.Subject(key.String(), w.Texts())
	s.nodes[key], s.byID[n.id] = n, n
	s.prefer(n)
	if s.Upward && w.At > 0 {
		s.problem.Forbid(
			func() string {
				return fmt.Sprintf("%s is locked at %s, and nobody asked for an older one", key, s.Locked[key])
			},
			solve.Term{Subject: n.id, In: s.problem.Pick(n.id, func(i int) bool { return i < w.At })},
		)
	}
	for _, state := range s.waiting[key] {
		state(n)
	}
	if key.Extra != "" {
		return n, s.ofPackage(n)
	}
	return n, nil
}

// prefer says in which order the releases of a node are tried. What is to be avoided comes
// last, though it is locked.
func (s *resolver) prefer(n *node) {
	order := n.want.Preference(&s.Goal)
	if avoid := s.Goal.Avoid; avoid != nil {
		slices.SortStableFunc(order, func(a, b int) int {
			x, y := avoid(n.key.Name, n.releases[a].Text), avoid(n.key.Name, n.releases[b].Text)
			switch {
			case x && !y:
				return 1
			case y && !x:
				return -1
			}
			return 0
		})
	}
	n.order = order
	s.problem.Prefer(n.id, order)
}

// ofPackage states that an extra has the version of its package.
func (s *resolver) ofPackage(extra *node) error {
	n, err := s.node(Key{Name: extra.key.Name, Line: extra.key.Line})
	if err != nil {
		return err
	}
	for i, r := range extra.releases {
		s.problem.Imply(extra.id, s.problem.Pick(extra.id, func(c int) bool { return c == i }),
			n.id, s.problem.Pick(n.id, func(c int) bool { return n.releases[c].Text == r.Text }),
			func() string { return fmt.Sprintf("%s %s is of %s %s", extra.key, r.Text, n.key, r.Text) })
	}
	return nil
}

// expand states what a chosen release needs.
func (s *resolver) expand(id solve.ID, candidate int) error {
	if c := s.choices[id]; c != nil {
		return nil // its options were stated with it
	}
	n := s.byID[id]
	needs, err := s.asked.Needs(n.key, n.releases[candidate].Text)
	if err != nil {
		return fmt.Errorf("%s %s: %w", n.key, n.releases[candidate].Text, err)
	}
	var keys []Key
	for _, need := range needs {
		for _, o := range need.Options {
			if s.nodes[o.Key] == nil && need.Sense == Requires {
				keys = append(keys, o.Key)
			}
		}
	}
	if len(keys) > 1 {
		s.asked.all(keys)
	}
	for _, need := range needs {
		if err := s.need(n, candidate, need); err != nil {
			return err
		}
	}
	return nil
}

// words are a need as others may say it, too.
type words struct {
	sense Sense
	text  string
}

func (n Need) words() words { return words{n.Sense, n.Text} }

// alike are the releases of a node that say the same as one of them, as far as that is known
// without asking.
func (s *resolver) alike(n *node, candidate int, need Need) solve.Set {
	whole, ok := s.Index.(Whole)
	if !ok || !whole.AtHand(n.key) {
		return s.problem.Pick(n.id, func(i int) bool { return i == candidate })
	}
	if n.sayers == nil {
		n.sayers = map[words]solve.Set{}
		none := s.problem.Pick(n.id, func(int) bool { return false })
		for i, r := range n.releases {
			needs, _ := whole.Needs(s.ctx, n.key, r.Text) // what cannot be had is told when it is chosen
			for _, o := range needs {
				w := o.words()
				if n.sayers[w] == nil {
					n.sayers[w] = slices.Clone(none)
				}
				n.sayers[w].Add(i)
			}
		}
	}
	return n.sayers[need.words()]
}

// ahead asks for what a node will most likely need.
func (s *resolver) ahead(n *node, allowed []bool) {
	for _, i := range n.order {
		if allowed != nil && !allowed[i] {
			continue
		}
		release := n.releases[i].Text
		s.asked.ahead(func() { _, _ = s.asked.Needs(n.key, release) })
		return
	}
}
