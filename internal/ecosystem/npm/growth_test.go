package npm

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"bellwether/internal/core/contract"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
	"bellwether/internal/standin/shorthand"
)

// tower is n packages in three versions, a tenth of them required directly; each
// needs some with higher numbers, a few at an older major, and some meet a peer.
func tower(n int) (universe, manifest string) {
	rng := rand.New(rand.NewPCG(uint64(n), 7))
	var b strings.Builder
	for i := range n {
		var needs []int
		for k := 10 * i; k < min(10*i+10, n); k++ {
			if k > i {
				needs = append(needs, k)
			}
		}
		for range 3 {
			if i+1 < n {
				needs = append(needs, i+1+rng.IntN(n-i-1))
			}
		}
		old := rng.IntN(8) == 0
		peer := i > 0 && rng.IntN(10) == 0
		for _, version := range []string{"1.0.0", "2.0.0", "2.1.0"} {
			fmt.Fprintf(&b, "p%d %s", i, version)
			seen := map[int]bool{0: true}
			for _, k := range needs {
				if seen[k] {
					continue
				}
				seen[k] = true
				rng := "^2.0.0"
				if old && k%3 == 0 {
					rng = "^1.0.0"
				}
				fmt.Fprintf(&b, " p%d@%s", k, rng)
			}
			if peer {
				b.WriteString(" peer:p0@>=1")
			}
			b.WriteString("\n")
		}
	}
	var direct []string
	for i := range max(1, n/10) {
		direct = append(direct, fmt.Sprintf("%q: \"^2.0.0\"", fmt.Sprintf("p%d", i)))
	}
	return b.String(), fmt.Sprintf("{\"name\": \"tower\", \"version\": \"1.0.0\", \"dependencies\": {%s}}\n", strings.Join(direct, ", "))
}

// resolveWarm gives a function that resolves a project afresh, with all documents
// cached.
func resolveWarm(b *testing.B, universe, manifest string) func() *contract.State {
	u, err := shorthand.Load(universe)
	require.NoError(b, err)
	server := httptest.NewServer(u.NPM())
	b.Cleanup(server.Close)
	root, cache := b.TempDir(), b.TempDir()
	require.NoError(b, os.WriteFile(filepath.Join(root, "package.json"), []byte(manifest), 0o644))
	resolve := func() *contract.State {
		c, err := Ecosystem{}.Read(indexed(os.DirFS(root)), ".")
		require.NoError(b, err)
		r, err := Ecosystem{}.Connect(context.Background(), ecosystem.Surroundings{
			Files: os.DirFS(root), Environ: []string{"npm_config_registry=" + server.URL},
			Client: fetch.New(fetch.Config{CacheDir: cache, MaxAge: time.Hour}), Now: time.Now(),
			Ask: func(context.Context, ...string) (string, error) { return "20.20.0", nil },
		}, ".")
		require.NoError(b, err)
		o, err := r.Resolve(context.Background(), ecosystem.Ask{Component: c, Goal: contract.Goal{}})
		require.NoError(b, err)
		return o
	}
	resolve()
	return resolve
}

// BenchmarkGrowth resolves a project without a lock, with all that is fetched kept.
func BenchmarkGrowth(b *testing.B) {
	for _, n := range []int{100, 300, 1000, 3000, 10000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			universe, manifest := tower(n)
			resolve := resolveWarm(b, universe, manifest)
			b.ReportAllocs()
			for b.Loop() {
				resolve()
			}
		})
	}
}

// BenchmarkWide resolves what has very much of one kind: requirements, or versions.
func BenchmarkWide(b *testing.B) {
	b.Run("10,000 requirements", func(b *testing.B) {
		var universe strings.Builder
		var direct []string
		for i := range 10_000 {
			fmt.Fprintf(&universe, "p%d 1.0.0\np%d 1.1.0\n", i, i)
			direct = append(direct, fmt.Sprintf("%q: \"^1.0.0\"", fmt.Sprintf("p%d", i)))
		}
		resolve := resolveWarm(b, universe.String(), fmt.Sprintf("{\"dependencies\": {%s}}", strings.Join(direct, ", ")))
		for b.Loop() {
			resolve()
		}
	})
	b.Run("5,000 versions", func(b *testing.B) {
		var universe strings.Builder
		for i := range 5_000 {
			fmt.Fprintf(&universe, "crane %d.%d.0 peer:frame@^%d\nframe %d.%d.0\n", i/50, i%50, i/50, i/50, i%50)
		}
		resolve := resolveWarm(b, universe.String(), `{"dependencies": {"crane": "*", "frame": "^40.0.0"}}`)
		for b.Loop() {
			resolve()
		}
	})
}

// TestOrderOfAnswers resolves the same project against a registry that answers late
// and in another order each time: the lock is the same.
func TestOrderOfAnswers(t *testing.T) {
	for seed := range uint64(6) {
		rng := rand.New(rand.NewPCG(seed, 11))
		universe, manifests := harbourTown(rng)
		u, err := shorthand.Load(universe)
		require.NoError(t, err)
		var first string
		for round := range uint64(5) {
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				late := rand.New(rand.NewPCG(round, uint64(len(r.URL.Path))+uint64(r.URL.Path[len(r.URL.Path)-1])))
				time.Sleep(time.Duration(late.IntN(8)) * time.Millisecond)
				u.NPM().ServeHTTP(w, r)
			}))
			dir := t.TempDir()
			writeManifests(t, dir, manifests)
			o, err := resolveIn(dir, "", []string{"npm_config_registry=" + server.URL, "npm_config_omit_lockfile_registry_resolved=true"})
			server.Close()
			result := fmt.Sprint(err)
			if err == nil {
				result = string(o.Edits[len(o.Edits)-1].New) + strings.Join(o.Notices, "\n")
			}
			if round == 0 {
				first = result
			}
			require.Equal(t, first, result, "universe %d, round %d", seed, round)
		}
	}
}
