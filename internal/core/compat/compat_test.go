package compat

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
)

// orders are those of three ecosystems, and of what is no package.
func orders(kind string) version.Order {
	switch kind {
	case "npm":
		return version.NPM{}
	case "golang":
		return version.GoMod{}
	case "gem", "runtime", "tool", "platform", "image":
		return version.Plain{}
	}
	return nil
}

func subject(text string) model.Subject {
	s, ok := model.ReadSubject(text)
	if !ok {
		panic(text)
	}
	return s
}

// at is a subject at a version, with others to choose from.
func at(t *testing.T, text, now string, others ...string) *Subject {
	s := &Subject{Subject: subject(text)}
	parse := func(text string) version.Version {
		v, err := orders(s.Kind).Parse(text)
		require.NoError(t, err)
		return v
	}
	if now != "" {
		s.At = parse(now)
	}
	for _, o := range others {
		s.Candidates = append(s.Candidates, parse(o))
	}
	return s
}

func book(t *testing.T, rules string) *Book {
	b, faults := Parse("book.yaml", []byte("schema: bellwether/book/1\nrules:\n"+rules), orders)
	for _, f := range faults {
		require.NoError(t, f)
	}
	return b
}

// chain is eight prerequisites, each of the one before, over the subjects of
// three ecosystems.
const chain = `
  - {id: one, because: it says so, needs: {when: {npm/quayside: ">=4"}, then: {npm/plankton: ">=3"}}}
  - {id: two, because: it says so, needs: {when: {npm/plankton: ">=3"}, then: {tool/slipway: ">=8"}}}
  - {id: three, because: it says so, needs: {when: {tool/slipway: ">=8"}, then: {gem/oakum: "~> 2.1"}}}
  - {id: four, because: it says so, needs: {when: {gem/oakum: ">=2"}, then: {runtime/ruby: ">=3.2"}}}
  - {id: five, because: it says so, needs: {when: {runtime/ruby: ">=3.2"}, then: {golang/pier.example/crane: ">=v1.4.0"}}}
  - {id: six, because: it says so, needs: {when: {golang/pier.example/crane: ">=v1.4.0"}, then: {runtime/go: ">=1.24"}}}
  - {id: seven, because: it says so, needs: {when: {runtime/go: ">=1.24"}, then: {image/alpine: ">=3.20"}}}
  - {id: eight, because: it says so, needs: {when: {image/alpine: ">=3.20"}, then: {platform/harbour-account: ">=2"}}}
`

func question(t *testing.T, rules []*Rule) *Question {
	q := &Question{Orders: orders, Rules: rules, Subjects: []*Subject{
		at(
			t,
			"npm/quayside",
			"1.4.0",
			"2.0.0",
			"3.0.0",
			"4.0.0",
			"4.1.0",
		), at(t, "npm/plankton", "1.0.0", "2.0.0", "3.0.0", "3.1.0", "4.0.0"),
		at(
			t, "tool/slipway", "6.1", "7", "8", "9",
		), at(t, "gem/oakum", "1.9.0", "2.0.0", "2.1.0", "2.4.0"), at(t, "runtime/ruby", "3.0", "3.1", "3.2", "3.3", "3.4"),
		at(
			t, "golang/pier.example/crane", "v1.0.0", "v1.3.0", "v1.4.0", "v1.5.0",
		), at(t, "runtime/go", "1.21", "1.22", "1.23", "1.24", "1.25"), at(t, "image/alpine", "3.18", "3.19", "3.20", "3.21"),
	}}
	rng, err := version.NPM{}.ParseRange("^4")
	require.NoError(t, err)
	q.Subjects[0].Allow, q.Subjects[0].Why, q.Subjects[0].Newest = rng.Contains, "quayside@^4 is asked for", true
	return q
}

func told(a *Answer) string {
	var all []string
	for s, v := range a.Chosen {
		all = append(all, s.String()+" "+v.String())
	}
	slices.Sort(all)
	return strings.Join(all, ", ")
}

