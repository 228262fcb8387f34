package solve

import (
	"cmp"
	"container/heap"
	"context"
	"fmt"
	"slices"
)

// step is one narrowing of a subject's states: a decision, or what a clause
// forced.
type step struct {
	subject ID
	left    Set // the states left after the step
	level   int
	cause   *clause // nil for a decision
	at      int     // place in the trail
}

// search is one run of the solver over a problem.
type search struct {
	p       *Problem
	trail   []*step
	history [][]*step // by subject, in the order of the trail
	level   int
	queue   []ID
	queued  []bool
	turns   turns
	changed []ID // whose turns are to be put in the line anew
	noted   []bool
}

func newSearch(p *Problem) *search {
	p.fresh = p.facts
	return &search{p: p}
}

func (s *search) run(ctx context.Context) (Solution, error) {
	for {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		s.grow()
		if s.p.refuted != nil {
			return nil, &Conflict{s.p, s.p.refuted}
		}
		if conflict := s.propagate(); conflict != nil {
			return nil, conflict
		}
		next, state := s.choose()
		if next < 0 {
			return s.solution(), nil
		}
		s.level++
		decided := newSet(s.p.subjects[next].states())
		decided.Add(state)
		s.narrow(next, decided, nil)
		if err := s.expand(next, state); err != nil {
			return nil, err
		}
	}
}

// grow makes room for subjects and queues those of facts added since.
func (s *search) grow() {
	for len(s.history) < len(s.p.subjects) {
		s.history = append(s.history, nil)
		s.queued = append(s.queued, false)
		s.noted = append(s.noted, false)
		s.wait(ID(len(s.history) - 1))
	}
	for _, c := range s.p.fresh {
		for _, t := range c.terms {
			s.enqueue(t.Subject)
		}
	}
	s.p.fresh = nil
}

func (s *search) expand(id ID, state int) error {
	sub := s.p.subjects[id]
	if s.p.Expand == nil || state == sub.absent() || sub.expanded.Has(state) {
		return nil
	}
	sub.expanded.Add(state)
	return s.p.Expand(id, state)
}

func (s *search) enqueue(id ID) {
	if !s.queued[id] {
		s.queued[id] = true
		s.queue = append(s.queue, id)
	}
}

// left is the set of states that id can still be in.
func (s *search) left(id ID) Set {
	if h := s.history[id]; len(h) > 0 {
		return h[len(h)-1].left
	}
	return s.p.subjects[id].all
}

func (s *search) narrow(id ID, left Set, cause *clause) {
	st := &step{id, left, s.level, cause, len(s.trail)}
	s.trail = append(s.trail, st)
	s.history[id] = append(s.history[id], st)
	s.wait(id)
	s.enqueue(id)
}

// propagate draws all unit conclusions; a non-nil result is a conflict that no
// decision can be blamed for.
func (s *search) propagate() *Conflict {
	for len(s.queue) > 0 {
		id := s.queue[0]
		s.queue = s.queue[1:]
		s.queued[id] = false
		clauses := s.p.subjects[id].clauses
		for i := len(clauses) - 1; i >= 0; i-- {
			violated := s.examine(clauses[i])
			if violated == nil {
				continue
			}
			learned := s.learn(violated)
			if len(learned.terms) == 0 {
				return &Conflict{s.p, learned}
			}
			s.clearQueue()
			s.p.attach(learned)
			s.examine(learned)
			break
		}
	}
	return nil
}

// clearQueue forgets what waits: it was narrowed at the level that a conflict
// has just taken back, older levels were propagated to the end.
func (s *search) clearQueue() {
	for _, id := range s.queue {
		s.queued[id] = false
	}
	s.queue = s.queue[:0]
}

