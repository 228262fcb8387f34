package version

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	modsemver "golang.org/x/mod/semver"
)

func TestGoModOrder(t *testing.T) {
	checkOrder(t, GoMod{}, "gomod.order.tsv")
}

func TestGoModQueries(t *testing.T) {
	for _, c := range []struct {
		query, version string
		want           bool
	}{
		{"v1.2.3", "v1.2.3", true}, {"v1.2.3", "v1.2.4", false}, {"v1.2", "v1.2.9", true}, {"v1.2", "v1.20.0", false},
		{"v1", "v1.99.0", true}, {"v1", "v2.0.0+incompatible", false}, {"v1", "v1.3.0-rc.1", false}, {"latest", "v3.0.0", true},
		{"latest", "v3.0.0-rc.1", false}, {"latest", "v0.0.0-20200101000000-0123456789ab", true}, {"<v1.3.0", "v1.2.9", true},
		{"<v1.3.0", "v1.3.0-rc.1", false}, {">=v1.2.0 <v2", "v1.9.0", true}, {">=v1.2.0 <v2", "v2.0.0", false}, {">v1.2.3", "v1.2.3", false},
		{"v1.3.0-rc.1", "v1.3.0-rc.1", true}, {">=v1.3.0-rc.1", "v1.3.0-rc.2", true},
	} {
		q, err := GoMod{}.ParseRange(c.query)
		require.NoError(t, err)
		v, err := GoMod{}.Parse(c.version)
		require.NoError(t, err)
		assert.Equal(t, c.want, q.Contains(v), "%s has %s", c.query, c.version)
	}
	for _, bad := range []string{"", "^1.2", "1.2.3", "=>v1", "newest"} {
		_, err := GoMod{}.ParseRange(bad)
		assert.Error(t, err, bad)
	}
}

func TestGoModSteps(t *testing.T) {
	for _, c := range []struct {
		from, to string
		step     Reach
	}{
		{"v1.2.3", "v1.2.3", Stay}, {"v1.2.3", "v1.2.4", Patch}, {"v1.2.3", "v1.3.0", Minor}, {"v0.9.0", "v1.0.0", Major},
		{"v1.2.3", "v2.0.0", Major}, {"v0.1.0", "v0.2.0", Minor}, {"v2.0.0", "v10.0.0", Major},
	} {
		from, err := GoMod{}.Parse(c.from)
		require.NoError(t, err)
		to, err := GoMod{}.Parse(c.to)
		require.NoError(t, err)
		assert.Equal(t, c.step, GoMod{}.Step(from, to), "%s to %s", c.from, c.to)
	}
}

func TestGoReleases(t *testing.T) {
	ascending := []string{
		"1", "1.4", "1.20rc1", "1.20", "1.20.1", "1.21", "1.21beta1", "1.21rc2", "1.21.0", "1.21.10", "1.22", "1.100.1", "2", "9.9",
	}
	for i, a := range ascending {
		va, err := GoRelease{}.Parse(a)
		require.NoError(t, err)
		for k, b := range ascending {
			vb, err := GoRelease{}.Parse("go" + b)
			require.NoError(t, err)
			switch c := va.Compare(vb); {
			case i < k:
				assert.Negative(t, c, "%s %s", a, b)
			case i > k:
				assert.Positive(t, c, "%s %s", a, b)
			default:
				assert.Zero(t, c, "%s %s", a, b)
			}
		}
	}
	for _, bad := range []string{"", "x", "1.21.", "1.21.0rc1", "1.021", "go", "v1.21"} {
		_, err := GoRelease{}.Parse(bad)
		assert.Error(t, err, bad)
	}
	q, err := GoRelease{}.ParseRange("1.24")
	require.NoError(t, err)
	for text, want := range map[string]bool{"1.24": true, "1.24.3": true, "1.24rc1": false, "1.25.0": false} {
		v, err := GoRelease{}.Parse(text)
		require.NoError(t, err)
		assert.Equal(t, want, q.Contains(v), text)
	}
}

// FuzzGoModOrder compares with the order of golang.org/x/mod.
func FuzzGoModOrder(f *testing.F) {
	for _, seed := range [][2]string{{"v1.2.3", "v1.2.4-rc.1"}, {"v1", "v1.0.0+x"}, {"v01.2", "v1.2.3-01"}, {"v1.2.3-a.10", "v1.2.3-a.9"}} {
		f.Add(seed[0], seed[1])
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		va, errA := GoMod{}.Parse(a)
		vb, errB := GoMod{}.Parse(b)
		require.Equal(t, modsemver.IsValid(a), errA == nil, a)
		require.Equal(t, modsemver.IsValid(b), errB == nil, b)
		if errA == nil && errB == nil {
			assert.Equal(t, modsemver.Compare(a, b), va.Compare(vb), "%s %s", a, b)
		}
	})
}
