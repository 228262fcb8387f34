package solve

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Sentence is one step of a proof.
type Sentence struct {
	Number int
	Text   string
	From   []int // the numbers it follows from; none for a stated fact
	// About are the names of the subjects that a stated fact is about, the one
	// that asks first.
	About []string
}

// Proof is why a problem has no solution: numbered sentences, each a stated
// fact or what follows from earlier ones; the last is the contradiction.
type Proof []Sentence

// Lines gives the sentences as text, one a line.
func (p Proof) Lines() []string {
	lines := make([]string, len(p))
	for i, s := range p {
		lines[i] = fmt.Sprintf("%d. %s.", s.Number, s.Text)
		switch {
		case len(s.From) > 0 && i == len(p)-1:
			lines[i] = fmt.Sprintf("%d. So %s cannot all hold.", s.Number, numberList(s.From))
		case len(s.From) > 0:
			lines[i] = fmt.Sprintf("%d. So, from %s: %s.", s.Number, numberList(s.From), s.Text)
		}
	}
	return lines
}

func numberList(numbers []int) string {
	texts := make([]string, len(numbers))
	for i, n := range numbers {
		texts[i] = fmt.Sprint(n)
	}
	return joinAnd(texts)
}

func joinAnd(texts []string) string {
	if len(texts) < 2 {
		return strings.Join(texts, "")
	}
	return strings.Join(texts[:len(texts)-1], ", ") + " and " + texts[len(texts)-1]
}

// Proof writes the conflict down. Chains of conclusions of which only the
// last is needed are told as one step from all their facts.
func (c *Conflict) Proof() Proof {
	w := &proofWriter{problem: c.problem, numbers: map[*clause]int{}, uses: map[*clause]int{}, texts: map[string]int{}}
	w.count(c.root)
	w.write(c.root)
	return w.proof
}

// Subjects are the names of the subjects that the proof is about, sorted.
func (c *Conflict) Subjects() []string {
	var names []string
	seen := map[*clause]bool{}
	var visit func(k *clause)
	visit = func(k *clause) {
		if seen[k] {
			return
		}
		seen[k] = true
		for _, t := range k.terms {
			names = append(names, c.problem.subjects[t.Subject].name)
		}
		for _, cause := range k.causes {
			visit(cause)
		}
	}
	visit(c.root)
	slices.Sort(names)
	return slices.Compact(names)
}

type proofWriter struct {
	problem *Problem
	proof   Proof
	numbers map[*clause]int
	uses    map[*clause]int
	texts   map[string]int // facts that read the same are told once
}

func (w *proofWriter) count(c *clause) {
	w.uses[c]++
	if w.uses[c] > 1 {
		return
	}
	for _, cause := range c.causes {
		w.count(cause)
	}
}

// maxPremises bounds how many sentences a conclusion is drawn from at once.
const maxPremises = 4

// write tells c, after what it follows from, and gives its number.
func (w *proofWriter) write(c *clause) int {
	if n, done := w.numbers[c]; done {
		return n
	}
	var from []int
	var about []string
	text := ""
	if c.causes == nil {
		for _, t := range c.terms {
			about = append(about, w.problem.subjects[t.Subject].name)
		}
		text = c.why()
		if n, told := w.texts[text]; told {
			w.numbers[c] = n
			return n
		}
		w.texts[text] = len(w.proof) + 1
	} else {
		for _, premise := range w.premises(c) {
			n := w.write(premise)
			if !slices.Contains(from, n) {
				from = append(from, n)
			}
		}
		text = w.conclusion(c)
	}
	n := len(w.proof) + 1
	w.numbers[c] = n
	w.proof = append(w.proof, Sentence{n, text, from, about})
	return n
}

// premises are the clauses that c is told to follow from: its causes, with
// those of intermediate conclusions in their place while they stay few.
func (w *proofWriter) premises(c *clause) []*clause {
	list := slices.Clone(c.causes)
	for changed := true; changed; {
		changed = false
		for i, p := range list {
			if p.causes == nil || w.uses[p] > 1 || len(list)+len(p.causes)-1 > maxPremises {
				continue
			}
			list = slices.Replace(list, i, i+1, p.causes...)
			changed = true
			break
		}
	}
	// What is asked for stands before what follows from it.
	slices.SortStableFunc(list, func(a, b *clause) int {
		return cmp.Or(a.weight()-b.weight(), w.rank(a)-w.rank(b))
	})
	return list
}

// rank is that of the subject of a demand, 0 for other clauses.
func (w *proofWriter) rank(c *clause) int {
	if c.weight() > 0 || len(c.terms) == 0 {
		return 0
	}
	return w.problem.subjects[c.terms[0].Subject].rank
}

// weight orders premises: plain demands, then other facts, then conclusions.
func (c *clause) weight() int {
	switch {
	case c.causes != nil:
		return 2
	case len(c.terms) > 1:
		return 1
	}
	return 0
}

// conclusion says in words what a learned clause rules out.
func (w *proofWriter) conclusion(c *clause) string {
	var needs, haves []string
	for _, t := range c.terms {
		s := w.problem.subjects[t.Subject]
		if t.In.Has(s.absent()) {
			needs = append(needs, s.describe(w.problem.Not(t.Subject, t.In)))
		} else {
			haves = append(haves, s.describe(t.In))
		}
	}
	switch {
	case len(c.terms) == 0:
		return "these cannot all hold"
	case len(haves) == 0:
		return "needed is " + strings.Join(needs, " or ")
	case len(needs) == 0 && len(haves) == 1:
		return haves[0] + " cannot be used"
	case len(needs) == 0:
		return joinAnd(haves) + " cannot go together"
	default:
		return joinAnd(haves) + " needs " + strings.Join(needs, " or ")
	}
}

// describe names the subject and the versions of set as runs:
// "tide-form 6.0.0 to 6.4.1".
func (s *subject) describe(set Set) string {
	text := Runs(s.candidates, set.Has)
	if text == "" {
		return s.name + " (no version at all)"
	}
	return s.name + " " + text
}

// Runs writes the versions for which in holds as runs of neighbours:
// "1.0.0 to 1.4.2 or 2.0.0", or "any version" for all of several.
func Runs(versions []string, in func(i int) bool) string {
	var runs []string
	count := 0
	for i := 0; i < len(versions); i++ {
		if !in(i) {
			continue
		}
		first := i
		for i+1 < len(versions) && in(i+1) {
			i++
		}
		count += i - first + 1
		if first == i {
			runs = append(runs, versions[first])
		} else {
			runs = append(runs, versions[first]+" to "+versions[i])
		}
	}
	if count == len(versions) && count > 1 {
		return "in any version"
	}
	if len(runs) > 4 {
		runs = append(runs[:3], fmt.Sprintf("%d more runs of versions", len(runs)-3))
	}
	return strings.Join(runs, " or ")
}
