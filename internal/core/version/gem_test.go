package version

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestGemVectors(t *testing.T) {
	checkOrder(t, Gem{}, "gem.order.tsv")
	for _, row := range rows(t, "gem.range.tsv") {
		got := "invalid"
		if r, err := (Gem{}).ParseRange(row[0]); err == nil {
			v, err := Gem{}.Parse(row[1])
			require.NoError(t, err)
			got = "false"
			if r.Contains(v) {
				got = "true"
			}
		}
		assert.Equal(t, row[2], got, "%q contains %q", row[0], row[1])
	}
}

func TestGemRestate(t *testing.T) {
	for _, c := range []struct{ old, version, want string }{
		{"~> 4.0", "5.1.3", "~> 5.1"}, {"~> 4.0.2", "5.1.3", "~> 5.1.3"}, {"~> 4", "5.1.3", "~> 5"}, {">= 4.0, < 5", "5.1.3", ">= 5.1, < 6"},
		{"4.2.6", "5.1.3", "5.1.3"}, {"= 4.2.6", "5.1.3", "= 5.1.3"}, {">= 1.2", "2.0.0", ">= 2.0"}, {"~> 4.0, >= 4.0.2", "4.2.1",
			"~> 4.2, >= 4.2.1"},
		{"~> 4.0, != 4.1.0", "4.2.1", "~> 4.2, != 4.1.0"}, {"< 2", "2.1.0", "< 3"}, {"~> 4.0", "5.0.0.rc1", "~> 5.0.0.rc1"}, {"",
			"1.0", "~> 1.0"},
	} {
		v, err := Gem{}.Parse(c.version)
		require.NoError(t, err)
		assert.Equal(t, c.want, Gem{}.Restate(c.old, v), "%s at %s", c.old, c.version)
	}
	for _, c := range []struct {
		from, to string
		step     Reach
	}{{"1.2.3", "1.2.4", Patch}, {"1.2.3", "1.3", Minor}, {"1.2", "2.0", Major}, {"0.1.2", "0.2", Major}, {"1.0", "1", Stay},
		{"2.0.rc1", "2.0", Patch}} {
		from, err := Gem{}.Parse(c.from)
		require.NoError(t, err)
		to, err := Gem{}.Parse(c.to)
		require.NoError(t, err)
		assert.Equal(t, c.step, Gem{}.Step(from, to), "%s to %s", c.from, c.to)
	}
}

func TestGemOnward(t *testing.T) {
	for text, want := range map[string]string{
		"1.2.0": "~> 1.2", "1.2.3": "~> 1.2, >= 1.2.3", "4": "~> 4.0", "0.5.3": "~> 0.5.3", "2.0.0.rc1": ">= 2.0.0.rc1, < 3",
	} {
		v, err := Gem{}.Parse(text)
		require.NoError(t, err)
		got := Gem{}.Onward(v)
		assert.Equal(t, want, got)
		rng, err := Gem{}.ParseRange(got)
		require.NoError(t, err)
		assert.True(t, rng.Contains(v), got)
	}
}

func TestStated(t *testing.T) {
	for _, order := range []Order{Gem{}, Maven{}} {
		_, err := order.Parse("")
		require.NoError(t, err)
		_, err = Stated{order}.Parse(" ")
		require.Error(t, err)
		v, err := Stated{order}.Parse("1.2")
		require.NoError(t, err)
		assert.Equal(t, "1.2", v.String())
	}
}
