package gomod

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/module"

	"bellwether/internal/core/contract"
	"bellwether/internal/ecosystem/gomod/project"
	"bellwether/internal/ecosystem/gomod/selection"
	"bellwether/internal/ecosystem/gomod/tidying"
)

var universes = flag.Int("universes", 24, "how many random universes the go command judges")

// TestSelectionOfRandomUniverses compares what is selected with the go
// command's own list, with and without pruning on every level.
func TestSelectionOfRandomUniverses(t *testing.T) {
	for seed := range *universes {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			rng := rand.New(rand.NewPCG(uint64(seed), 17))
			universe, roots := randomUniverse(rng)
			goVersion := []string{"1.16", "1.17", "1.21", "1.24"}[rng.IntN(4)]
			root := t.TempDir()
			text := "module own.example/ferry\n\ngo " + goVersion + "\n\n"
			for _, m := range roots {
				text += "require " + m.Path + " " + m.Version + "\n"
			}
			require.NoError(t, os.WriteFile(filepath.Join(root, "go.mod"), []byte(text), 0o644))
			j := newJudge(t, root, ".", universe)
			p, err := project.Read(indexed(os.DirFS(root)), ".")
			require.NoError(t, err)
			r, err := j.connect(root)
			require.NoError(t, err)
			s := tidying.New(context.Background(), r.(*registries).Registry, p)
			rs, err := s.Raise(p.Roots(), nil, selection.Prunes(p.GoVersion()))
			require.NoError(t, err)
			var got []string
			for _, m := range rs.BuildList() {
				got = append(got, m.Path+" "+m.Version)
			}
			want := strings.Split(strings.TrimSpace(j.ask("list -m all", func() string { return j.run("list", "-mod=mod", "-m", "all") })), "\n")
			assert.Equal(t, want[1:], got, "seed %d:\n%s\n%s", seed, universe, text)
		})
	}
}

// randomUniverse has modules m0, m1, … that require each other at random, and
// says which of them the main module requires.
func randomUniverse(rng *rand.Rand) (universe string, roots []module.Version) {
	var b strings.Builder
	n := 4 + rng.IntN(12)
	name := func(i int) string { return fmt.Sprintf("m%d.example/x", i) }
	at := func() string { return fmt.Sprintf("v1.%d.0", rng.IntN(5)) }
	for i := range n {
		for minor := range 5 {
			fmt.Fprintf(&b, "%s v1.%d.0 go:%s", name(i), minor, []string{"-", "1.16", "1.17", "1.20", "1.21"}[rng.IntN(5)])
			seen := map[int]bool{i: true}
			for range rng.IntN(4) {
				if k := rng.IntN(n); !seen[k] {
					seen[k] = true
					kind := []string{"req:", "test:", ""}[rng.IntN(3)]
					if k < i && kind == "" {
						kind = "req:" // packages must not import each other in a circle
					}
					fmt.Fprintf(&b, " %s%s@%s", kind, name(k), at())
				}
			}
			b.WriteString("\n")
		}
	}
	for i := range 1 + rng.IntN(3) {
		roots = append(roots, module.Version{Path: name(i), Version: at()})
	}
	return b.String(), roots
}

// TestMovingInRandomUniverses makes a random project, has the go command tidy
// it, takes everything to the newest, and has the go command judge that.
func TestMovingInRandomUniverses(t *testing.T) {
	for seed := range *universes {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			rng := rand.New(rand.NewPCG(uint64(seed), 18))
			universe, roots := randomUniverse(rng)
			root := t.TempDir()
			text := "module own.example/ferry\n\ngo " + []string{"1.16", "1.17", "1.21", "1.24"}[rng.IntN(4)] + "\n\n"
			code, ask := "package ferry\n\n", ""
			for _, m := range roots {
				text += "require " + m.Path + " " + m.Version + "\n"
				code += fmt.Sprintf("import _ %q\n", m.Path)
				ask += "newest " + m.Path + "\n"
			}
			require.NoError(t, os.WriteFile(filepath.Join(root, "go.mod"), []byte(text), 0o644))
			require.NoError(t, os.WriteFile(filepath.Join(root, "ferry.go"), []byte(code), 0o644))
			j := newJudge(t, root, ".", universe)
			if out := j.ask("mod tidy", func() string {
				if _, err := j.command("mod", "tidy"); err != nil {
					return "the go command itself cannot: " + err.Error()
				}
				return ""
			}); out != "" {
				t.Skip(out)
			}
			// With pruning, the go command may leave a requirement below what its
			// own graph selects, and complain of it only when asked for all.
			consistent := j.ask("list -m all, readonly", func() string {
				_, err := j.command("list", "-mod=readonly", "-m", "all")
				return fmt.Sprint(err == nil)
			}) == "true"
			for _, bounds := range []string{"", ask} {
				o, err := j.resolve(root, ".", bounds)
				require.NoError(t, err, universe)
				if bounds == "" && consistent {
					assert.Empty(t, edited(o), "what is tidy stays as it is:\n%s", universe)
				}
				for _, e := range o.Edits {
					require.NoError(t, os.WriteFile(filepath.Join(root, e.File), e.New, 0o644))
				}
			}
			j.ask("accepts", func() string {
				j.run("mod", "tidy", "-diff")
				j.run("build", "-mod=readonly", "./...")
				return ""
			})
		})
	}
}

// edited shows edits.
func edited(o *contract.State) string {
	text := ""
	for _, e := range o.Edits {
		text += e.File + "\n" + string(e.New)
	}
	return text
}