// TestChain finds eight prerequisites in one call, and sees that without any of
// the rules the rest of the chain stays where it is.
func TestChain(t *testing.T) {
	rules := book(t, chain).Rules
	a, err := question(t, rules).Answer(t.Context())
	require.NoError(t, err)
	all := "gem/oakum 2.1.0, golang/pier.example/crane v1.4.0, image/alpine 3.20, npm/plankton 3.0.0, npm/quayside 4.1.0, " +
		"platform/harbour-account 2, runtime/go 1.24, runtime/ruby 3.2, tool/slipway 8"
	assert.Equal(t, all, told(a))
	assert.Len(t, a.Links, 8)
	for i := range rules {
		without := slices.Delete(slices.Clone(rules), i, i+1)
		a, err := question(t, without).Answer(t.Context())
		require.NoError(t, err)
		assert.Len(t, a.Links, i, "without %s", rules[i].ID)
		assert.NotEqual(t, all, told(a))
	}
	q := question(t, rules)
	q.Prefer = Newest
	a, err = q.Answer(t.Context())
	require.NoError(t, err)
	assert.Contains(t, told(a), "runtime/ruby 3.4, tool/slipway 9")
}

func TestProofNamesTheRule(t *testing.T) {
	q := question(t, book(t, chain).Rules)
	held := q.Subjects[6]
	held.Allow, held.Why = func(v version.Version) bool { return v.Compare(held.At) == 0 }, "runtime/go is held at 1.21"
	_, err := q.Answer(t.Context())
	var conflict *solve.Conflict
	require.ErrorAs(t, err, &conflict)
	proof := strings.Join(conflict.Proof().Lines(), "\n")
	for _, want := range []string{"quayside@^4 is asked for", "runtime/go is held at 1.21", "book.yaml:4 (one): npm/quayside " +
		">=4 needs npm/plankton >=3, because it says so"} {
		assert.Contains(t, proof, want)
	}
}

func TestRulesOfAllKinds(t *testing.T) {
	for _, row := range []struct{ rules, want string }{
		{`
  - {id: a, because: x, clashes: {npm/quayside: ">=4", runtime/node: "<20 || 21"}}`, "npm/quayside 4.1.0, runtime/node 20"},
		{`
  - {id: a, because: x, together: {subjects: [npm/quayside, npm/router], share: major}}`,
			"npm/quayside 4.1.0, npm/router 4.0.0, runtime/node 16"},
		{`
  - {id: a, because: x, needs: {when: {npm/quayside: 4.x, runtime/node: ">=16"}, then: {tool/npm: ">=10.2"}}}`,
			"npm/quayside 4.1.0, runtime/node 16, tool/npm 10.2"},
		{`
  - {id: a, because: x, needs: {when: {maven/pier: "1"}, then: {runtime/node: ">=99"}}}`, "npm/quayside 4.1.0, runtime/node 16"},
	} {
		q := question(t, book(t, row.rules).Rules)
		q.Subjects = append(q.Subjects[:1], at(t, "runtime/node", "16", "18", "20", "22"))
		if strings.Contains(row.rules, "router") {
			q.Subjects = append(q.Subjects, at(t, "npm/router", "1.0.0", "2.0.0", "4.0.0", "4.2.0"))
		}
		a, err := q.Answer(t.Context())
		require.NoError(t, err)
		assert.Equal(t, row.want, told(a))
	}
}

// TestStatedNeeds has needs that packages state, and a preference for what is
// not past its end.
func TestStatedNeeds(t *testing.T) {
	rng, err := version.NPM{}.ParseRange(">=17.3")
	require.NoError(t, err)
	plainRange, err := version.Plain{}.ParseRange(">=17.3")
	require.NoError(t, err)
	q := question(t, nil)
	node := at(t, "runtime/node", "16", "18", "20", "22")
	q.Subjects = []*Subject{q.Subjects[0], node}
	q.Demands = []Demand{
		{
			By: subject("npm/quayside"), When: func(v version.Version) bool { return !v.Preview() },
			Need: Condition{node.Subject, ">=17.3", plainRange},
		},
	}
	_ = rng
	a, err := q.Answer(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "npm/quayside 4.1.0, runtime/node 18", told(a), "17 was never a line that is known")
	q.Prefer, q.Ended = Supported, func(_ model.Subject, v version.Version) bool { return v.String() < "20" }
	a, err = q.Answer(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "npm/quayside 4.1.0, runtime/node 20", told(a))
}

// TestClashWithNothing sees that what is not there is not spoken of.
func TestClashWithNothing(t *testing.T) {
	q := question(t, book(t, `
  - {id: a, because: x, clashes: {npm/quayside: ">=4", tool/winch: "<3"}}`).Rules)
	a, err := q.Answer(t.Context())
	require.NoError(t, err)
	assert.Empty(t, a.Links)
}

