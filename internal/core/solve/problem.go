// Package solve finds versions that meet all constraints, or proves that none
// do. It knows no dialect: subjects have numbered candidates, constraints are
// bit sets over them.
//
// The method is conflict-driven: unit propagation, learned clauses with their
// causes, and backjumping, after the CDCL family of SAT solvers and Natalie
// Weizenbaum's description of version solving by incompatibilities (2018).
package solve

import (
	"context"
	"fmt"
	"strings"
)

// ID numbers a subject of a Problem, counted from 0.
type ID int

// Why gives the sentence that states a fact, without a full stop:
// "board/package.json:14 asks for tide-form ^6".
type Why func() string

// Term says that a subject is in one of some states.
type Term struct {
	Subject ID
	In      Set
}

// Series are facts of one kind about one subject, of which several are told in
// one sentence: what its releases need of another, each as it says.
type Series struct {
	// Say gives the sentence, without a full stop. Which are the releases that it is
	// about ("6.0.0 to 6.4.1"), wants is what they want, as AsEach writes it.
	Say func(which, wants string) string
	// Weak is that a proof goes without it where it can: it is about what need not be there.
	Weak bool
}

// Each says one fact of a series: what the releases want that its first term is
// about.
type Each struct {
	*Series
	Want  string
	About string // what else the fact is about, which is no subject; empty for nothing
}

// clause says that its terms do not all hold. A fact has a why, or is one of a
// series; a learned clause has the clauses that it follows from.
type clause struct {
	terms  []Term
	why    Why
	each   Each
	causes []*clause
}

type subject struct {
	name       string
	candidates []string // ascending
	order      []int    // candidates by preference; nil for newest first
	rank       int      // lower ranks are decided first
	clauses    []*clause
	expanded   Set
	all        Set // every state
}

func (s *subject) absent() int { return len(s.candidates) }
func (s *subject) states() int { return len(s.candidates) + 1 }

// Problem is a set of subjects and of facts about them.
type Problem struct {
	subjects []*subject
	facts    []*clause
	fresh    []*clause // facts that the running search has not looked at yet
	refuted  *clause   // a fact that rules everything out by itself
	// Expand, if set, is called once for each candidate that the search
	// chooses, before it goes on. It may add subjects and facts, so that only
	// what is looked at need be known.
	Expand func(s ID, candidate int) error
}

// Subject adds a subject whose candidates are given in ascending order.
func (p *Problem) Subject(name string, candidates []string) ID {
	s := &subject{name: name, candidates: candidates}
	s.expanded, s.all = newSet(s.states()), fullSet(s.states())
	p.subjects = append(p.subjects, s)
	return ID(len(p.subjects) - 1)
}

// Prefer sets the order in which candidates of s are tried; those left out
// come last, newest first.
func (p *Problem) Prefer(s ID, order []int) { p.subjects[s].order = order }

// Rank sets when s is decided: lower ranks first, 0 by default.
func (p *Problem) Rank(s ID, rank int) { p.subjects[s].rank = rank }

// Pick is the set of the candidates of s for which keep holds; never absence.
func (p *Problem) Pick(s ID, keep func(candidate int) bool) Set {
	set := newSet(p.subjects[s].states())
	for i := range p.subjects[s].candidates {
		if keep(i) {
			set.Add(i)
		}
	}
	return set
}

// Not is the complement of set, absence included.
func (p *Problem) Not(s ID, set Set) Set {
	return p.subjects[s].all.minus(set)
}

// Absent is the set that holds just the absence of s.
func (p *Problem) Absent(s ID) Set {
	set := newSet(p.subjects[s].states())
	set.Add(p.subjects[s].absent())
	return set
}

// Require states that s is in one of the states of in.
func (p *Problem) Require(s ID, in Set, why Why) {
	p.Forbid(why, Term{s, p.Not(s, in)})
}

// Imply states that while s is in one of the states of when, t is in one of
// the states of in.
func (p *Problem) Imply(s ID, when Set, t ID, in Set, why Why) {
	if s == t {
		p.Forbid(why, Term{s, when.minus(in)})
		return
	}
	p.Forbid(why, Term{s, when}, Term{t, p.Not(t, in)})
}

// ImplyEach is Imply for a fact of a series about s.
func (p *Problem) ImplyEach(each Each, s ID, when Set, t ID, in Set) {
	if s == t {
		p.ForbidEach(each, Term{s, when.minus(in)})
		return
	}
	p.ForbidEach(each, Term{s, when}, Term{t, p.Not(t, in)})
}

// Forbid states that the terms, each about another subject, do not all hold.
func (p *Problem) Forbid(why Why, terms ...Term) { p.state(&clause{why: why}, terms) }

// ForbidEach is Forbid for a fact of a series about the first term's subject.
func (p *Problem) ForbidEach(each Each, terms ...Term) { p.state(&clause{each: each}, terms) }

func (p *Problem) state(c *clause, terms []Term) {
	for _, t := range terms {
		if t.In.empty() {
			return // this term never holds
		}
		if t.In.Len() < p.subjects[t.Subject].states() {
			c.terms = append(c.terms, t)
		}
	}
	if len(c.terms) == 0 {
		p.refuted = c
	}
	p.facts = append(p.facts, c)
	p.fresh = append(p.fresh, c)
	p.attach(c)
}

func (p *Problem) attach(c *clause) {
	for _, t := range c.terms {
		s := p.subjects[t.Subject]
		s.clauses = append(s.clauses, c)
	}
}

// Solution is the chosen candidate of each subject, -1 for an absent one.
type Solution []int

// Conflict is the error of a Problem that has no solution.
type Conflict struct {
	problem *Problem
	root    *clause
}

// Refute is the conflict of facts that were found to contradict each other, each a sentence
// without a full stop. About is the subject that they are about.
func Refute(about string, facts ...string) *Conflict {
	p := &Problem{}
	id := p.Subject(about, facts)
	for i, fact := range facts {
		in := p.Not(id, p.Pick(id, func(c int) bool { return c == i }))
		if i == 0 {
			in = in.minus(p.Absent(id))
		}
		p.Require(id, in, func() string { return fact })
	}
	_, err := p.Solve(context.Background())
	return err.(*Conflict)
}

// Error is the proof, a sentence a line.
func (c *Conflict) Error() string {
	return "no versions meet all constraints:\n" + strings.Join(c.Proof().Lines(), "\n")
}

// Check tells, independently of the search, whether a solution breaks one of
// the facts stated so far.
func (p *Problem) Check(s Solution) error {
	for _, c := range p.facts {
		holds := true
		for _, t := range c.terms {
			state := s[t.Subject]
			if state < 0 {
				state = p.subjects[t.Subject].absent()
			}
			holds = holds && t.In.Has(state)
		}
		if holds {
			return fmt.Errorf("the solution breaks a constraint: %s", p.say([]*clause{c}, nil))
		}
	}
	return nil
}

// Solve finds a solution that follows the preferences where it can. The same
// problem always gives the same solution. The error is a *Conflict if there is
// none, else what Expand or ctx said.
func (p *Problem) Solve(ctx context.Context) (Solution, error) {
	return newSearch(p).run(ctx)
}
