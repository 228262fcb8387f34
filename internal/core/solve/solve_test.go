package solve

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rule is a constraint in the test's own words: while subject s is at a
// candidate in when, subject t is at one in in, or may be absent.
type rule struct {
	s, t     int
	when, in []bool
	absentOK bool
}

// universe is a random small problem in plain data, which both the solver and
// the brute force read.
type universe struct {
	sizes    []int
	required []int
	rules    []rule
}

// The shapes of random universes.
const (
	flat   = iota // any package needs any other
	nested        // packages need those after them, as libraries need lower ones
	peers         // a few packages that all others want to meet in narrow ranges
	shapes
)

func randomUniverse(rng *rand.Rand, shape int) universe {
	u := universe{}
	for range 2 + rng.IntN(5) {
		u.sizes = append(u.sizes, 1+rng.IntN(4))
	}
	n := len(u.sizes)
	pick := func(n int, chance float64) []bool {
		set := make([]bool, n)
		for i := range set {
			set[i] = rng.Float64() < chance
		}
		return set
	}
	for range 1 + rng.IntN(2) {
		u.required = append(u.required, rng.IntN(n))
	}
	for range rng.IntN(14) {
		s, t := rng.IntN(n), rng.IntN(n)
		switch shape {
		case nested:
			s, t = min(s, t), max(s, t)
		case peers:
			t = rng.IntN(1 + n/3)
		}
		if s == t {
			continue
		}
		when, in := pick(u.sizes[s], 0.5), pick(u.sizes[t], 0.4)
		if shape == peers { // each release wants its own
			for i := range when {
				one := make([]bool, len(when))
				one[i] = true
				u.rules = append(u.rules, rule{s, t, one, pick(u.sizes[t], 0.5), rng.IntN(3) == 0})
			}
			continue
		}
		u.rules = append(u.rules, rule{s, t, when, in, rng.IntN(4) == 0})
	}
	return u
}

func (u universe) holds(state []int) bool {
	for _, r := range u.required {
		if state[r] < 0 {
			return false
		}
	}
	for _, r := range u.rules {
		if state[r.s] < 0 || !r.when[state[r.s]] {
			continue
		}
		if state[r.t] < 0 && !r.absentOK || state[r.t] >= 0 && !r.in[state[r.t]] {
			return false
		}
	}
	return true
}

// solvable tries every combination.
func (u universe) solvable() bool {
	state := make([]int, len(u.sizes))
	var try func(i int) bool
	try = func(i int) bool {
		if i == len(state) {
			return u.holds(state)
		}
		for state[i] = -1; state[i] < u.sizes[i]; state[i]++ {
			if try(i + 1) {
				return true
			}
		}
		return false
	}
	return try(0)
}

// problem states u to the solver; lazily if lazy is set, so that rules become
// known only as candidates are chosen.
func (u universe) problem(lazy bool) *Problem {
	p := &Problem{}
	for i, n := range u.sizes {
		p.Subject(fmt.Sprintf("p%d", i), versions(n))
	}
	for _, r := range u.required {
		p.Require(ID(r), p.Pick(ID(r), func(int) bool { return true }), func() string { return fmt.Sprintf("the project asks for p%d", r) })
	}
	series := map[[2]int]*Series{}
	state := func(r rule) {
		key := [2]int{r.s, r.t}
		if series[key] == nil {
			series[key] = &Series{Say: func(which, wants string) string { return fmt.Sprintf("p%d %s needs p%d %s", r.s, which, r.t, wants) }}
		}
		when := p.Pick(ID(r.s), func(i int) bool { return r.when[i] })
		in := p.Pick(ID(r.t), func(i int) bool { return r.in[i] })
		if r.absentOK {
			in = in.or(p.Absent(ID(r.t)))
		}
		p.ImplyEach(Each{Series: series[key], Want: fmt.Sprint(r.in, r.absentOK)}, ID(r.s), when, ID(r.t), in)
	}
	if !lazy {
		for _, r := range u.rules {
			state(r)
		}
		return p
	}
	told := map[int]bool{}
	p.Expand = func(s ID, candidate int) error {
		for i, r := range u.rules {
			if r.s == int(s) && r.when[candidate] && !told[i] {
				told[i] = true
				state(r)
			}
		}
		return nil
	}
	return p
}

