package gem

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gem/gemfile"
	"bellwether/internal/ecosystem/gem/lock"
	"bellwether/internal/ecosystem/gem/project"
	"bellwether/internal/standin/verdict"
)

// What Ruby makes of a Gemfile and a gemspec: the gems and their requirements.
const (
	evalGemfile = `require "bundler"; require "json"
d = Bundler::Dsl.new; d.eval_gemfile("Gemfile")
puts JSON.generate(d.dependencies.map { |x| [x.name, x.requirement.requirements.map { |op, v| "#{op} #{v}" }.sort] })`
	evalGemspec = `require "json"
s = Gem::Specification.load("board.gemspec")
puts JSON.generate(s.dependencies.map { |x| [x.name, x.requirement.requirements.map { |op, v| "#{op} #{v}" }.sort] })`
)

// TestCorpus reads Gemfiles and gemspecs as Ruby does: what it knows of a gem whose line the text alone tells is what
// Ruby knows, and there is no gem that is overlooked without a word. Nothing changed is the same bytes.
func TestCorpus(t *testing.T) {
	archive, err := txtar.ParseFile("testdata/corpus.txtar")
	require.NoError(t, err)
	for _, f := range archive.Files {
		t.Run(f.Name, func(t *testing.T) {
			dir := t.TempDir()
			name, program := "Gemfile", evalGemfile
			if strings.HasSuffix(f.Name, ".gemspec") {
				name, program = "board.gemspec", evalGemspec
				require.NoError(t, os.WriteFile(filepath.Join(dir, "Gemfile"), []byte("gemspec\n"), 0o644))
			}
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), f.Data, 0o644))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "shared.gemfile"), []byte("gem 'shared', '~> 2.0'\n"), 0o644))
			said := book.Check(t, verdict.Case{Client: "ruby", Question: []string{"-e", program}, Dir: dir}, func() string {
				cmd := exec.Command("ruby", "-e", program)
				cmd.Dir, cmd.Env = dir, append(os.Environ(), "LANG=C.UTF-8", "CI=", "BUNDLE_SILENCE_ROOT_WARNING=1")
				out, err := cmd.Output()
				require.NoError(t, err)
				return string(out)
			})
			var theirs [][2]any
			require.NoError(t, json.Unmarshal([]byte(said), &theirs))
			x, err := ecosystem.Walk(os.DirFS(dir), nil)
			require.NoError(t, err)
			c, err := Ecosystem{}.Read(x, ".")
			require.NoError(t, err)
			p := c.Detail.(*project.Project)
			asked := map[string][]string{}
			for _, d := range theirs {
				for _, part := range d[1].([]any) {
					asked[d[0].(string)] = append(asked[d[0].(string)], part.(string))
				}
			}
			known := map[string]bool{}
			for _, q := range c.Requirements {
				known[q.Name] = true
				if q.Fixed == gemfile.Conditional || q.Fixed == gemfile.ComputedBlock || q.Fixed == gemfile.ComputedVersion {
					continue
				}
				want := slices.Clone(asked[q.Name])
				if assert.NotNil(t, want, "Ruby knows nothing of %s", q.Name) {
					slices.Sort(want)
					got := strings.Split(lock.LockRange(p.Versions(q)), ", ")
					if got[0] == "" {
						got = []string{">= 0"}
					}
					slices.Sort(got)
					assert.Equal(t, slices.Compact(want), spacedParts(got), q.Name)
				}
			}
			for name := range asked {
				assert.True(t, known[name] || p.Gemfile.Computes.File != "", "%s is overlooked", name)
			}
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(strings.ReplaceAll(string(f.Data), "\n", "\r\n")), 0o644))
			windows, err := Ecosystem{}.Read(x, ".")
			require.NoError(t, err)
			assert.Equal(t, plainly(c), plainly(windows), "with other line ends")
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), f.Data, 0o644))
			edits, err := Ecosystem{}.Rewrite(c, nil, nil)
			require.NoError(t, err)
			assert.Empty(t, edits)
			for file, text := range p.Gemfile.Texts {
				same, err := model.Apply(text, nil)
				require.NoError(t, err)
				onDisk, err := os.ReadFile(filepath.Join(dir, file))
				require.NoError(t, err)
				assert.Equal(t, string(onDisk), string(same))
			}
			for _, d := range slices.Concat(p.Gemfile.Gems, p.Specced) {
				if src := p.Gemfile.Texts[d.File]; d.Site.Text != "" {
					assert.Equal(t, d.Site.Text, string(src[d.Site.Start:d.Site.End]))
				}
			}
		})
	}
}

// plainly are the requirements of a component without their places.
func plainly(c *model.Component) (lines []string) {
	for _, q := range c.Requirements {
		lines = append(lines, strings.Join([]string{q.Name, q.Range, q.Group, q.Fixed}, " "))
	}
	return lines
}

// spacedParts are the parts of a requirement with one blank behind each operator.
func spacedParts(parts []string) (all []string) {
	for _, p := range parts {
		bare := strings.TrimLeft(p, "=<>~!")
		all = append(all, p[:len(p)-len(bare)]+" "+strings.TrimSpace(bare))
	}
	return all
}
