package solve

import (
	"context"
	"errors"
	"slices"
)

// around are the facts of a conflict, and all others about the same subjects: there
// may be a shorter way among them.
func (c *Conflict) around() *Conflict {
	leaves := c.leaves()
	about, known := map[ID]bool{}, map[*clause]bool{}
	for _, k := range leaves {
		known[k] = true
		for _, t := range k.terms {
			about[t.Subject] = true
		}
	}
	wider := &clause{causes: leaves}
	for _, k := range c.problem.facts {
		if !known[k] && !slices.ContainsFunc(k.terms, func(t Term) bool { return !about[t.Subject] }) {
			wider.causes = append(wider.causes, k)
		}
	}
	return &Conflict{c.problem, wider}
}

// maxMinimised bounds of how many facts a conflict is made smaller, and
// maxSentences of how many sentences.
const (
	maxMinimised = 2000
	maxSentences = 200
)

// minimal is a conflict of which no sentence can be left out: of what is left where
// the last is left out first, and where the first is, the shorter. What is weak is
// left out before all else. A conflict of very many facts stays as it is.
func (c *Conflict) minimal() *Conflict {
	wider := c.around()
	if all := c.all(); slices.ContainsFunc(c.leaves(), (*clause).weak) && len(all.root.causes) <= maxMinimised {
		if groups, _ := all.groups(); len(groups) <= maxSentences {
			wider = all // what has to be there may be about others
		}
	}
	groups, _ := wider.groups()
	if len(wider.root.causes) > maxMinimised || len(groups) > maxSentences {
		groups, _ = c.groups()
	}
	if len(groups) > maxSentences || len(slices.Concat(groups...)) > maxMinimised {
		return c
	}
	groups = c.problem.arranged(groups)
	fromLast := c.without(weakLast(groups))
	slices.Reverse(groups)
	fromFirst := c.without(weakLast(groups))
	long, _ := fromLast.groups()
	if short, _ := fromFirst.groups(); len(short) < len(long) {
		return fromFirst
	}
	return fromLast
}

// weakLast puts the weak groups of facts behind the others. Apart from that, the order stays.
func weakLast(groups [][]*clause) [][]*clause {
	groups = slices.Clone(groups)
	slices.SortStableFunc(groups, func(a, b []*clause) int {
		switch x, y := a[0].weak(), b[0].weak(); {
		case x && !y:
			return 1
		case y && !x:
			return -1
		}
		return 0
	})
	return groups
}

// weak is whether a proof goes without the fact where it can.
func (c *clause) weak() bool { return c.each.Series != nil && c.each.Weak }

// all are the facts of a conflict first, and then all others that are stated.
func (c *Conflict) all() *Conflict {
	leaves := c.leaves()
	known := map[*clause]bool{}
	for _, k := range leaves {
		known[k] = true
	}
	wider := &clause{causes: leaves}
	for _, k := range c.problem.facts {
		if !known[k] {
			wider.causes = append(wider.causes, k)
		}
	}
	return &Conflict{c.problem, wider}
}

// without is a conflict of what is left of groups of facts when all are left out
// that can be, the last one first.
func (c *Conflict) without(groups [][]*clause) *Conflict {
	for i := len(groups) - 1; i >= 0; i-- {
		smaller := c.problem.refute(slices.Concat(slices.Concat(groups[:i]...), slices.Concat(groups[i+1:]...)))
		if smaller == nil {
			continue
		}
		c = smaller
		kept := map[*clause]bool{}
		for _, k := range smaller.leaves() {
			kept[k] = true
		}
		before := 0 // groups still to be looked at
		var rest [][]*clause
		for g, group := range groups {
			group = slices.DeleteFunc(slices.Clone(group), func(k *clause) bool { return !kept[k] })
			if len(group) > 0 {
				rest = append(rest, group)
				if g < i {
					before++
				}
			}
		}
		groups, i = rest, before
	}
	return c
}

// refute is the conflict of some facts, nil if there is none.
func (p *Problem) refute(facts []*clause) *Conflict {
	part := &Problem{facts: facts, subjects: make([]*subject, len(p.subjects))}
	nothing := &subject{all: fullSet(1)} // in the place of those that no fact is about
	for id := range part.subjects {
		part.subjects[id] = nothing
	}
	for _, c := range facts {
		for _, t := range c.terms {
			if s := p.subjects[t.Subject]; part.subjects[t.Subject] == nothing {
				part.subjects[t.Subject] = &subject{name: s.name, candidates: s.candidates, rank: s.rank, expanded: s.expanded, all: s.all}
			}
		}
		if len(c.terms) == 0 {
			part.refuted = c
		}
		part.attach(c)
	}
	_, err := part.Solve(context.Background())
	var conflict *Conflict
	if !errors.As(err, &conflict) {
		return nil
	}
	return conflict
}
