package npm

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/ecosystem/npm/project"
)

// lockOf is a lock of n packages, each where place says, each asking for the next.
func lockOf(n int, place func(i int) string, asks func(i int) string) fstest.MapFS {
	var b strings.Builder
	b.WriteString(`{"lockfileVersion": 3, "packages": {"": {"dependencies": {"p0": "^1.0.0"}}`)
	for i := range n {
		fmt.Fprintf(&b, ",\n%q: {\"version\": \"1.0.%d\", \"dependencies\": {%q: \"^1.0.0\"}}", place(i), i, asks(i))
	}
	b.WriteString("}}")
	return fstest.MapFS{
		"package.json":      {Data: []byte(`{"dependencies": {"p0": "^1.0.0"}}`)},
		"package-lock.json": {Data: []byte(b.String())},
	}
}

// TestLargeLock reads locks in shapes at which a step for every pair of packages would
// never come to an end: a long chain, and folders in folders.
func TestLargeLock(t *testing.T) {
	deep := func(i int) string { return strings.TrimPrefix(strings.Repeat("/node_modules/p0", i+1), "/") }
	for name, files := range map[string]fstest.MapFS{
		"a chain": lockOf(40000, func(i int) string { return fmt.Sprintf("node_modules/p%d", i) },
			func(i int) string { return fmt.Sprintf("p%d", i+1) }),
		"folders in folders": lockOf(800, deep, func(int) string { return "p0" }),
	} {
		c, err := Ecosystem{}.Read(indexed(files), ".")
		require.NoError(t, err, name)
		all := Ecosystem{}.Packages(c)
		assert.NotEmpty(t, all, name)
		for _, p := range all {
			require.LessOrEqual(t, len(p.Via), project.MaxVia, name)
		}
		last := all[len(all)-1]
		if name == "a chain" {
			assert.Len(t, all, 40000)
			assert.Equal(t, "p0 1.0.0", last.Via[0])
			assert.Equal(t, "p39998 1.0.39998", last.Via[len(last.Via)-1])
			assert.Contains(t, last.Via, "…")
		}
	}
}
