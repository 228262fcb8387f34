// Package culprit finds the smallest part of a change that makes something fail, by
// trying parts of it. It is the delta debugging of A. Zeller ("Yesterday, my program
// worked. Today, it does not. Why?", 1999) with the search of a smallest failing
// prefix for each member, so that k of n are found in about k·log₂ n trials.
package culprit

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Result is what came of a trial.
type Result struct {
	Resolved bool            // it could be made and tried; nothing is known else
	Failing  map[string]bool // symptoms that were seen
}

// Try tries a part of the moves, given by their numbers, ascending. It is called for
// several parts at a time, up to Problem.Parallel, and for one that is to be confirmed
// a second time.
type Try func(ctx context.Context, moves []int) (Result, error)

// Problem is a change of several moves that shows symptoms.
type Problem struct {
	Moves    int      // how many there are; all of them together show all symptoms, none shows none
	Needs    [][]int  // by move: others that it cannot be made without; nil for none
	Symptoms []string // what fails with all moves
	Parallel int      // trials at a time; 0 for one
	// Tell is told what is known after each round; nil for nobody.
	Tell func(Known)
}

// Known is how far the search is.
type Known struct {
	Symptom string
	Trials  int
	Guilty  []int // moves that certainly belong to the culprit
	Among   []int // and those that the next member is one of
}

// Culprit is a smallest set of moves that shows symptoms.
type Culprit struct {
	Moves    []int // as few as do
	With     []int // moves that those cannot be made without
	Symptoms []string
	Certain  bool // the set was seen to fail by itself, and each part of it is needed
}

// Answer is what was found out.
type Answer struct {
	Culprits []Culprit
	Rest     []int    // the most moves that were seen to show no symptom
	Unstable []string // symptoms that came and went with the same moves, or without any
	Trials   int
	Spent    bool // the budget was spent before all was known
}

// ErrSpent is what Try gives for a trial that the budget no longer allows.
var ErrSpent = errors.New("the budget of trials is spent")

// search is one run of Find.
type search struct {
	Problem
	ctx    context.Context
	try    Try
	groups [][]int // moves that can only be made together, what others need first
	needs  [][]int // by group: the groups that it needs, itself included
	known  map[string]Result
	answer *Answer
}

// Find finds a culprit for each symptom; symptoms that share one are told together.
// When ctx ends or the budget is spent, the answer holds what is known so far.
func Find(ctx context.Context, p Problem, try Try) (*Answer, error) {
	s := &search{Problem: p, ctx: ctx, try: try, known: map[string]Result{}, answer: &Answer{}}
	s.group()
	all := Result{Resolved: true, Failing: map[string]bool{}}
	for _, symptom := range p.Symptoms {
		all.Failing[symptom] = true
	}
	s.known[key(s.moves(s.span(0, len(s.groups))))] = all
	s.known[key(nil)] = Result{Resolved: true}
	for _, symptom := range p.Symptoms {
		err := s.find(symptom)
		if errors.Is(err, ErrSpent) {
			s.answer.Spent = true
			break
		}
		if err != nil {
			return s.answer, err
		}
	}
	err := s.rest()
	if errors.Is(err, ErrSpent) {
		s.answer.Spent, err = true, nil
	}
	return s.answer, err
}

// find finds the culprit of a symptom.
func (s *search) find(symptom string) error {
	for i := range s.answer.Culprits { // another symptom's may be its own
		c := &s.answer.Culprits[i]
		r, known := s.known[key(union(c.Moves, c.With))]
		if known && r.Failing[symptom] {
			c.Symptoms = append(c.Symptoms, symptom)
			return nil
		}
	}
	var guilty []int // groups
	among := s.span(0, len(s.groups))
	for len(among) > 0 {
		fails, resolved, err := s.fails(symptom, guilty)
		if err != nil {
			return s.unfinished(symptom, guilty, among, err)
		}
		if resolved && fails {
			if len(guilty) == 0 {
				s.answer.Unstable = append(s.answer.Unstable, symptom)
				return nil
			}
			break
		}
		member, rest, err := s.next(symptom, guilty, among)
		if err != nil {
			return s.unfinished(symptom, guilty, member, err)
		}
		guilty, among = append(guilty, member...), rest
	}
	return s.confirm(symptom, guilty)
}