func versions(n int) []string {
	names := make([]string, n)
	for i := range names {
		names[i] = fmt.Sprintf("%d.0.0", i+1)
	}
	return names
}

// TestAgainstBruteForce compares the solver with a search of all combinations
// on random small problems, and checks each solution on its own.
func TestAgainstBruteForce(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	unsolvable := 0
	for n := range 20000 {
		u := randomUniverse(rng, n/2%shapes)
		p := u.problem(n%2 == 1)
		solution, err := p.Solve(context.Background())
		if !u.solvable() {
			unsolvable++
			var conflict *Conflict
			require.ErrorAs(t, err, &conflict, "problem %d: %+v", n, u)
			checkProof(t, conflict)
			continue
		}
		require.NoError(t, err, "problem %d: %+v", n, u)
		require.NoError(t, p.Check(solution))
		require.True(t, u.holds(solution), "problem %d: %+v: %v", n, u, solution)
	}
	assert.Greater(t, unsolvable, 2000, "the generator must make both kinds")
}

// checkProof goes through a proof sentence by sentence, as a reader does who knows
// only what is told: each conclusion must follow from the sentences that it names
// and from what was asked for before, and the last must rule out everything. Of
// the facts none may be left out.
func checkProof(t *testing.T, c *Conflict) {
	t.Helper()
	proof := c.Proof()
	require.NotEmpty(t, proof)
	var asked, told []*clause
	for i, s := range proof {
		require.Equal(t, i+1, s.Number)
		if len(s.From) == 0 {
			for _, k := range s.holds {
				require.Nil(t, k.causes, "a fact is stated, not drawn")
				told = append(told, k)
				if k.demand() {
					asked = append(asked, k)
				}
			}
			continue
		}
		premises := slices.Clone(asked)
		for _, n := range s.From {
			require.Less(t, n, s.Number)
			premises = append(premises, proof[n-1].holds...)
		}
		require.Len(t, s.holds, 1)
		require.True(t, follows(c.problem, s.holds[0], premises), "%d. does not follow from %v: %v", s.Number, s.From, proof.Lines())
	}
	require.True(t, follows(c.problem, &clause{}, told), "the facts can all hold: %v", proof.Lines())
	for i, s := range proof {
		if len(s.From) > 0 {
			continue
		}
		var rest []*clause
		for k, o := range proof {
			if k != i && len(o.From) == 0 {
				rest = append(rest, o.holds...)
			}
		}
		require.False(t, follows(c.problem, &clause{}, rest), "%d. is not needed: %v", s.Number, proof.Lines())
	}
}

// follows tries all states: none breaks k, but none of the premises.
func follows(p *Problem, k *clause, premises []*clause) bool {
	var ids []ID
	for _, c := range append([]*clause{k}, premises...) {
		for _, t := range c.terms {
			if !slices.Contains(ids, t.Subject) {
				ids = append(ids, t.Subject)
			}
		}
	}
	state := map[ID]int{}
	violates := func(c *clause) bool {
		return !slices.ContainsFunc(c.terms, func(t Term) bool { return !t.In.Has(state[t.Subject]) })
	}
	var try func(i int) bool
	try = func(i int) bool {
		if i == len(ids) {
			return !violates(k) || slices.ContainsFunc(premises, violates)
		}
		for v := range p.subjects[ids[i]].states() {
			state[ids[i]] = v
			if !try(i + 1) {
				return false
			}
		}
		return true
	}
	return try(0)
}

