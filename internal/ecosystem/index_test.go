package ecosystem

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
	"bellwether/internal/core/overlay"
)

func TestWalk(t *testing.T) {
	fsys := fstest.MapFS{
		"a/package.json": {}, "a.b/package.json": {}, "package.json": {}, "node_modules/x/package.json": {}, "a/node_modules/y": {},
		".git/config": {}, ".github/check.yml": {}, "keep/notes": {}, "link": {Mode: fs.ModeSymlink}, "_old/go.mod": {},
	}
	x, err := Walk(fsys, func(dir string) bool { return dir == "keep" })
	require.NoError(t, err)
	assert.Equal(t, []string{".github/check.yml", "_old/go.mod", "a/package.json", "a.b/package.json", "link", "package.json"}, x.Files())
	assert.True(t, x.IsLink("link"))
	dotted := func(folder string) bool { return folder[0] == '.' || folder[0] == '_' }
	assert.Equal(t, []string{"a/package.json", "a.b/package.json", "package.json"}, x.Named([]string{"package.json", "go.mod"}, dotted))
	assert.Equal(t, []string{".github/check.yml"}, x.Named([]string{"*.yml"}, func(string) bool { return false }))
}

// TestOver lays random edits over a project, and compares with walking what comes of them.
func TestOver(t *testing.T) {
	for seed := range uint64(200) {
		rng := rand.New(rand.NewPCG(seed, 37))
		disk, after := fstest.MapFS{}, fstest.MapFS{}
		name := func() string {
			return fmt.Sprintf("%c/%c%s", 'a'+rng.IntN(3), 'a'+rng.IntN(3), []string{"", ".x", "-/y"}[rng.IntN(3)])
		}
		files := map[string]bool{}
		for range 6 {
			files[name()] = true
		}
		for file := range files {
			disk[file], after[file] = &fstest.MapFile{}, &fstest.MapFile{}
		}
		var edits []model.FileEdit
		for range 3 {
			e := model.FileEdit{File: name()}
			if rng.IntN(2) == 0 {
				e.New = []byte("new")
				after[e.File] = &fstest.MapFile{Data: e.New}
			} else {
				delete(after, e.File)
			}
			edits = append(edits, e)
		}
		x, err := Walk(disk, nil)
		require.NoError(t, err)
		over := overlay.With(overlay.With(disk, edits[:1]), edits[1:])
		var want []string
		if x, err := Walk(after, nil); err == nil {
			want = x.Files()
		}
		assert.Equal(t, want, x.Over(over).Files(), "seed %d: %v, %v", seed, files, edits)
	}
}
