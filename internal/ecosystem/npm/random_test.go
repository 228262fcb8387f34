package npm

import (
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"bellwether/internal/core/solve"
	"bellwether/internal/standin/shorthand"
)

var (
	towns  = flag.Int("towns", 60, "how many random universes are resolved")
	judged = flag.Int("judged", 0, "how many of them npm judges, too")
)

// harbourTown writes a random universe in shorthand and manifests for it:
// some packages with a few majors, dependencies in ranges that exist, peers,
// optional packages, and cycles. Every third is a workspace with two members.
func harbourTown(rng *rand.Rand) (universe string, manifests map[string]string) {
	n := 4 + rng.IntN(12)
	majors := make([]int, n)
	for i := range majors {
		majors[i] = 1 + rng.IntN(3)
	}
	anyRange := func(i int) string {
		major := 1 + rng.IntN(majors[i])
		return []string{
			fmt.Sprintf("^%d.0.0", major), fmt.Sprintf("%d.x", major), fmt.Sprintf("~%d.1.0", major), fmt.Sprintf(">=%d.0.0", major),
			"*",
		}[rng.IntN(5)]
	}
	var lines strings.Builder
	for i := range n {
		for major := 1; major <= majors[i]; major++ {
			for minor := range 2 {
				fmt.Fprintf(&lines, "p%d %d.%d.0", i, major, minor)
				used := map[int]bool{i: rng.IntN(20) > 0}
				for range rng.IntN(4) {
					t := rng.IntN(n)
					if used[t] {
						continue
					}
					used[t] = true
					kind := []string{"", "", "", "", "peer:", "peer?:", "opt:"}[rng.IntN(7)]
					fmt.Fprintf(&lines, " %sp%d@%s", kind, t, anyRange(t))
				}
				lines.WriteString("\n")
			}
		}
	}
	asks := func() string {
		var deps []string
		for i := range n {
			if rng.IntN(3) == 0 {
				deps = append(deps, fmt.Sprintf("%q: %q", fmt.Sprintf("p%d", i), anyRange(i)))
			}
		}
		return fmt.Sprintf(`"version": "1.0.0", "dependencies": { %s } }`+"\n", strings.Join(deps, ", "))
	}
	manifests = map[string]string{"package.json": `{ "name": "town", ` + asks()}
	if rng.IntN(3) == 0 {
		manifests = map[string]string{"package.json": `{ "name": "town", "workspaces": ["a", "b"], ` + asks()}
		for _, member := range []string{"a", "b"} {
			manifests[member+"/package.json"] = fmt.Sprintf(`{ "name": %q, `, member) + asks()
		}
	}
	return lines.String(), manifests
}

// TestRandomUniverses resolves random projects afresh and then moves one
// requirement at a time; every lock is checked, and a lock that is resolved
// again must stay as it is.
func TestRandomUniverses(t *testing.T) {
	solved := 0
	count := max(*towns, *judged)
	if testing.Short() {
		count = min(count, 20)
	}
	for n := range count {
		rng := rand.New(rand.NewPCG(uint64(n), 11))
		universe, manifests := harbourTown(rng)
		if resolveTown(t, n, rng, universe, manifests, n < *judged) {
			solved++
		}
	}
	require.Greater(t, solved, count/2, "most towns must be solvable")
}

func resolveTown(t *testing.T, n int, rng *rand.Rand, universe string, manifests map[string]string, judge bool) bool {
	u, err := shorthand.Load(universe)
	require.NoError(t, err)
	server := httptest.NewServer(u.NPM())
	defer server.Close()
	dir := t.TempDir()
	defer func() {
		if t.Failed() {
			t.Logf("universe %d:\n%s%v", n, universe, manifests)
		}
	}()
	writeManifests(t, dir, manifests)
	environ := []string{"npm_config_registry=" + server.URL}
	solved := false
	for _, ask := range []string{"", fmt.Sprintf("p%d *", rng.IntN(4)), fmt.Sprintf("p%d >=2", rng.IntN(4)), ""} {
		outcome, err := resolveIn(dir, ask, environ)
		var conflict *solve.Conflict
		if errors.As(err, &conflict) {
			if ask == "" {
				return solved
			}
			continue
		}
		require.NoError(t, err, "universe %d, asked for %q", n, ask)
		solved = true
		for _, edit := range outcome.Edits {
			require.NoError(t, os.WriteFile(filepath.Join(dir, edit.File), edit.New, 0o644))
		}
		if len(outcome.Notices)+len(outcome.AsBefore) == 0 {
			require.NoError(t, checkLockIn(os.DirFS(dir), "."), "universe %d, asked for %q", n, ask)
		}
		again, err := resolveIn(dir, "", environ)
		require.NoError(t, err, "universe %d, again after %q", n, ask)
		for _, edit := range again.Edits {
			require.Equal(t, string(edit.Old), string(edit.New), "universe %d: resolving again after %q changes %s", n, ask, edit.File)
		}
		if judge && len(outcome.Notices)+len(outcome.AsBefore) == 0 {
			newJudge(t, dir, server.URL, universe).accepts()
		}
	}
	return solved
}

func writeManifests(t *testing.T, dir string, manifests map[string]string) {
	for file, text := range manifests {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, filepath.Dir(file)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(text), 0o644))
	}
}
