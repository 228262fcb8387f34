package version

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStepAndLine(t *testing.T) {
	for _, c := range []struct {
		from, to string
		step     Reach
		line     string
	}{
		{"1.2.3", "1.2.3", Stay, "1"},
		{"1.2.3", "1.2.4", Patch, "1"},
		{"1.2.3", "1.3.0", Minor, "1"},
		{"1.2.3", "2.0.0", Major, "2"},
		{"0.3.1", "0.3.2", Patch, "0.3"},
		{"0.3.1", "0.4.0", Major, "0.4"},
		{"0.0.1", "0.0.2", Major, "0.0.2"},
		{"2.0.0-rc.1", "2.0.0", Patch, "2"},
	} {
		from, err := NPM{}.Parse(c.from)
		require.NoError(t, err)
		to, err := NPM{}.Parse(c.to)
		require.NoError(t, err)
		assert.Equal(t, c.step, NPM{}.Step(from, to), "%s to %s", c.from, c.to)
		assert.Equal(t, c.line, to.Line())
	}
}

func TestReachNamed(t *testing.T) {
	for _, r := range []Reach{Stay, Patch, Minor, Major} {
		named, ok := ReachNamed(r.String())
		assert.True(t, ok)
		assert.Equal(t, r, named)
	}
	_, ok := ReachNamed("everything")
	assert.False(t, ok)
}

// TestIntersects compares with all versions of a small grid, in which every
// bound of the random ranges lies.
func TestIntersects(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	var grid []Version
	for major := range 4 {
		for minor := range 4 {
			for patch := range 4 {
				v, err := NPM{}.Parse(fmt.Sprintf("%d.%d.%d", major, minor, patch))
				require.NoError(t, err)
				grid = append(grid, v)
			}
		}
	}
	one := func() string {
		op := []string{"^", "~", ">=", "<", "=", "<="}[rng.IntN(6)]
		return fmt.Sprintf("%s%d.%d.%d", op, rng.IntN(3), rng.IntN(3), rng.IntN(3))
	}
	for range 2000 {
		text := [2]string{one(), one() + " || " + one()}
		a, err := NPM{}.ParseRange(text[0])
		require.NoError(t, err)
		b, err := NPM{}.ParseRange(text[1])
		require.NoError(t, err)
		both := false
		for _, v := range grid {
			both = both || a.Contains(v) && b.Contains(v)
		}
		assert.Equal(t, both, NPM{}.Intersects(a, b), "%s and %s", text[0], text[1])
	}
}
