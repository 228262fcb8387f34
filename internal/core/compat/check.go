package compat

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
)

// Remark is what there is to say against a rule that can be read.
type Remark struct {
	Rule  *Rule
	Lines []string // an example, as it is and as it should be
	Line  int      // where it is seen, if not at the rule's own line; 0 for there
	Text  string
	Proof []string // where it follows from other rules
}

// At is the line of what the remark is about.
func (r Remark) At() int { return cmp.Or(r.Line, r.Rule.Line) }

// Check looks for rules that can never apply, ranges that nothing is in, rules
// that contradict each other, and needs that go round in a circle.
func Check(ctx context.Context, b *Book, orders Orders) ([]Remark, error) {
	c := &checker{book: b, orders: orders, by: map[model.Subject][]*Rule{}}
	for _, r := range b.Rules {
		for _, w := range r.When {
			if r.Kind == Needs || r.Kind == Clashes {
				c.by[w.Subject] = append(c.by[w.Subject], r)
			}
		}
	}
	for _, r := range b.Rules {
		if r.Repair != nil {
			problems, err := r.Repair.CheckExamples(ctx)
			var fault *model.Fault
			if errors.As(err, &fault) {
				c.say(r, "%s", fault.Wrong)
			} else if err != nil {
				return nil, err
			}
			for _, p := range problems {
				c.remarks = append(c.remarks, Remark{Rule: r, Line: p.Line, Text: p.Text, Lines: p.Lines})
			}
		}
		if c.plain(r) {
			if err := c.possible(ctx, r); err != nil {
				return nil, err
			}
		}
	}
	c.circles()
	slices.SortStableFunc(c.remarks, func(a, b Remark) int { return cmp.Compare(a.At(), b.At()) })
	return c.remarks, nil
}

type checker struct {
	book    *Book
	orders  Orders
	by      map[model.Subject][]*Rule // the rules that a subject is a condition of
	remarks []Remark
}

func (c *checker) say(r *Rule, format string, args ...any) {
	c.remarks = append(c.remarks, Remark{Rule: r, Text: fmt.Sprintf(format, args...)})
}

// plain looks at a rule by itself; it tells whether nothing is wrong with it.
func (c *checker) plain(r *Rule) bool {
	if r.Foreign != "" {
		c.say(r, "it never applies, since %q is no ecosystem that is known here", r.Foreign)
		return false
	}
	fine := true
	for _, k := range slices.Concat(slices.Concat(r.Ways()...), r.Then) {
		if k.Range != nil && len(version.Bounds(c.orders(k.Subject.Kind), k.Range)) == 0 {
			c.say(r, "no version at all is in %s", k)
			fine = false
		}
	}
	if r.Kind == Stepwise || r.Kind == Together {
		for i, s := range r.Subjects {
			if slices.Contains(r.Subjects[:i], s) {
				c.say(r, "it names %s twice", s)
				fine = false
			}
		}
	}
	if r.Kind == Replaced && r.Old.Kind != r.New.Kind {
		c.say(r, "it never applies, since %s and %s are of different ecosystems", r.Old, r.New)
	}
	return fine
}

// maxReached bounds how many rules are looked at together.
const maxReached = 300

// possible sees that a rule's conditions can hold beside the rules that they
// lead to.
func (c *checker) possible(ctx context.Context, r *Rule) error {
	if r.Kind != Needs {
		return nil
	}
	rules := c.reached(r)
	q := &Question{Orders: c.orders, Rules: rules}
	seen := map[model.Subject]*Subject{}
	for _, rule := range rules {
		for _, k := range slices.Concat(rule.When, rule.Then) {
			if k.Range == nil || c.orders(k.Subject.Kind) == nil {
				continue
			}
			if seen[k.Subject] == nil {
				seen[k.Subject] = &Subject{Subject: k.Subject}
				q.Subjects = append(q.Subjects, seen[k.Subject])
			}
			if !k.Subject.IsPin() {
				seen[k.Subject].Candidates = append(seen[k.Subject].Candidates, version.Bounds(c.orders(k.Subject.Kind), k.Range)...)
			}
		}
	}
	for _, k := range r.When {
		seen[k.Subject].Allow = func(v version.Version) bool { return k.Range == nil || k.Range.Contains(v) }
		seen[k.Subject].Why = fmt.Sprintf("the rule %s is about %s", r.ID, k)
	}
	_, err := q.Answer(ctx)
	var conflict *solve.Conflict
	if errors.As(err, &conflict) {
		c.remarks = append(c.remarks, Remark{Rule: r, Text: "what it needs can never be had", Proof: conflict.Proof().Lines()})
		return nil
	}
	return err
}

// reached are a rule and those that its needs lead to.
func (c *checker) reached(r *Rule) []*Rule {
	list := []*Rule{r}
	in := map[*Rule]bool{r: true}
	for i := 0; i < len(list) && len(list) < maxReached; i++ {
		for _, k := range slices.Concat(list[i].When, list[i].Then) {
			for _, next := range c.by[k.Subject] {
				if !in[next] && next.Foreign == "" && len(list) < maxReached {
					in[next] = true
					list = append(list, next)
				}
			}
		}
	}
	return list
}

// circles finds needs that lead back to where they come from, each circle once.
func (c *checker) circles() {
	const unseen, open, done = 0, 1, 2
	state := map[*Rule]int{}
	var path []*Rule
	var visit func(r *Rule)
	visit = func(r *Rule) {
		state[r] = open
		path = append(path, r)
		for _, then := range r.Then {
			for _, next := range c.by[then.Subject] {
				if next.Kind != Needs || next.Foreign != "" || !c.meet(next, then) {
					continue
				}
				switch state[next] {
				case unseen:
					visit(next)
				case open:
					c.circle(path[slices.Index(path, next):])
				}
			}
		}
		path = path[:len(path)-1]
		state[r] = done
	}
	for _, r := range c.book.Rules {
		if r.Kind == Needs && r.Foreign == "" && state[r] == unseen {
			visit(r)
		}
	}
}

// meet tells whether what is needed can be what a rule is about.
func (c *checker) meet(r *Rule, need Condition) bool {
	for _, w := range r.When {
		if w.Subject != need.Subject || w.Range == nil || need.Range == nil {
			continue
		}
		order := c.orders(w.Subject.Kind)
		for _, v := range slices.Concat(version.Bounds(order, w.Range), version.Bounds(order, need.Range)) {
			if w.Range.Contains(v) && need.Range.Contains(v) {
				return true
			}
		}
	}
	return false
}

func (c *checker) circle(rules []*Rule) {
	var steps []string
	for _, r := range rules {
		steps = append(steps, fmt.Sprintf("%s (%s, line %d)", r.When[0].Subject, r.ID, r.Line))
	}
	steps = append(steps, rules[0].When[0].Subject.String())
	first := slices.MinFunc(rules, func(a, b *Rule) int { return a.Line - b.Line })
	c.say(first, "the needs go round in a circle: %s", strings.Join(steps, " needs "))
}