func TestPreferences(t *testing.T) {
	p := &Problem{}
	a, b := p.Subject("a", versions(5)), p.Subject("b", versions(3))
	any := func(int) bool { return true }
	p.Require(a, p.Pick(a, any), func() string { return "a is asked for" })
	p.Require(b, p.Pick(b, any), func() string { return "b is asked for" })
	p.Prefer(a, []int{2})
	p.Imply(
		b, p.Pick(b, func(i int) bool { return i == 2 }), a, p.Pick(a, func(i int) bool { return i == 4 }),
		func() string { return "b 3 needs a 5" },
	)
	p.Rank(a, -1)
	s, err := p.Solve(context.Background())
	require.NoError(t, err)
	assert.Equal(t, Solution{2, 1}, s, "a keeps its preference, b takes the newest that goes with it")
}

func TestProofReads(t *testing.T) {
	p := &Problem{}
	frame, form := p.Subject("quayside", versions(3)), p.Subject("tide-form", versions(2))
	p.Require(frame, p.Pick(frame, func(i int) bool { return i == 0 }), func() string { return "board/package.json:11 asks for quayside ^1" })
	p.Require(form, p.Pick(form, func(i int) bool { return i == 1 }), func() string { return "board/package.json:14 asks for tide-form ^2" })
	p.Imply(
		form, p.Pick(form, func(i int) bool { return i == 1 }), frame, p.Pick(frame, func(i int) bool { return i == 2 }),
		func() string { return "tide-form 2.0.0 needs quayside ^3 as a peer" },
	)
	_, err := p.Solve(context.Background())
	var conflict *Conflict
	require.ErrorAs(t, err, &conflict)
	text := strings.Join(conflict.Proof().Lines(), "\n")
	for _, fact := range []string{"package.json:11", "package.json:14", "as a peer", "So 1, 2 and 3 cannot all hold"} {
		assert.Contains(t, text, fact)
	}
}

func TestCancelled(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err := randomUniverse(rand.New(rand.NewPCG(1, 1)), flat).problem(false).Solve(ctx)
	assert.ErrorIs(t, err, context.Canceled)
}

// ladder is an unsolvable problem of n packages with 50 versions each: every
// package must be at the version of the one before it, the last one above.
func ladder(n int) *Problem {
	const size = 50
	p := &Problem{}
	for i := range n {
		p.Subject(fmt.Sprintf("p%d", i), versions(size))
	}
	why := func() string { return "stated" }
	p.Require(0, p.Pick(0, func(int) bool { return true }), why)
	for i := range n - 1 {
		for v := range size {
			p.Imply(
				ID(i), p.Pick(ID(i), func(c int) bool { return c == v }), ID(i+1),
				p.Pick(ID(i+1), func(c int) bool { return c == v || c == v+1 }), why,
			)
		}
	}
	last := ID(n - 1)
	for v := range size {
		p.Imply(last, p.Pick(last, func(c int) bool { return c == v }), 0, p.Pick(0, func(c int) bool { return c > v }), why)
	}
	return p
}

func BenchmarkUnsolvable1000x50(b *testing.B) {
	for b.Loop() {
		var conflict *Conflict
		_, err := ladder(1000).Solve(context.Background())
		require.ErrorAs(b, err, &conflict)
		require.NotEmpty(b, conflict.Proof())
	}
}

// maze is an unsolvable problem of n packages with 50 versions each that takes
// decisions to refute: random wide dependencies around a small knot.
func maze(n int) *Problem {
	const size = 50
	rng := rand.New(rand.NewPCG(3, 4))
	p := &Problem{}
	for i := range n {
		p.Subject(fmt.Sprintf("p%d", i), versions(size))
		p.Require(ID(i), p.Pick(ID(i), func(int) bool { return true }), func() string { return "asked for" })
	}
	why := func() string { return "stated" }
	for i := range n {
		for v := range size {
			for range 3 {
				low, t := rng.IntN(size/2), ID(rng.IntN(n))
				p.Imply(ID(i), p.Pick(ID(i), func(c int) bool { return c == v }), t, p.Pick(t, func(c int) bool { return c >= low }), why)
			}
		}
	}
	up := func(from, to ID, v int, in func(c int) bool) {
		p.Imply(from, p.Pick(from, func(c int) bool { return c == v }), to, p.Pick(to, in), why)
	}
	for v := range size {
		up(1, 2, v, func(c int) bool { return c == v || c == v*7%size && c > v })
		up(2, 3, v, func(c int) bool { return c == v || c == v*11%size && c > v })
		up(3, 1, v, func(c int) bool { return c > v })
	}
	return p
}

