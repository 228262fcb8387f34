package mediate

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/version"
)

// pier is a graph in a few lines: "quayside 1: hawser 2, crane 1 -winch". The project is "".
type pier map[string][]Ask

func load(text string) pier {
	p := pier{}
	for line := range strings.Lines(text) {
		of, list, _ := strings.Cut(strings.TrimSpace(line), ":")
		for one := range strings.SplitSeq(list, ",") {
			words := strings.Fields(one)
			if len(words) < 2 {
				continue
			}
			ask := Ask{Name: words[0], Wants: words[1]}
			if len(words) > 2 {
				ask.Excludes = func(name string) bool { return name == words[2][1:] }
			}
			p[of] = append(p[of], ask)
		}
	}
	return p
}

func (p pier) Asks(_ context.Context, m Module) ([]Ask, error) {
	if m.Name == "gone" {
		return nil, errors.New("it is not there")
	}
	return p[strings.TrimSpace(m.Name+" "+m.Version)], nil
}

// Choose takes wishes for the lowest version that may be: "2" is 2 or newer, of 1 to 9.
func (p pier) Choose(_ context.Context, _ string, wants []string) (string, error) {
	return slices.MaxFunc(wants, p.Compare), nil
}

func (p pier) Compare(a, b string) int { return version.CompareStated(a, b) }

func versions(m *Mediation) string {
	var texts []string
	for _, w := range m.Won {
		texts = append(texts, w.Name+" "+w.Version)
	}
	return strings.Join(texts, ", ")
}

const town = `: quayside 1, tide 1
quayside 1: hawser 1, crane 1
tide 1: hawser 3, mast 1
mast 1: crane 2, winch 1
hawser 1: winch 5
hawser 3: rope 1`

func TestStrategies(t *testing.T) {
	g := load(town)
	m, err := Nearest(t.Context(), g)
	require.NoError(t, err)
	assert.Equal(
		t,
		"quayside 1, tide 1, hawser 1, crane 1, mast 1, winch 5",
		versions(m),
		"what only the loser asks for does not come along",
	)
	hawser := m.Of("hawser")
	assert.Equal(t, "it is stated first", hawser.Because)
	assert.Equal(t, "quayside 1 asks for 1, and is stated first", hawser.Lost[0].Because)
	assert.Equal(t, "tide 1", hawser.Lost[0].By())
	assert.Len(t, hawser.Below(g.Compare), 1, "it ends up below what tide asks for")
	assert.Equal(t, "mast 1 by way of tide 1", m.Of("crane").Lost[0].By())
	assert.Equal(t, "it is nearer to the project", m.Of("crane").Because)

	m, err = Highest(t.Context(), g)
	require.NoError(t, err)
	assert.Equal(t, "quayside 1, tide 1, hawser 3, crane 2, mast 1, rope 1, winch 1", versions(m), "winch 5 goes with hawser 1")
	assert.Empty(t, m.Of("hawser").Below(g.Compare))
	assert.Nil(t, m.Of("ghost"))

	m, err = Lowest(t.Context(), load(town+"\n: hawser 2"))
	require.NoError(t, err)
	assert.Equal(t, "2", m.Of("hawser").Version, "the project decides for all below it")
	assert.Len(t, m.Of("hawser").Below(g.Compare), 1)
}

func TestExclusions(t *testing.T) {
	g := load(": quayside 1 -winch, tide 1\nquayside 1: hawser 1\nhawser 1: winch 5\ntide 1: mast 1\nmast 1: winch 1")
	for _, decide := range []func(context.Context, Graph) (*Mediation, error){Nearest, Highest, Lowest} {
		m, err := decide(t.Context(), g)
		require.NoError(t, err)
		assert.Equal(t, "1", m.Of("winch").Version)
	}
}

func TestFailures(t *testing.T) {
	_, err := Nearest(t.Context(), load(": gone 1"))
	assert.ErrorContains(t, err, "gone 1: it is not there")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Highest(ctx, load(town))
	assert.ErrorIs(t, err, context.Canceled)
}

