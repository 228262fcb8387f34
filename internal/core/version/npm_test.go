package version

import (
	"bufio"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rows reads a file of vectors: three columns, the last one the answer.
func rows(t *testing.T, file string) [][3]string {
	t.Helper()
	f, err := os.Open("testdata/" + file)
	require.NoError(t, err)
	defer f.Close()
	var all [][3]string
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if fields := strings.Split(lines.Text(), "\t"); !strings.HasPrefix(lines.Text(), "# ") {
			require.Len(t, fields, 3)
			all = append(all, [3]string(fields))
		}
	}
	require.NotEmpty(t, all)
	return all
}

func TestNPMOrderVectors(t *testing.T) { checkOrder(t, NPM{}, "npm.order.tsv") }

// checkOrder compares an order with a file of vectors.
func checkOrder(t *testing.T, order Order, file string) {
	t.Helper()
	for _, row := range rows(t, file) {
		a, errA := order.Parse(row[0])
		b, errB := order.Parse(row[1])
		got := "invalid"
		if errA == nil && errB == nil {
			got = strconv.Itoa(a.Compare(b))
		}
		assert.Equal(t, row[2], got, "%q against %q", row[0], row[1])
	}
}

func TestNPMRangeVectors(t *testing.T) {
	for file, dialect := range map[string]NPM{"npm.range.tsv": {}, "npm-pre.range.tsv": {Previews: true}} {
		for _, row := range rows(t, file) {
			assert.Equal(t, row[2], contains(dialect, row[0], row[1]), "%s: %q contains %q", file, row[0], row[1])
		}
	}
}

// contains tells whether a version is in a range: "true", "false", or "invalid" for what is
// no range.
func contains(dialect NPM, rng, text string) string {
	r, err := dialect.ParseRange(rng)
	if err != nil {
		return "invalid"
	}
	v, err := dialect.Parse(text)
	return strconv.FormatBool(err == nil && r.Contains(v))
}

func TestNPMRestate(t *testing.T) {
	for _, c := range [][3]string{
		{"^1.2.3", "2.0.1", "^2.0.1"},
		{"~1.2.3", "1.4.0", "~1.4.0"},
		{"1.2.3", "2.0.0", "2.0.0"},
		{"=1.2.3", "2.0.0", "=2.0.0"},
		{"^1.2", "3.4.5", "^3.4"},
		{"~1.2", "3.4.5", "~3.4"},
		{"1.x", "3.4.5", "3.x"},
		{"1.2.x", "3.4.5", "3.4.x"},
		{"1", "3.4.5", "3"},
		{"*", "3.4.5", "*"},
		{">=1.2.3", "3.4.5", ">=3.4.5"},
		{">=1.2.3 <2", "3.4.5", "^3.4.5"},
		{"^1 || ^2", "3.4.5", "^3.4.5"},
		{"", "3.4.5", "^3.4.5"},
		{"^1.2", "3.0.0-rc.1", "^3.0.0-rc.1"},
	} {
		v, err := NPM{}.Parse(c[1])
		require.NoError(t, err)
		got := NPM{}.Restate(c[0], v)
		assert.Equal(t, c[2], got, "%q at %s", c[0], c[1])
		r, err := NPM{}.ParseRange(got)
		require.NoError(t, err)
		assert.True(t, r.Contains(v), "%q must contain %s", got, v)
	}
}

func FuzzNPMRange(f *testing.F) {
	for _, seed := range []string{"^1.2.3", "1 - 2", ">=1 <2 || 3.x", "~> 1", "x", "1.2.3foo"} {
		f.Add(seed, "1.2.3-rc.1")
	}
	f.Fuzz(func(t *testing.T, text, version string) {
		r, err := NPM{}.ParseRange(text)
		v, errV := NPM{}.Parse(version)
		if err != nil || errV != nil {
			return
		}
		r.Contains(v)
		assert.Zero(t, v.Compare(v))
	})
}