// confirm tries a culprit once more, before it is told, and then without each of its
// members: one that is not needed was taken for what an unstable symptom did.
func (s *search) confirm(symptom string, guilty []int) error {
	if len(guilty) < len(s.groups) {
		delete(s.known, key(s.moves(guilty)))
	}
	fails, resolved, err := s.fails(symptom, guilty)
	if err != nil {
		return s.unfinished(symptom, guilty, nil, err)
	}
	if resolved && !fails {
		s.answer.Unstable = append(s.answer.Unstable, symptom)
		return nil
	}
	for i := 0; i < len(guilty) && len(guilty) > 1; {
		without := slices.Delete(slices.Clone(guilty), i, i+1)
		fails, _, err := s.fails(symptom, without)
		if err != nil {
			return s.unfinished(symptom, guilty, nil, err)
		}
		if fails {
			guilty = without
		} else {
			i++
		}
	}
	s.found(symptom, guilty, true)
	return nil
}

// unfinished notes what is known when a search is broken off.
func (s *search) unfinished(symptom string, guilty, among []int, err error) error {
	if errors.Is(err, ErrSpent) || s.ctx.Err() != nil {
		s.found(symptom, union(guilty, among), false)
	}
	return err
}

// found notes a culprit, apart from what it cannot be made without.
func (s *search) found(symptom string, guilty []int, certain bool) {
	var moves []int
	for _, g := range guilty {
		moves = append(moves, s.groups[g]...)
	}
	slices.Sort(moves)
	var with []int
	for _, m := range s.moves(guilty) {
		if !slices.Contains(moves, m) {
			with = append(with, m)
		}
	}
	s.answer.Culprits = append(s.answer.Culprits, Culprit{Moves: moves, With: with, Symptoms: []string{symptom}, Certain: certain})
}

// next finds the next member of a culprit: the last of the shortest prefix of among
// that fails together with guilty. rest are those before it. Where parts of the
// prefix cannot be tried, the member is several groups.
func (s *search) next(symptom string, guilty, among []int) (member, rest []int, err error) {
	passes, fails := 0, len(among) // prefixes of these lengths do
	skip := map[int]bool{}         // lengths that cannot be tried
	for {
		s.tell(symptom, guilty, among[passes:fails])
		at := s.probes(passes, fails, skip)
		if len(at) == 0 {
			return slices.Clone(among[passes:fails]), slices.Clone(among[:passes]), nil
		}
		sets := make([][]int, len(at))
		for i, n := range at {
			sets[i] = union(guilty, among[:n])
		}
		if err := s.tryAll(sets); err != nil {
			return slices.Clone(among[passes:fails]), slices.Clone(among[:passes]), err
		}
		for i, n := range at {
			r := s.known[key(s.moves(sets[i]))]
			switch {
			case !r.Resolved:
				skip[n] = true
			case r.Failing[symptom] && n < fails:
				fails = n
			case !r.Failing[symptom] && n > passes && n < fails:
				passes = n
			}
		}
	}
}

// probes are the lengths to try between two that are known, as many as may be tried
// at a time, so that they part what is between evenly.
func (s *search) probes(passes, fails int, skip map[int]bool) (at []int) {
	var free []int
	for n := passes + 1; n < fails; n++ {
		if !skip[n] {
			free = append(free, n)
		}
	}
	count := min(max(1, s.Parallel), len(free))
	for i := range count {
		want := passes + (fails-passes)*(i+1)/(count+1)
		best := slices.MinFunc(free, func(a, b int) int { return abs(a-want) - abs(b-want) })
		if !slices.Contains(at, best) {
			at = append(at, best)
		}
	}
	return at
}

// fails tells whether a symptom shows with groups of moves.
func (s *search) fails(symptom string, groups []int) (fails, resolved bool, err error) {
	if err := s.tryAll([][]int{groups}); err != nil {
		return false, false, err
	}
	r := s.known[key(s.moves(groups))]
	return r.Failing[symptom], r.Resolved, nil
}

// tryAll tries the sets of groups that were not tried yet, at the same time.
func (s *search) tryAll(sets [][]int) error {
	var todo [][]int
	for _, groups := range sets {
		moves := s.moves(groups)
		_, known := s.known[key(moves)]
		if !known && !slices.ContainsFunc(todo, func(o []int) bool { return slices.Equal(o, moves) }) {
			todo = append(todo, moves)
		}
	}
	results := make([]Result, len(todo))
	errs := make([]error, len(todo))
	done := make(chan int)
	for i := range todo {
		go func() {
			results[i], errs[i] = s.try(s.ctx, todo[i])
			done <- i
		}()
	}
	for range todo {
		<-done
	}
	for i := range todo {
		if errs[i] != nil {
			continue
		}
		s.known[key(todo[i])] = results[i]
		if results[i].Resolved {
			s.answer.Trials++
		}
	}
	return errors.Join(errs...)
}

