package pin

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/version"
)

// TestBeside finds what speaks of the line that is left, and nothing of newer lines, of the past, or that the table moves itself.
func TestBeside(t *testing.T) {
	files := fstest.MapFS{
		".nvmrc":   {Data: []byte("18.19.0\n")},
		"Makefile": {Data: []byte("all:\n\tbundle --target=node18 --also=node22\n")},
		"README.md": {Data: []byte(
			"Node.js 18 or newer, at best Node.js 24.\nnvm install   18\nWe like node; 18 boats.\nvnode18 and node180\n",
		)},
		"CHANGELOG.md":      {Data: []byte("dropped node 18\n")},
		"tsconfig.json":     {Data: []byte(`{"extends": "@tsconfig/node18/tsconfig.json"}`)},
		"src/old.js":        {Data: []byte("// node 18 has a bug here\n")},
		"vendor/x/notes.md": {Data: []byte("node 18\n")},
	}
	x := indexed(t, files)
	pins, _, err := Read(x, nowhere, nil)
	require.NoError(t, err)
	to, err := version.Plain{}.Newest("22")
	require.NoError(t, err)
	aim := Aim{To: to, Low: to, Enough: func(v version.Version) bool { return v.Compare(to) >= 0 }}
	assert.Equal(t,
		"these still speak of an older runtime/node, and are left to you: "+
			"Makefile:2 (node18), README.md:1 (Node.js 18), README.md:2 (nvm install 18), tsconfig.json:1 (node18)", Beside(x, pins, aim))

	older, err := version.Plain{}.Newest("18")
	require.NoError(t, err)
	aim.To, aim.Low = older, older
	assert.Empty(t, Beside(x, pins, aim), "nothing is left")
}

// TestWholeVersionOfALine takes a release that is known where a whole version has to stand.
func TestWholeVersionOfALine(t *testing.T) {
	files := fstest.MapFS{".tool-versions": {Data: []byte("nodejs 18.19.0\n")}}
	pins, _, err := Read(indexed(t, files), nowhere, nil)
	require.NoError(t, err)
	to, err := version.Plain{}.Newest("20")
	require.NoError(t, err)
	aim := Aim{To: to, Low: to, Enough: func(v version.Version) bool { return v.String() != "20.99.0" }}
	for _, text := range []string{"20.9.0", "20.99.0", "20.18.3", "22.1.0"} {
		v, err := version.Plain{}.Parse(text)
		require.NoError(t, err)
		aim.Known = append(aim.Known, v)
	}
	raised, err := Raise(files, pins, aim)
	require.NoError(t, err)
	require.Len(t, raised.Edits, 1)
	assert.Equal(t, "nodejs 20.18.3\n", string(raised.Edits[0].New))
	assert.Empty(t, raised.Notes)
}