// TestRandomGraphs compares with definitions that are followed to the letter.
func TestRandomGraphs(t *testing.T) {
	for seed := range uint64(3000) {
		rng := rand.New(rand.NewPCG(seed, 31))
		var text strings.Builder
		n := 3 + rng.IntN(5)
		asks := func(of string, from int) {
			fmt.Fprintf(&text, "%s:", of)
			for i := from; i < n; i++ {
				if rng.IntN(3) == 0 {
					fmt.Fprintf(&text, " p%d %d,", i, 1+rng.IntN(3))
				}
			}
			text.WriteString("\n")
		}
		asks("", 0)
		for i := range n {
			for v := 1; v <= 3; v++ {
				asks(fmt.Sprintf("p%d %d", i, v), i+1)
			}
		}
		g := load(text.String())
		near, err := Nearest(t.Context(), g)
		require.NoError(t, err)
		for _, w := range near.Won {
			assert.Equal(t, nearest(g, w.Name, near), w.Version, "seed %d, %s\n%s", seed, w.Name, &text)
		}
		high, err := Highest(t.Context(), g)
		require.NoError(t, err)
		for name, all := range asked(g, high) {
			assert.Equal(t, slices.MaxFunc(all, g.Compare), high.Of(name).Version, "seed %d, %s\n%s", seed, name, &text)
		}
		assert.Len(t, high.Won, len(asked(g, high)), "seed %d: nothing is there that nobody asks for", seed)
		if t.Failed() {
			return
		}
	}
}

// nearest goes through the levels of a graph in which losers ask for nothing, and gives the
// first version that is asked for.
func nearest(g pier, name string, m *Mediation) string {
	level := []string{""}
	for range 20 {
		var next []string
		for _, of := range level {
			for _, ask := range g[of] {
				if ask.Name == name {
					return ask.Wants
				}
			}
		}
		for _, of := range level {
			for _, ask := range g[of] {
				if m.Of(ask.Name).Version == ask.Wants {
					next = append(next, ask.Name+" "+ask.Wants)
				}
			}
		}
		level = next
	}
	return "none"
}

// asked are the versions that those ask for who are there at the end.
func asked(g pier, m *Mediation) map[string][]string {
	all := map[string][]string{}
	for _, of := range append([]*Won{{}}, m.Won...) {
		for _, ask := range g[strings.TrimSpace(of.Name+" "+of.Version)] {
			all[ask.Name] = append(all[ask.Name], ask.Wants)
		}
	}
	return all
}

// What a package was called before takes its place, of what one module asks for the highest wins, and a hard wish excludes
// what stands nearer.
func TestNearestSlots(t *testing.T) {
	g := load(": winch 1, crane 1, mast 1\ncrane 1: rope 1\nmast 1: rope 3\nrope 3: twine 1\nwinch 1: rope 9")
	g[""][1] = Ask{Name: "winch", Wants: "2", Was: []string{"crane"}}
	m, err := Nearest(t.Context(), g)
	require.NoError(t, err)
	assert.Equal(t, "winch 2, mast 1, rope 3, twine 1", versions(m))
	assert.Equal(t, "it is the highest that one module asks for", m.Of("winch").Because)

	g = load(": quayside 1, tide 1\nquayside 1: hawser 1, mast 1\nhawser 1: winch 1\ntide 1: hawser 2")
	g["tide 1"][0].Hard = true
	strict := strictPier{g}
	m, err = Nearest(t.Context(), strict)
	require.NoError(t, err)
	assert.Equal(t, "quayside 1, tide 1, mast 1, hawser 2", versions(m))
	g["quayside 1"][0].Hard = true
	_, err = Nearest(t.Context(), strict)
	assert.ErrorContains(t, err, "no version of hawser will do: tide 1 asks for 2, quayside 1 asks for 1")
}

// strictPier takes a wish for a version, and for no other one.
type strictPier struct{ pier }

func (p strictPier) Choose(_ context.Context, name string, wants []string) (string, error) {
	for _, w := range wants {
		if name == "hawser" && w != wants[0] {
			return "", nil
		}
	}
	return wants[0], nil
}
