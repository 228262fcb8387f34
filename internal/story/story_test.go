package story

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/demo"
	"bellwether/internal/core/model"
	"bellwether/internal/work"
	"bellwether/internal/work/adapt"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/notes"
	"bellwether/internal/work/plan"
	"bellwether/internal/work/world"
)

// TestDemoWithoutRules sees that without the crew's rules every place that the demo's releases
// break is named beforehand: by their notes, or as a key that nobody reads any more.
func TestDemoWithoutRules(t *testing.T) {
	if testing.Short() {
		t.Skip("it solves the demo's route")
	}
	t.Parallel()
	ctx := context.Background()
	dir := t.TempDir()
	require.NoError(t, demo.LayOut(dir))
	book := filepath.Join(dir, "pier.yaml")
	text, err := os.ReadFile(book)
	require.NoError(t, err)
	var kept strings.Builder
	for i, rule := range strings.SplitAfter(string(text), "\n  - ") {
		if rule = strings.TrimSuffix(rule, "  - "); !strings.Contains(rule, "    adapt:") {
			if i > 0 {
				kept.WriteString("  - ")
			}
			kept.WriteString(rule)
		}
	}
	require.NoError(t, os.WriteFile(book, []byte(kept.String()), 0o644))
	s, err := Serve("127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = s.Stop() }()
	p, err := work.Open(
		ctx,
		desk.Options{Dir: dir, NoCache: true, Preview: []string{"tide-form"}, Report: func(desk.Event) {}, Env: []string{
			"npm_config_registry=" + s.URL, "npm_config_userconfig=" + filepath.Join(dir, "none"), "GOPROXY=" + s.URL + goPrefix, "GOSUMDB=off",
			"GOTOOLCHAIN=local", "GOENV=off", "GOFLAGS=-modcacherw", "GOWORK=off", "GOMODCACHE=" + filepath.Join(t.TempDir(), "modules"),
		}},
	)
	require.NoError(t, err)
	_, err = plan.Route(ctx, p.Desk, p.Tree, p.Kept, world.Request{To: []string{demoDestination}, Reach: "major"})
	require.NoError(t, err)

	said, err := notes.Read(ctx, p.Desk, p.Tree, p.Kept, notes.Options{})
	require.NoError(t, err)
	named := map[string]bool{}
	for _, of := range said.Packages {
		for _, e := range of.Entries {
			for _, u := range e.Uses {
				for _, place := range u.Places {
					named[place] = true
				}
			}
		}
	}
	for _, place := range []string{
		"board/src/departures.js:20", "board/src/app.js:5", "board/src/app.js:19", "board/pages/board.html:3", "board/config/board.json:4",
		"board/config/board.json:5", "tide/tide.go:11", "tide/tide.go:16",
	} {
		assert.True(t, named[place], "the notes name %s", place)
	}

	repairs, err := adapt.Preview(ctx, p.Desk, p.Tree, p.Kept, adapt.Options{})
	require.NoError(t, err)
	assert.Empty(t, repairs.Result.Rules)
	keyed := func(k model.KeyFinding) string { return k.Place + " " + k.Key }
	require.Len(t, repairs.Result.Keys, 1)
	assert.Equal(t, "board/config/board.json:4 quayside.refresh", keyed(repairs.Result.Keys[0]))
}