func BenchmarkUnsolvableMaze1000x50(b *testing.B) {
	for b.Loop() {
		var conflict *Conflict
		_, err := maze(1000).Solve(context.Background())
		require.ErrorAs(b, err, &conflict)
		require.NotEmpty(b, conflict.Proof())
	}
}

// TestSeriesReads is a proof in which every release wants something else, which
// reads as one sentence about those that count.
func TestSeriesReads(t *testing.T) {
	p := &Problem{}
	frame, form := p.Subject("quayside", versions(3)), p.Subject("tide-form", versions(9))
	p.Require(frame, p.Pick(frame, func(i int) bool { return i == 0 }), func() string { return "package.json:11 asks for quayside ^1" })
	p.Require(form, p.Pick(form, func(i int) bool { return i >= 3 }), func() string { return "package.json:14 asks for tide-form >=4" })
	series := &Series{Say: func(which, wants string) string {
		return "tide-form " + which + " needs quayside " + wants + " as a peer"
	}}
	for v := range 9 {
		want := Each{Series: series, Want: fmt.Sprintf("^2.%d", v)}
		p.ImplyEach(want, form, p.Pick(form, func(i int) bool { return i == v }), frame, p.Pick(frame, func(i int) bool { return i > v%2 }))
	}
	_, err := p.Solve(context.Background())
	var conflict *Conflict
	require.ErrorAs(t, err, &conflict)
	assert.Equal(t, []string{
		"1. package.json:14 asks for tide-form >=4.",
		"2. package.json:11 asks for quayside ^1.",
		"3. tide-form 4.0.0 to 9.0.0 needs quayside ^2.3, later ^2.4 … ^2.8, as a peer.",
		"4. So 1, 2 and 3 cannot all hold.",
	}, conflict.Proof().Lines())
	assert.Len(t, conflict.Proof()[2].Facts, 6)
}

// TestWeakFacts tells a conflict by what has to be there, where what need not be would do as well.
func TestWeakFacts(t *testing.T) {
	for _, weakFirst := range []bool{true, false} {
		p := &Problem{}
		frame, form, probe := p.Subject("frame", []string{"1", "2"}), p.Subject("form", []string{"1"}), p.Subject("probe", []string{"1"})
		any := func(int) bool { return true }
		for _, s := range []ID{form, probe} {
			p.Require(s, p.Pick(s, any), func() string { return "it is required" })
		}
		p.Require(frame, p.Pick(frame, func(i int) bool { return i == 1 }), func() string { return "frame 2 is asked for" })
		needs := func(s ID, name string, weak bool) {
			each := Each{Want: "1", Series: &Series{Weak: weak, Say: func(which, wants string) string { return name + " needs frame " + wants }}}
			p.ImplyEach(each, s, p.Pick(s, any), frame, p.Pick(frame, func(i int) bool { return i == 0 }))
		}
		needs(form, "form", weakFirst)
		needs(probe, "probe", !weakFirst)
		_, err := p.Solve(t.Context())
		var conflict *Conflict
		require.ErrorAs(t, err, &conflict)
		told := strings.Join(conflict.Proof().Lines(), "\n")
		assert.Equal(t, weakFirst, strings.Contains(told, "probe needs frame"), told)
		assert.Equal(t, !weakFirst, strings.Contains(told, "form needs frame"), told)
	}
}

func TestNothingIsAllowed(t *testing.T) {
	p := &Problem{}
	a := p.Subject("a", []string{"1", "2"})
	p.Require(a, p.Pick(a, func(int) bool { return false }), func() string { return "a is to be 3" })
	_, err := p.Solve(context.Background())
	var conflict *Conflict
	require.ErrorAs(t, err, &conflict)
	assert.Equal(t, []string{"1. a is to be 3."}, conflict.Proof().Lines())
}