// examine gives c if all its terms hold; if all but one do, it narrows the
// subject of that one.
func (s *search) examine(c *clause) *clause {
	open := -1
	for i, t := range c.terms {
		left := s.left(t.Subject)
		if left.within(t.In) {
			continue
		}
		if left.apart(t.In) || open >= 0 {
			return nil
		}
		open = i
	}
	if open < 0 {
		return c
	}
	t := c.terms[open]
	s.narrow(t.Subject, s.left(t.Subject).minus(t.In), c)
	return nil
}

// satisfier is the first step from which on t holds.
func (s *search) satisfier(t Term) *step {
	h := s.history[t.Subject]
	i, _ := slices.BinarySearchFunc(h, t.In, func(st *step, in Set) int {
		if st.left.within(in) {
			return 0
		}
		return -1
	})
	return h[i]
}

// learn resolves a violated clause with the causes of the steps that made it
// so until it would have been unit at an earlier level, and goes back there.
// With no terms left, the result is a contradiction.
func (s *search) learn(c *clause) *clause {
	if s.level == 0 {
		return s.refute(c)
	}
	for len(c.terms) > 0 {
		var last *step
		for _, t := range c.terms {
			if st := s.satisfier(t); last == nil || st.at > last.at {
				last = st
			}
		}
		back := 0
		for _, t := range c.terms {
			if st := s.satisfier(t); st != last {
				back = max(back, st.level)
			}
		}
		if last.cause == nil || s.levelWithout(last, c) < last.level {
			s.backtrack(max(back, s.levelWithout(last, c)))
			return c
		}
		c = s.resolve(c, last)
	}
	return c
}

// levelWithout is the level up to which everything that c needs besides the
// step last was in place. If last alone does not make its term hold, the
// steps on the same subject before it count too.
func (s *search) levelWithout(last *step, c *clause) int {
	level := 0
	for _, t := range c.terms {
		if t.Subject != last.subject {
			level = max(level, s.satisfier(t).level)
			continue
		}
		if last.cause == nil {
			continue
		}
		// What last itself ruled out is the term of its cause; the rest of
		// the term's complement was ruled out before.
		for _, ct := range last.cause.terms {
			if ct.Subject == last.subject {
				if rest := t.In.or(ct.In); rest.Len() < s.p.subjects[t.Subject].states() {
					level = max(level, s.satisfier(Term{t.Subject, rest}).level)
				}
			}
		}
	}
	return level
}

// resolve is what follows from c and the cause of st: the terms of both, but
// for the subject of st it is enough that either holds.
func (s *search) resolve(c *clause, st *step) *clause {
	merged := &clause{causes: []*clause{c, st.cause}}
	var pivot Set
	for _, t := range c.terms {
		if t.Subject == st.subject {
			pivot = t.In
			continue
		}
		merged.terms = append(merged.terms, t)
	}
	for _, t := range st.cause.terms {
		if t.Subject == st.subject {
			if both := pivot.or(t.In); both.Len() < s.p.subjects[t.Subject].states() {
				merged.terms = append(merged.terms, Term{t.Subject, both})
			}
			continue
		}
		at := slices.IndexFunc(merged.terms, func(m Term) bool { return m.Subject == t.Subject })
		if at < 0 {
			merged.terms = append(merged.terms, t)
			continue
		}
		merged.terms[at].In = merged.terms[at].In.and(t.In)
	}
	return merged
}

// refute draws the contradiction from a clause that is violated before any
// decision. It goes back along the steps instead of resolving clauses, so that
// the work is bounded by the length of the trail.
func (s *search) refute(c *clause) *clause {
	known := map[string]*clause{}
	contradiction := &clause{causes: []*clause{c}}
	for _, t := range c.terms {
		contradiction.causes = append(contradiction.causes, s.derive(t, known))
	}
	return contradiction
}

