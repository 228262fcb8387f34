package version

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMavenVectors(t *testing.T) {
	checkOrder(t, Maven{}, "maven.order.tsv")
	for _, row := range rows(t, "maven.range.tsv") {
		got := "invalid"
		if r, err := (Maven{}).ParseRange(row[0]); err == nil {
			v, err := Maven{}.Parse(row[1])
			require.NoError(t, err)
			got = map[bool]string{true: "true", false: "false"}[r.Contains(v)]
		}
		assert.Equal(t, row[2], got, "%q contains %q", row[0], row[1])
	}
}

func TestMavenRestate(t *testing.T) {
	for _, c := range []struct{ old, version, want string }{
		{"1.0", "2.1.3", "2.1.3"}, {"[1.0,2.0)", "2.1.3", "[1.0,2.1.3]"}, {"[1.0,3)", "2.1", "[1.0,2.1]"}, {"[1.0]", "2.1", "[2.1]"},
		{"[1.0,)", "2.1", "[2.1,)"}, {"(,1.0],[1.2,)", "2.0", "[2.0,)"}, {"[1.0,1.5]", "1.5", "[1.0,1.5]"},
		{"(1.0,2)", "2.5", "(1.0,2.5]"}, {"(,2)", "2.5", "(,2.5]"}, {"[2,3)", "1.5", "[1.5,1.5]"},
	} {
		v, err := Maven{}.Parse(c.version)
		require.NoError(t, err)
		fresh := Maven{}.Restate(c.old, v)
		assert.Equal(t, c.want, fresh, "%s at %s", c.old, c.version)
		for _, text := range []string{fresh, Maven{}.Onward(v)} {
			rng, err := Maven{}.ParseRange(text)
			require.NoError(t, err)
			assert.True(t, rng.Contains(v), text)
		}
	}
	for text, preview := range map[string]bool{
		"1.0-M1": true, "2.0.0-rc.1": true,
		"3.1-SNAPSHOT": true, "1.0.Final": false, "31.1-jre": false, "2.0-alpha-3": true, "9.4.1.v2019": false,
	} {
		v, err := Maven{}.Parse(text)
		require.NoError(t, err)
		assert.Equal(t, preview, v.Preview(), text)
	}
}
