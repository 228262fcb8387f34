package want

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
)

// quay has some releases, of which one is deprecated, one a pre-release, and one does not run here.
func quay(at string) *Want {
	w := &Want{Name: "quay", At: -1, Newest: true, Asks: "hold.txt asks for quay ^1", Down: "nobody asked for an older quay"}
	for i, text := range []string{"1.0.0", "1.1.0", "1.2.0", "2.0.0", "2.1.0", "3.0.0-rc.1"} {
		v, err := version.NPM{}.Parse(text)
		if err != nil {
			panic(err)
		}
		c := Candidate{
			Text:    text,
			Version: v,
			InRange: strings.HasPrefix(text, "1."),
			Shunned: text == "1.2.0" || v.Preview(),
			Unfit:   text == "2.1.0",
		}
		w.Candidates = append(w.Candidates, c)
		if text == at {
			w.At, w.Locked = i, v
		}
	}
	return w
}

func goal(rng string, newest bool) *contract.Goal {
	r, err := version.NPM{}.ParseRange(rng)
	if err != nil {
		panic(err)
	}
	return &contract.Goal{
		Bounds: map[string]contract.Bound{"quay": {Allow: r.Contains, Newest: newest, Why: "quay@" + rng + " is asked for"}},
		First:  []string{"quay"},
	}
}

func TestAllowed(t *testing.T) {
	still := quay("1.1.0")
	still.Still = true
	promised := quay("1.1.0")
	promised.Promised = true
	strict := quay("1.1.0")
	strict.Strict = true
	fit, preview := contract.Goal{Fit: true}, contract.Goal{Previews: []string{"quay"}}
	for what, c := range map[string]struct {
		want  *Want
		goal  *contract.Goal
		texts string
	}{
		"what is locked goes up, and not down":          {quay("1.1.0"), &contract.Goal{}, "1.1.0 1.2.0 2.0.0 2.1.0"},
		"without a lock the range counts":               {quay(""), &contract.Goal{}, "1.0.0 1.1.0 1.2.0"},
		"what does not run here is no choice by itself": {quay("1.1.0"), &fit, "1.1.0 1.2.0 2.0.0"},
		"pre-releases are asked for by name":            {quay("1.1.0"), &preview, "1.1.0 1.2.0 2.0.0 2.1.0 3.0.0-rc.1"},
		"a bound counts before the lock":                {quay("2.0.0"), goal("^1.0.0", true), "1.0.0 1.1.0 1.2.0"},
		"a runtime moves only where it is named":        {still, &contract.Goal{}, "1.1.0"},
		"what is promised is widened for another line":  {promised, goal("^2.0.0", true), "1.0.0 1.1.0 1.2.0 2.0.0 2.1.0"},
		"and not otherwise":                             {promised, &contract.Goal{}, "1.0.0 1.1.0 1.2.0"},
		"strictly nothing that does not run here":       {strict, goal("^2.0.0", true), "2.0.0"},
	} {
		var texts []string
		for i, ok := range c.want.Allowed(c.goal) {
			if ok {
				texts = append(texts, c.want.Candidates[i].Text)
			}
		}
		assert.Equal(t, c.texts, strings.Join(texts, " "), what)
	}
}

func TestPreference(t *testing.T) {
	lowest := quay("1.1.0")
	lowest.Tendency = Lowest
	unlocked := quay("")
	unlocked.Unlocked = func(a, b int) int { return a - b }
	for what, c := range map[string]struct {
		want  *Want
		goal  *contract.Goal
		texts string
	}{
		"what is locked, then the smallest step": {quay("1.0.0"), &contract.Goal{}, "1.0.0 1.1.0 2.0.0 1.2.0 2.1.0 3.0.0-rc.1"},
		"the newest, where that is asked for":    {quay("1.0.0"), goal("*", true), "2.0.0 1.1.0 1.0.0 3.0.0-rc.1 2.1.0 1.2.0"},
		"upwards, then downwards":                {lowest, &contract.Goal{}, "1.1.0 1.2.0 2.0.0 2.1.0 3.0.0-rc.1 1.0.0"},
		"the client's own order without a lock":  {unlocked, &contract.Goal{}, "1.0.0 1.1.0 1.2.0 2.0.0 2.1.0 3.0.0-rc.1"},
		"down only after all that is not lower":  {quay("2.0.0"), &contract.Goal{}, "2.0.0 1.1.0 1.0.0 2.1.0 3.0.0-rc.1 1.2.0"},
	} {
		var texts []string
		for _, i := range c.want.Preference(c.goal) {
			texts = append(texts, c.want.Candidates[i].Text)
		}
		assert.Equal(t, c.texts, strings.Join(texts, " "), what)
	}
	heavy := quay("")
	heavy.Weight = 7
	assert.Less(t, heavy.Rank(goal("*", true)), heavy.Rank(&contract.Goal{}), "what is asked for is decided before what is wanted by many")
	assert.Less(t, heavy.Rank(&contract.Goal{}), quay("").Rank(&contract.Goal{}))
}

// TestState makes problems of wants, and reads their proofs.
func TestState(t *testing.T) {
	said := func(w *Want, g *contract.Goal, rules ...contract.Rule) string {
		p := &solve.Problem{}
		id, _ := w.State(p, g)
		for _, r := range rules {
			Rule(p, r, func(name string) []Unit {
				if name == w.Name {
					return []Unit{{Subject: id, Want: w}}
				}
				return nil
			})
		}
		solution, err := p.Solve(t.Context())
		if err != nil {
			return err.Error()
		}
		return w.Candidates[solution[id]].Text
	}
	below := func(limit string) func(v version.Version) bool {
		v, err := version.NPM{}.Parse(limit)
		require.NoError(t, err)
		return func(o version.Version) bool { return o.Compare(v) < 0 }
	}
	rule := func(name, limit string) contract.Rule {
		return contract.Rule{Why: fmt.Sprintf("a book forbids what is below %s", limit), Terms: []contract.Term{{Name: name, In: below(limit)}}}
	}
	assert.Equal(t, "1.1.0", said(quay("1.1.0"), &contract.Goal{}))
	assert.Equal(t, "2.0.0", said(quay("1.1.0"), &contract.Goal{}, rule("quay", "2.0.0")))
	assert.Equal(t, "1.1.0", said(quay("1.1.0"), &contract.Goal{}, rule("other", "2.0.0")), "a rule about what nobody requires says nothing")
	text := said(quay("1.1.0"), goal("^1.0.0", true), rule("quay", "2.0.0"))
	for _, part := range []string{"quay@^1.0.0 is asked for", "a book forbids what is below 2.0.0"} {
		assert.Contains(t, text, part)
	}
	assert.Contains(t, said(quay(""), &contract.Goal{}, rule("quay", "2.0.0")), "hold.txt asks for quay ^1")
	hidden := quay("2.1.0")
	hidden.Hidden = func(allowed []bool) string {
		return fmt.Sprintf("; %d are not allowed", len(slices.DeleteFunc(allowed, func(ok bool) bool { return ok })))
	}
	assert.Contains(t, said(hidden, &contract.Goal{}, rule("quay", "9.0.0")), "nobody asked for an older quay; 5 are not allowed")
}
