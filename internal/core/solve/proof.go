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
	// Facts are the stated facts one by one where the sentence tells several.
	Facts []string
	holds []*clause // what it says
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

// Proof writes the conflict down, in as few facts as it takes. What is asked for
// comes first; after that the facts, each as far as it matters then.
func (c *Conflict) Proof() Proof {
	c = c.minimal()
	w := &proofWriter{problem: c.problem, numbers: map[*clause]int{}, uses: map[*clause]int{}, texts: map[string]int{}, allowed: map[ID]Set{}}
	w.groups, w.groupOf = c.groups()
	for _, g := range w.groups {
		if g[0].demand() {
			t := g[0].terms[0]
			w.allowed[t.Subject] = w.problem.within(t.Subject, w.allowed).minus(t.In)
		}
	}
	for _, g := range w.problem.arranged(w.groups) {
		w.fact(g)
	}
	if len(w.groups) == 1 {
		return w.proof
	}
	if len(w.groups) <= maxFlat {
		from := make([]int, len(w.proof))
		for i := range from {
			from[i] = i + 1
		}
		w.add(Sentence{Text: w.conclusion(&clause{}), From: from, holds: []*clause{{}}})
		return w.proof
	}
	w.count(c.root)
	w.write(c.root)
	return w.proof
}

// maxFlat is how many facts are told as they are, with nothing between them and
// the contradiction.
const maxFlat = 7

// demand tells whether c is a plain fact about one subject: what is asked for.
func (c *clause) demand() bool { return c.causes == nil && c.each.Series == nil && len(c.terms) == 1 }

// within are the states that a subject may be in.
func (p *Problem) within(id ID, allowed map[ID]Set) Set {
	if set, ok := allowed[id]; ok {
		return set
	}
	return p.subjects[id].all
}

// groups are the facts of a conflict, those together that one sentence tells, in
// the order in which they are come across; groupOf has the first of each.
func (c *Conflict) groups() (groups [][]*clause, groupOf map[*clause]*clause) {
	groupOf = map[*clause]*clause{}
	at := map[any]int{}
	for _, k := range c.leaves() {
		key := any(k)
		if k.each.Series != nil {
			key = k.each.Series
		}
		if i, known := at[key]; known {
			groups[i] = append(groups[i], k)
			groupOf[k] = groups[i][0]
			continue
		}
		at[key] = len(groups)
		groups = append(groups, []*clause{k})
		groupOf[k] = k
	}
	return groups, groupOf
}

// leaves are the facts that a conflict follows from, as they are come across.
func (c *Conflict) leaves() (facts []*clause) {
	c.walk(func(k *clause) {
		if k.causes == nil {
			facts = append(facts, k)
		}
	})
	return facts
}

// walk visits all clauses of a conflict once, each after those that it follows from.
func (c *Conflict) walk(visit func(k *clause)) {
	seen := map[*clause]bool{}
	var down func(k *clause)
	down = func(k *clause) {
		if seen[k] {
			return
		}
		seen[k] = true
		for _, cause := range k.causes {
			down(cause)
		}
		visit(k)
	}
	down(c.root)
}

// Subjects are the names of the subjects that the proof is about, sorted.
func (c *Conflict) Subjects() []string {
	var names []string
	c.walk(func(k *clause) {
		for _, t := range k.terms {
			names = append(names, c.problem.subjects[t.Subject].name)
		}
		if k.each.About != "" {
			names = append(names, k.each.About)
		}
	})
	slices.Sort(names)
	return slices.Compact(names)
}

// Asks are the pairs of subjects of which a series says that releases of the first
// need something of the second, each pair once.
func (c *Conflict) Asks() (pairs [][2]string) {
	groups, _ := c.groups()
	for _, k := range slices.Concat(groups...) {
		if k.each.Series == nil || len(k.terms) != 2 {
			continue
		}
		pair := [2]string{c.problem.subjects[k.terms[0].Subject].name, c.problem.subjects[k.terms[1].Subject].name}
		if !slices.Contains(pairs, pair) {
			pairs = append(pairs, pair)
		}
	}
	return pairs
}

type proofWriter struct {
	problem *Problem
	proof   Proof
	groups  [][]*clause
	groupOf map[*clause]*clause
	allowed map[ID]Set      // by what is asked for
	numbers map[*clause]int // of conclusions, and of groups by their first fact
	uses    map[*clause]int
	texts   map[string]int // facts that read the same are told once
}

func (w *proofWriter) add(s Sentence) int {
	s.Number = len(w.proof) + 1
	w.proof = append(w.proof, s)
	return s.Number
}

// arranged puts groups of facts in the order in which they are told: what is asked
// for by rank, then what is about something named by then, and what that leads to.
func (p *Problem) arranged(groups [][]*clause) (list [][]*clause) {
	groups = slices.Clone(groups)
	slices.SortStableFunc(groups, func(a, b []*clause) int {
		return cmp.Or(a[0].weight()-b[0].weight(), p.rank(a[0])-p.rank(b[0]))
	})
	about := map[ID][]int{} // groups by the subject that asks
	for i, g := range groups {
		if g[0].weight() > 0 && len(g[0].terms) > 0 {
			about[g[0].terms[0].Subject] = append(about[g[0].terms[0].Subject], i)
		}
	}
	done, named := make([]bool, len(groups)), map[ID]bool{}
	var queue []ID
	take := func(i int) {
		if done[i] {
			return
		}
		done[i] = true
		list = append(list, groups[i])
		for _, c := range groups[i] {
			for _, t := range c.terms {
				if !named[t.Subject] {
					named[t.Subject] = true
					queue = append(queue, t.Subject)
				}
			}
		}
	}
	for i, g := range groups {
		if g[0].weight() == 0 {
			take(i)
		}
	}
	for i := range groups {
		for len(queue) > 0 {
			id := queue[0]
			queue = queue[1:]
			for _, k := range about[id] {
				take(k)
			}
		}
		take(i)
	}
	return list
}

