package gomod

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"bellwether/internal/core/contract"
	versions "bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
	"bellwether/internal/standin/shorthand"
)

// BenchmarkGrowth takes all of a project's requirements, a tenth of the modules
// in its graph, to the newest, with all that is fetched kept.
func BenchmarkGrowth(b *testing.B) {
	for _, n := range []int{10, 50, 200, 1000, 2000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			root := b.TempDir()
			text, code := "module own.example/ferry\n\ngo 1.21\n\n", "package ferry\n\n"
			direct := max(1, n/10)
			for i := range direct {
				text += fmt.Sprintf("require m%d.example/x v1.0.0\n", i)
				code += fmt.Sprintf("import _ \"m%d.example/x\"\n", i)
			}
			require.NoError(b, os.WriteFile(filepath.Join(root, "go.mod"), []byte(text), 0o644))
			require.NoError(b, os.WriteFile(filepath.Join(root, "ferry.go"), []byte(code), 0o644))
			u, err := shorthand.Modules(layered(n))
			require.NoError(b, err)
			server := httptest.NewServer(u.Proxy())
			defer server.Close()
			cache := b.TempDir()
			resolve := func() {
				c, err := Ecosystem{}.Read(indexed(os.DirFS(root)), ".")
				require.NoError(b, err)
				r, err := Ecosystem{}.Connect(context.Background(), ecosystem.Surroundings{
					Environ: []string{"GOPROXY=" + server.URL, "GOSUMDB=off", "GOMODCACHE=" + root, "GOENV=off"},
					Client:  fetch.New(fetch.Config{CacheDir: cache, MaxAge: 1 << 40}),
					Ask:     func(context.Context, ...string) (string, error) { return "go1.26.0", nil },
				}, ".")
				require.NoError(b, err)
				goal := contract.Goal{Bounds: map[string]contract.Bound{}}
				for i := range direct {
					goal.Bounds[fmt.Sprintf("m%d.example/x", i)] = contract.Bound{
						Newest: true, Allow: func(v versions.Version) bool { return v.Line() == "v1" },
					}
				}
				_, err = r.Resolve(context.Background(), ecosystem.Ask{Component: c, Goal: goal})
				require.NoError(b, err)
			}
			resolve()
			for b.Loop() {
				resolve()
			}
		})
	}
}

// layered has n modules in three versions; each requires some with higher
// numbers, so that all hang on the first tenth.
func layered(n int) string {
	rng := rand.New(rand.NewPCG(uint64(n), 3))
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
		for minor := range 3 {
			fmt.Fprintf(&b, "m%d.example/x v1.%d.0", i, minor)
			seen := map[int]bool{}
			for _, k := range needs {
				if !seen[k] {
					seen[k] = true
					fmt.Fprintf(&b, " m%d.example/x@v1.%d.0", k, minor)
				}
			}
			b.WriteString("\n")
		}
	}
	return b.String()
}