// rest finds the most moves that show none of the symptoms: all but one member of
// each culprit, or all but the culprits as a whole.
func (s *search) rest() error {
	s.keepBest()
	if len(s.answer.Culprits) == 0 || s.ctx.Err() != nil {
		return s.ctx.Err()
	}
	var one, every []int
	for _, c := range s.answer.Culprits {
		every = union(every, c.Moves)
		if !slices.ContainsFunc(c.Moves, func(m int) bool { return slices.Contains(one, m) }) {
			one = union(one, c.Moves[len(c.Moves)-1:])
		}
	}
	for _, without := range [][]int{one, every} {
		left := s.without(without)
		if len(left) <= len(s.answer.Rest) {
			break
		}
		if err := s.tryAll([][]int{left}); err != nil {
			return err
		}
		s.keepBest()
	}
	return nil
}

// keepBest notes the largest part that was seen to show no symptom.
func (s *search) keepBest() {
	for _, k := range slices.Sorted(maps.Keys(s.known)) {
		r := s.known[k]
		if moves := unkey(k); r.Resolved && !s.shows(r) && len(moves) > len(s.answer.Rest) {
			s.answer.Rest = moves
		}
	}
}

func (s *search) shows(r Result) bool {
	for symptom, seen := range r.Failing {
		if seen && !slices.Contains(s.answer.Unstable, symptom) {
			return true
		}
	}
	return false
}

// without are the groups that can be made without some moves.
func (s *search) without(moves []int) (groups []int) {
	for g := range s.groups {
		if !slices.ContainsFunc(s.moves([]int{g}), func(m int) bool { return slices.Contains(moves, m) }) {
			groups = append(groups, g)
		}
	}
	return groups
}

func (s *search) tell(symptom string, guilty, among []int) {
	if s.Tell != nil {
		s.Tell(Known{symptom, s.answer.Trials, s.direct(guilty), s.direct(among)})
	}
}

// direct are the moves of groups, without those that they need.
func (s *search) direct(groups []int) (moves []int) {
	for _, g := range groups {
		moves = append(moves, s.groups[g]...)
	}
	slices.Sort(moves)
	return moves
}

// group puts moves together that need each other, and orders them so that what
// others need comes first.
func (s *search) group() {
	closed := make([][]int, s.Moves)
	for m := range closed {
		closed[m] = s.closure(m)
	}
	order := s.span(0, s.Moves)
	slices.SortStableFunc(order, func(a, b int) int { return len(closed[a]) - len(closed[b]) })
	of := map[int]int{}
	for _, m := range order {
		if _, known := of[m]; known {
			continue
		}
		var together []int
		for _, o := range closed[m] {
			if slices.Contains(closed[o], m) {
				together = append(together, o)
				of[o] = len(s.groups)
			}
		}
		s.groups = append(s.groups, together)
	}
	for _, together := range s.groups {
		var needs []int
		for _, o := range closed[together[0]] {
			needs = union(needs, []int{of[o]})
		}
		s.needs = append(s.needs, needs)
	}
}

// closure is a move with all that it cannot be made without, directly or not.
func (s *search) closure(m int) []int {
	found := []int{m}
	for i := 0; i < len(found); i++ {
		if found[i] < len(s.Needs) {
			for _, o := range s.Needs[found[i]] {
				if !slices.Contains(found, o) {
					found = append(found, o)
				}
			}
		}
	}
	slices.Sort(found)
	return found
}

// moves are the moves of groups and of all that they need, ascending.
func (s *search) moves(groups []int) []int {
	var all []int
	for _, g := range groups {
		for _, n := range s.needs[g] {
			all = union(all, s.groups[n])
		}
	}
	return all
}

func (s *search) span(from, to int) (list []int) {
	for i := from; i < to; i++ {
		list = append(list, i)
	}
	return list
}

// union is two sets as one, ascending.
func union(a, b []int) []int {
	all := slices.Concat(a, b)
	slices.Sort(all)
	return slices.Compact(all)
}

func abs(n int) int { return max(n, -n) }

func key(moves []int) string { return strings.Trim(fmt.Sprint(moves), "[]") }

func unkey(k string) (moves []int) {
	for field := range strings.FieldsSeq(k) {
		n := 0
		for _, digit := range field {
			n = n*10 + int(digit-'0')
		}
		moves = append(moves, n)
	}
	return moves
}