func (w *proofWriter) fact(g []*clause) {
	text := w.problem.say(g, w.allowed)
	n, told := w.texts[text]
	if !told {
		s := Sentence{Text: text}
		for _, c := range g {
			for _, t := range c.terms {
				if name := w.problem.subjects[t.Subject].name; !slices.Contains(s.About, name) {
					s.About = append(s.About, name)
				}
			}
			if len(g) > 1 {
				s.Facts = append(s.Facts, w.problem.say([]*clause{c}, nil))
			}
		}
		n = w.add(s)
		w.texts[text] = n
	}
	w.numbers[g[0]] = n
	w.proof[n-1].holds = append(w.proof[n-1].holds, g...)
}

// say tells facts in one sentence: a single one, or several of a series. Of the
// releases that a series is about, those are named that allowed admits.
func (p *Problem) say(facts []*clause, allowed map[ID]Set) string {
	first := facts[0]
	if first.each.Series == nil {
		return first.why()
	}
	id := first.terms[0].Subject
	s, may := p.subjects[id], p.within(id, allowed)
	told := slices.DeleteFunc(slices.Clone(facts), func(c *clause) bool { return c.terms[0].In.apart(may) })
	if len(told) == 0 {
		told, may = facts, s.all
	}
	slices.SortStableFunc(told, func(a, b *clause) int { return a.terms[0].In.and(may).first() - b.terms[0].In.and(may).first() })
	which := newSet(s.states())
	var wants []string
	for _, c := range told {
		which = which.or(c.terms[0].In.and(may))
		if !slices.Contains(wants, c.each.Want) {
			wants = append(wants, c.each.Want)
		}
	}
	return first.each.Say(Runs(s.candidates, which.Has), AsEach(wants))
}

// AsEach writes what several releases want, those of the oldest first.
func AsEach(wants []string) string {
	switch {
	case len(wants) == 1:
		return wants[0]
	case len(wants) > 3:
		return fmt.Sprintf("%s, later %s … %s,", wants[0], wants[1], wants[len(wants)-1])
	}
	return strings.Join(wants, ", later ") + ","
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

// write tells a conclusion, after what it follows from, and gives its number, or
// that of the one sentence that says it all. Facts are told already.
func (w *proofWriter) write(c *clause) int {
	if c.causes == nil {
		return w.numbers[w.groupOf[c]]
	}
	if n, done := w.numbers[c]; done {
		return n
	}
	var from []int
	for _, premise := range w.premises(c) {
		if n := w.write(premise); !slices.Contains(from, n) {
			from = append(from, n)
		}
	}
	slices.Sort(from)
	n := from[0]
	if len(from) > 1 || len(c.terms) == 0 {
		n = w.add(Sentence{Text: w.conclusion(c), From: from, holds: []*clause{c}})
	}
	w.numbers[c] = n
	return n
}

// premises are the clauses that c is told to follow from: its causes, with
// those of intermediate conclusions in their place while they stay few.
func (w *proofWriter) premises(c *clause) []*clause {
	list := slices.Clone(c.causes)
	for changed := true; changed; {
		changed = false
		for i, p := range list {
			if p.causes == nil || w.uses[p] > 1 {
				continue
			}
			if longer := slices.Concat(list[:i], p.causes, list[i+1:]); w.sentences(longer) <= max(maxPremises, w.sentences(list)) {
				list, changed = longer, true
				break
			}
		}
	}
	return list
}

// sentences is in how many sentences clauses are told.
func (w *proofWriter) sentences(list []*clause) int {
	told := map[*clause]bool{}
	for _, c := range list {
		if c.causes == nil {
			c = w.groupOf[c]
		}
		told[c] = true
	}
	return len(told)
}

// rank is that of the subject of a demand, 0 for other clauses.
func (p *Problem) rank(c *clause) int {
	if c.weight() > 0 || len(c.terms) == 0 {
		return 0
	}
	return p.subjects[c.terms[0].Subject].rank
}

// weight orders facts: what is asked for comes before what is needed.
func (c *clause) weight() int {
	if c.demand() {
		return 0
	}
	return 1
}

// conclusion says in words what a learned clause rules out.
func (w *proofWriter) conclusion(c *clause) string {
	var needs, haves []string
	for _, t := range c.terms {
		s := w.problem.subjects[t.Subject]
		if t.In.Has(s.absent()) {
			needs = append(needs, s.describe(w.told(t.Subject, w.problem.Not(t.Subject, t.In))))
		} else {
			haves = append(haves, s.describe(w.told(t.Subject, t.In)))
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

// told is the part of a set that what is asked for admits, if there is any.
func (w *proofWriter) told(id ID, set Set) Set {
	if part := set.and(w.problem.within(id, w.allowed)); !part.empty() {
		return part
	}
	return set
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
