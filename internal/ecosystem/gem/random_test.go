package gem

import (
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/solve"
	"bellwether/internal/ecosystem/gem/lock"
)

var (
	worlds     = flag.Int("worlds", 12, "how many random universes are resolved")
	firstWorld = flag.Uint64("first-world", 1, "the seed of the first one")
)

// randomWorld makes gems with releases, dependencies, pre-releases and files for platforms, a
// Gemfile for some of them, and now and then the gemspec of one more that is in a repository.
func randomWorld(seed uint64) (before, after, manifest, ask, source string) {
	rng := rand.New(rand.NewPCG(seed, 17))
	pick := func(n int) int { return rng.IntN(n) }
	names := []string{"anchor", "bollard", "cleat", "dock-x", "dock_y", "engine", "fender", "gangway"}
	var early, late strings.Builder
	majors := 2 + pick(2)
	for i, name := range names {
		platformed := pick(5) == 0
		for major := 1; major <= majors; major++ {
			for minor := range 1 + pick(3) {
				line := fmt.Sprintf("%s %d.%d.%d", name, major, minor, pick(2))
				if pick(12) == 0 {
					line += ".rc1"
				}
				for k := i + 1; k < len(names); k++ {
					if pick(4) != 0 {
						continue
					}
					m := 1 + pick(major)
					line += " " + names[k] + ":" + []string{
						">=_0", fmt.Sprintf("~>_%d.0", m), fmt.Sprintf(">=_%d.0", m), fmt.Sprintf(">=_%d.0,<_%d", m, m+2), fmt.Sprintf("<_%d", m+1),
					}[pick(5)]
				}
				into := &late
				if major == 1 || minor == 0 && major == 2 && pick(2) == 0 {
					into = &early
				}
				into.WriteString(line + "\n")
				if platformed {
					into.WriteString(line + " on:x86_64-linux\n")
				}
			}
		}
	}
	var b strings.Builder
	b.WriteString("source \"http://gems.example/\"\n\n")
	for _, name := range names[:2+pick(4)] {
		b.WriteString("gem \"" + name + "\"")
		switch pick(4) {
		case 0:
			b.WriteString(", \"~> 1.0\"")
		case 1:
			b.WriteString(", '>= 1.0', '< 3'")
		case 2:
			b.WriteString(", \">= 1\" # as it comes")
		}
		b.WriteString("\n")
	}
	if pick(4) == 0 {
		b.WriteString("gem \"mast\", git: \"http://git.example/mast.git\", branch: \"main\"\n")
		source = fmt.Sprintf(`Gem::Specification.new do |s|
  s.name, s.summary, s.authors, s.files = "mast", "Masts", ["Crew"], []
  s.version = "0.%d.0"
  s.add_dependency "%s", ">= 1.0"
end
`, pick(9), names[pick(len(names))])
	}
	return early.String(), late.String(), b.String(), fmt.Sprintf("%s >= %d.0", names[pick(2)], 1+pick(majors)), source
}

// upward is a Gemfile that asks for as much as a refused goal allowed: what is asked for, and of all others what is locked
// or newer.
func upward(t *testing.T, text, manifest, ask string) string {
	l, err := lock.Read("Gemfile.lock", []byte(text))
	require.NoError(t, err)
	wanted, rng, _ := strings.Cut(ask, " ")
	var b strings.Builder
	for line := range strings.Lines(manifest) {
		name, is := strings.CutPrefix(line, `gem "`)
		name, _, _ = strings.Cut(name, `"`)
		switch {
		case !is || strings.Contains(line, "git:"):
			b.WriteString(line)
		case name == wanted:
			fmt.Fprintf(&b, "gem %q, %q, %q\n", name, rng, ">= "+l.Version(name))
		default:
			fmt.Fprintf(&b, "gem %q, %q\n", name, ">= "+l.Version(name))
		}
	}
	return b.String()
}

// TestRandom resolves random universes: what is found holds by a checker that knows nothing but
// lock and Gemfile, and Bundler leaves the lock as it is; a refusal has a proof, and Bundler finds nothing either.
func TestRandom(t *testing.T) {
	met, refused, unnamed, skipped := 0, 0, 0, 0
	for seed := *firstWorld; seed < *firstWorld+uint64(*worlds); seed++ {
		before, after, manifest, ask, source := randomWorld(seed)
		dir := t.TempDir()
		write := func(name, text string) {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
		}
		if source != "" {
			repositories(t, map[string]string{"git:mast/mast.gemspec": source})
		}
		write("Gemfile", manifest)
		text := locked(t, dir, before)
		if !strings.Contains(text, "GEM\n") {
			skipped++ // there was no solution to begin with
			continue
		}
		write("Gemfile.lock", text)
		state, err := solved(t, dir, before+after, ask, "")
		var conflict *solve.Conflict
		if errors.As(err, &conflict) {
			assert.NotEmpty(t, conflict.Proof().Lines())
			write("Gemfile", upward(t, text, manifest, ask))
			require.NoError(t, os.Remove(filepath.Join(dir, "Gemfile.lock")))
			if theirs := locked(t, dir, before+after); strings.Contains(theirs, "GEM\n") {
				assert.Contains(t, theirs, ".rc1)", "seed %d: Bundler finds a solution, and with no pre-release that nobody named", seed)
				unnamed++
			}
			refused++
			continue
		}
		require.NoError(t, err, "seed %d", seed)
		for _, e := range state.Edits {
			write(e.File, string(e.New))
		}
		ours, err := os.ReadFile(filepath.Join(dir, "Gemfile.lock"))
		require.NoError(t, err)
		l, err := lock.Read("Gemfile.lock", ours)
		require.NoError(t, err)
		check(t, dir, l)
		if !assert.Equal(t, locked(t, dir, before+after), string(ours), "seed %d, %s, %s", seed, ask, manifest) {
			return
		}
		met++
	}
	t.Logf(
		"%d solved, %d refused, %d of them could be with a pre-release that nobody named, %d had no lock to begin with",
		met,
		refused,
		unnamed,
		skipped,
	)
	assert.Positive(t, met)
}