func TestStrictest(t *testing.T) {
	var demands []Demand
	for _, text := range []string{">=6", ">= 18", "^18.2 || >=20.1", ">=16 <26", "18.x || 20.x || >=21", ">=18", "*"} {
		rng, err := version.Plain{}.ParseRange(text)
		require.NoError(t, err)
		demands = append(demands, Demand{By: subject("npm/x"), Need: Condition{subject("runtime/node"), text, rng}})
	}
	var kept []string
	for _, d := range Strictest(demands, version.Plain{}) {
		kept = append(kept, d.Need.Text)
	}
	assert.Equal(t, []string{"^18.2 || >=20.1", ">=16 <26"}, kept)
}

func TestBounds(t *testing.T) {
	for text, want := range map[string]string{
		">=20.9": "20.9", "<20": "0", ">20 <22": "21", "^18 || ^20": "18 20", ">=4 <3": "", "~> 2.1": "2.1", "!=3": "0 4", "16 - 18": "16 18",
	} {
		rng, err := version.Plain{}.ParseRange(text)
		require.NoError(t, err)
		var got []string
		for _, v := range version.Bounds(version.Plain{}, rng) {
			got = append(got, v.String())
		}
		assert.Equal(t, want, strings.Join(got, " "), text)
	}
}

// TestAgainstBruteForce compares random small questions with trying everything.
func TestAgainstBruteForce(t *testing.T) {
	solved := 0
	for seed := range 400 {
		q := random(t, seed)
		a, err := q.Answer(context.Background())
		possible := bruteForce(q)
		var conflict *solve.Conflict
		if errors.As(err, &conflict) {
			require.False(t, possible, "seed %d: %v", seed, conflict.Proof().Lines())
			continue
		}
		require.NoError(t, err)
		require.True(t, possible, "seed %d", seed)
		require.True(t, meets(q, a.Chosen), "seed %d: %s", seed, told(a))
		solved++
	}
	assert.Greater(t, solved, 100)
	assert.Less(t, solved, 400)
}

func random(t *testing.T, seed int) *Question {
	x := uint32(seed)*2654435761 + 12345
	roll := func(n int) int {
		x ^= x << 13
		x ^= x >> 17
		x ^= x << 5
		return int(x % uint32(n))
	}
	names := []string{"tool/a", "tool/b", "tool/c", "tool/d"}
	var rules strings.Builder
	for i := range 2 + roll(5) {
		from, to := roll(4), roll(4)
		if from == to {
			to = (to + 1) % 4
		}
		low, need := 1+roll(4), 1+roll(4)
		switch roll(4) {
		case 0:
			fmt.Fprintf(&rules, "  - {id: r%d, because: x, clashes: {%s: \">=%d\", %s: \"<=%d\"}}\n", i, names[from], low, names[to], need)
		default:
			fmt.Fprintf(
				&rules, "  - {id: r%d, because: x, needs: {when: {%s: \">=%d\"}, then: {%s: \"%s%d\"}}}\n", i, names[from], low, names[to],
				[]string{">=", "<=", ""}[roll(3)], need,
			)
		}
	}
	q := &Question{Orders: orders, Rules: book(t, rules.String()).Rules}
	for _, n := range names {
		q.Subjects = append(q.Subjects, at(t, n, fmt.Sprint(1+roll(3)), "1", "2", "3", "4"))
	}
	least, err := version.Plain{}.ParseRange(fmt.Sprintf(">=%d", 2+roll(3)))
	require.NoError(t, err)
	q.Subjects[0].Allow, q.Subjects[0].Why = least.Contains, "asked for"
	return q
}

func bruteForce(q *Question) bool {
	chosen := map[model.Subject]version.Version{}
	var try func(i int) bool
	try = func(i int) bool {
		if i == len(q.Subjects) {
			return meets(q, chosen)
		}
		s := q.Subjects[i]
		for _, v := range s.Candidates {
			if s.Allow == nil && v.Compare(s.At) < 0 || s.Allow != nil && !s.Allow(v) {
				continue
			}
			chosen[s.Subject] = v
			if try(i + 1) {
				return true
			}
		}
		return false
	}
	return try(0)
}

// meets checks an answer rule by rule.
func meets(q *Question, chosen map[model.Subject]version.Version) bool {
	holds := func(c Condition) bool { return chosen[c.Subject] != nil && c.Range.Contains(chosen[c.Subject]) }
	for _, r := range q.Rules {
		when := !slices.ContainsFunc(r.When, func(c Condition) bool { return !holds(c) })
		if when && (r.Kind == Clashes || slices.ContainsFunc(r.Then, func(c Condition) bool { return !holds(c) })) {
			return false
		}
	}
	return true
}