// derive gives a clause from which it follows that t holds, however the
// search decides.
func (s *search) derive(t Term, known map[string]*clause) *clause {
	key := fmt.Sprint(t.Subject, t.In)
	if c, ok := known[key]; ok {
		return c
	}
	st := s.satisfier(t)
	claim := &clause{terms: []Term{{t.Subject, s.p.Not(t.Subject, t.In)}}, causes: []*clause{st.cause}}
	for _, ct := range st.cause.terms {
		need := ct
		if ct.Subject == t.Subject {
			need.In = ct.In.or(t.In)
			if need.In.Len() == s.p.subjects[t.Subject].states() {
				continue
			}
		}
		claim.causes = append(claim.causes, s.derive(need, known))
	}
	if len(claim.causes) == 1 {
		claim = st.cause
	}
	known[key] = claim
	return claim
}

func (s *search) backtrack(level int) {
	for len(s.trail) > 0 && s.trail[len(s.trail)-1].level > level {
		st := s.trail[len(s.trail)-1]
		s.trail = s.trail[:len(s.trail)-1]
		s.history[st.subject] = s.history[st.subject][:len(s.history[st.subject])-1]
		s.wait(st.subject)
	}
	s.level = level
}

// turn is when a subject is decided: required subjects by rank, then by how few
// states they have left; at the end absence for those that nothing requires.
type turn struct {
	optional bool
	rank     int
	left     int
	id       ID
}

func (t turn) compare(o turn) int {
	switch {
	case t.optional != o.optional && t.optional:
		return 1
	case t.optional != o.optional:
		return -1
	}
	return cmp.Or(t.rank-o.rank, t.left-o.left, int(t.id-o.id))
}

// turns is a heap of turns. Those of before a change of their subject stay in it,
// and are passed over when they come up.
type turns []turn

func (t turns) Len() int           { return len(t) }
func (t turns) Less(i, j int) bool { return t[i].compare(t[j]) < 0 }
func (t turns) Swap(i, j int)      { t[i], t[j] = t[j], t[i] }

// Push is for container/heap.
func (t *turns) Push(x any) { *t = append(*t, x.(turn)) }

// Pop is for container/heap.
func (t *turns) Pop() any {
	last := (*t)[len(*t)-1]
	*t = (*t)[:len(*t)-1]
	return last
}

// turn is a subject's turn as things are; ok is false if it is decided.
func (s *search) turn(id ID) (t turn, ok bool) {
	sub, left := s.p.subjects[id], s.left(id)
	t = turn{left.Has(sub.absent()), sub.rank, left.Len(), id}
	if t.left > 1 {
		return t, true
	}
	// Forced, but its own facts may not be known yet.
	state := left.first()
	return t, s.p.Expand != nil && state != sub.absent() && !sub.expanded.Has(state)
}

// wait notes that a subject changed, whose turn is then another one.
func (s *search) wait(id ID) {
	if !s.noted[id] {
		s.noted[id] = true
		s.changed = append(s.changed, id)
	}
}

// line puts subjects that changed in the line of those to be decided.
func (s *search) line() {
	for _, id := range s.changed {
		s.noted[id] = false
		if t, ok := s.turn(id); ok {
			heap.Push(&s.turns, t)
		}
	}
	s.changed = s.changed[:0]
}

// choose picks the next subject to decide and its state. It gives -1 once all are
// decided.
func (s *search) choose() (ID, int) {
	s.line()
	best := ID(-1)
	for best < 0 {
		if len(s.turns) == 0 {
			return -1, 0
		}
		first := heap.Pop(&s.turns).(turn)
		if now, ok := s.turn(first.id); ok && now == first {
			best = first.id
		}
	}
	sub, left := s.p.subjects[best], s.left(best)
	if left.Has(sub.absent()) {
		return best, sub.absent()
	}
	for _, candidate := range sub.order {
		if left.Has(candidate) {
			return best, candidate
		}
	}
	for candidate := len(sub.candidates) - 1; ; candidate-- {
		if left.Has(candidate) {
			return best, candidate
		}
	}
}

func (s *search) solution() Solution {
	found := make(Solution, len(s.p.subjects))
	for id, sub := range s.p.subjects {
		found[id] = s.left(ID(id)).first()
		if found[id] == sub.absent() {
			found[id] = -1
		}
	}
	return found
}
