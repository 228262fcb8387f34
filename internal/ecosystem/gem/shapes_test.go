package gem

import (
	"context"
	"fmt"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gem/lock"
	"bellwether/internal/ecosystem/gem/project"
	"bellwether/internal/host/fetch"
	"bellwether/internal/standin/shorthand"
	"bellwether/internal/standin/verdict"
)

// book has what Bundler said before.
var book = verdict.Open("testdata/verdicts.json")

func TestMain(m *testing.M) { os.Exit(verdict.Runner{M: m, Book: book}.Run()) }

// server serves gems that lines describe.
func server(t *testing.T, lines string) string {
	t.Helper()
	gems, err := shorthand.Gems(lines)
	require.NoError(t, err)
	s := httptest.NewServer(gems.Index())
	t.Cleanup(s.Close)
	return s.URL + "/"
}

// mirrors are the settings by which servers stand for the two sources of the shapes. Lines that begin with
// "own:" are of the second source alone; without such lines both have the same.
func mirrors(t *testing.T, universe string) []string {
	t.Helper()
	var gems, own strings.Builder
	for line := range strings.Lines(universe) {
		if text, ok := strings.CutPrefix(line, "own:"); ok {
			own.WriteString(text)
		} else {
			gems.WriteString(line)
		}
	}
	first := server(t, gems.String())
	second := first
	if own.Len() > 0 {
		second = server(t, own.String())
	}
	return []string{"BUNDLE_MIRROR__HTTP://GEMS__EXAMPLE/=" + first, "BUNDLE_MIRROR__HTTP://OWN__EXAMPLE/=" + second}
}

// locked is the lock that Bundler leaves in a folder, if it was not asked the same before.
func locked(t *testing.T, dir, universe string, options ...string) string {
	t.Helper()
	return book.Check(
		t,
		verdict.Case{Client: "bundle", Question: append([]string{"lock"}, options...), Dir: dir, Given: universe},
		func() string {
			cmd := exec.Command("bundle", append([]string{"lock"}, options...)...)
			cmd.Dir = dir
			cmd.Env = environment(t, universe)
			if out, err := cmd.CombinedOutput(); err != nil {
				return "bundle lock: " + err.Error() + "\n" + string(out)
			}
			text, err := os.ReadFile(filepath.Join(dir, "Gemfile.lock"))
			require.NoError(t, err)
			return string(text)
		},
	)
}

// installs sees that Bundler installs what the lock has, without changing it.
func installs(t *testing.T, dir, universe string) {
	t.Helper()
	said := book.Check(t, verdict.Case{Client: "bundle", Question: []string{"install"}, Dir: dir, Given: universe}, func() string {
		cmd := exec.Command("bundle", "install", "--quiet")
		cmd.Dir = dir
		cmd.Env = append(environment(t, universe), "BUNDLE_FROZEN=true", "BUNDLE_PATH="+t.TempDir())
		out, err := cmd.CombinedOutput()
		if err != nil {
			return "bundle install: " + err.Error() + "\n" + string(out)
		}
		return "installed"
	})
	assert.Equal(t, "installed", said)
}

// environment is what Bundler gets to know of the machine.
func environment(t *testing.T, universe string) []string {
	home := t.TempDir()
	return append(
		mirrors(t, universe),
		"PATH="+os.Getenv("PATH"),
		"HOME="+home,
		"BUNDLE_USER_HOME="+home,
		"LANG=C.UTF-8",
		"BUNDLE_SILENCE_ROOT_WARNING=1",
		"BUNDLE_JOBS=1",
		"BUNDLE_RETRY=0",
		"GIT_CONFIG_GLOBAL="+os.Getenv("GIT_CONFIG_GLOBAL"),
		"GEM_HOME="+filepath.Join(home, "gems"),
	)
}

// A shape is a txtar file: "before" and "after", the gems that there are when the lock is made and
// those that come later, or "instead", all that there are then; the Gemfile, other
// files as "file:NAME"; "git:REPOSITORY/NAME", a file of http://git.example/REPOSITORY.git;
// "changes", an old name, a new one and a requirement a line, "-" for none; "ask", a name and a requirement a line;
// "want", a gem and its version a line, or "error:" and a text that the error must hold; and what the Gemfile becomes.
func TestShapes(t *testing.T) {
	files, err := filepath.Glob("testdata/shapes/*.txtar")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txtar"), func(t *testing.T) {
			archive, err := txtar.ParseFile(file)
			require.NoError(t, err)
			runShape(t, archive)
		})
	}
}

func runShape(t *testing.T, archive *txtar.Archive) {
	parts := map[string]string{}
	for _, f := range archive.Files {
		parts[f.Name] = string(f.Data)
	}
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	for name, text := range parts {
		if file, ok := strings.CutPrefix(name, "file:"); ok {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, file)), 0o755))
			write(file, text)
		}
	}
	repositories(t, parts)
	write("Gemfile", parts["Gemfile"])
	var options []string
	for platform := range strings.FieldsSeq(parts["platforms"]) {
		options = append(options, "--add-platform", platform)
	}
	if _, first := parts["no lock"]; !first {
		lock := locked(t, dir, parts["before"], options...)
		require.Contains(t, lock, "GEM\n", lock)
		lock = strings.Replace(lock, "BUNDLED WITH", parts["checksums"]+"BUNDLED WITH", 1)
		write("Gemfile.lock", lock)
	}
	if edited, ok := parts["Gemfile.edited"]; ok {
		write("Gemfile", edited)
	}

	universe := parts["before"] + parts["after"]
	if parts["instead"] != "" {
		universe = parts["instead"]
	}
	state, err := solved(t, dir, universe, parts["ask"], parts["changes"])
	if strings.Contains(parts["want"], "error:") {
		require.Error(t, err)
		for line := range strings.Lines(parts["want"]) {
			assert.ErrorContains(t, err, strings.TrimSpace(strings.TrimPrefix(line, "error:")))
		}
		return
	}
	require.NoError(t, err)
	for _, e := range state.Edits {
		write(e.File, string(e.New))
	}
	ours, err := os.ReadFile(filepath.Join(dir, "Gemfile.lock"))
	require.NoError(t, err)
	l, err := lock.Read("Gemfile.lock", ours)
	require.NoError(t, err)
	got := map[string]string{}
	for _, s := range l.Gems() {
		got[s.Name] = s.Version
	}
	want := map[string]string{}
	for line := range strings.Lines(parts["want"]) {
		name, v, _ := strings.Cut(strings.TrimSpace(line), " ")
		want[name] = v
	}
	assert.Equal(t, want, got)
	if text, ok := parts["Gemfile.want"]; ok {
		manifest, err := os.ReadFile(filepath.Join(dir, "Gemfile"))
		require.NoError(t, err)
		assert.Equal(t, text, string(manifest))
	}
	check(t, dir, l)
	installs(t, dir, universe)
	assert.Equal(t, locked(t, dir, universe), string(ours), "Bundler leaves the lock as we wrote it")
}

// repositories makes those of a shape, and has git find them.
func repositories(t *testing.T, parts map[string]string) {
	t.Helper()
	top := t.TempDir()
	made := map[string]bool{}
	for name, text := range parts {
		if file, ok := strings.CutPrefix(name, "git:"); ok {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(top, file)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(top, file), []byte(text), 0o644))
			made[strings.SplitN(file, "/", 2)[0]] = true
		}
	}
	config := filepath.Join(top, "config")
	require.NoError(t, os.WriteFile(config, fmt.Appendf(nil, "[url \"file://%s/\"]\n\tinsteadOf = http://git.example/\n", top), 0o644))
	t.Setenv("GIT_CONFIG_GLOBAL", config)
	for name := range made {
		require.NoError(t, os.Symlink(filepath.Join(top, name), filepath.Join(top, name+".git")))
		for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"add", "."}, {"commit", "-qm", "as it is"}, {"tag", "v1.1"}} {
			cmd := exec.Command("git", append([]string{
				"-C", filepath.Join(top, name), "-c", "user.name=Crew", "-c", "user.email=crew@saltmarsh.example",
			}, args...)...)
			cmd.Env = append(os.Environ(), "GIT_AUTHOR_DATE=2026-01-01T00:00:00Z", "GIT_COMMITTER_DATE=2026-01-01T00:00:00Z")
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, string(out))
		}
	}
}

// solved asks for a state as a leg does.
func solved(t *testing.T, dir, universe, ask, changes string) (*contract.State, error) {
	t.Helper()
	x, err := ecosystem.Walk(os.DirFS(dir), nil)
	require.NoError(t, err)
	c, err := Ecosystem{}.Read(x, ".")
	require.NoError(t, err)
	r, err := Ecosystem{}.Connect(t.Context(), ecosystem.Surroundings{
		Files: os.DirFS(dir), Environ: mirrors(t, universe), Client: fetch.New(fetch.Config{}), Now: time.Now(),
		Ask: func(_ context.Context, args ...string) (string, error) {
			return map[string]string{
				"ruby --version": "ruby 3.1.2p20 (2022-04-12) [x86_64-linux-gnu]", "gem --version": "3.3.15",
				"gem env platform": "ruby:x86_64-linux", "bundle --version": "Bundler version 2.3.15",
			}[strings.Join(args, " ")], nil
		},
	}, ".")
	require.NoError(t, err)
	goal := contract.Goal{Bounds: map[string]contract.Bound{}}
	for line := range strings.Lines(ask) {
		name, text, _ := strings.Cut(strings.TrimSpace(line), " ")
		rng, err := version.Gem{}.ParseRange(text)
		require.NoError(t, err)
		goal.Bounds[name] = contract.Bound{
			Allow: func(v version.Version) bool { return rng.Contains(v) && !v.Preview() }, Newest: true, Why: name + "@" + text + " is asked for",
		}
		goal.First = append(goal.First, name)
	}
	for line := range strings.Lines(changes) {
		f := strings.SplitN(strings.TrimSpace(line), " ", 3)
		goal.Changes = append(goal.Changes, contract.Change{Old: strings.Trim(f[0], "-"), New: strings.Trim(f[1], "-"), Range: f[2]})
	}
	if goal.Changes == nil {
		return r.Resolve(t.Context(), ecosystem.Ask{Component: c, Goal: goal})
	}
	edits, err := Ecosystem{}.Rewrite(c, goal.Changes, nil)
	if err != nil {
		return nil, err
	}
	for _, e := range edits {
		require.NoError(t, os.WriteFile(filepath.Join(dir, e.File), e.New, 0o644))
	}
	return solvedAsWritten(t, dir, r, goal)
}

func solvedAsWritten(t *testing.T, dir string, r ecosystem.Registry, goal contract.Goal) (*contract.State, error) {
	t.Helper()
	x, err := ecosystem.Walk(os.DirFS(dir), nil)
	require.NoError(t, err)
	c, err := Ecosystem{}.Read(x, ".")
	require.NoError(t, err)
	return r.Resolve(t.Context(), ecosystem.Ask{Component: c, Goal: goal})
}

// check looks every dependency of a lock up, knowing nothing but the lock and the Gemfile: each is
// there, in its range, and everything is needed by something.
func check(t *testing.T, dir string, l *lock.Lock) {
	t.Helper()
	x, err := ecosystem.Walk(os.DirFS(dir), nil)
	require.NoError(t, err)
	c, err := Ecosystem{}.Read(x, ".")
	require.NoError(t, err)
	needed := map[string]bool{}
	meets := func(by, name, rng string) {
		needed[name] = true
		if name == "bundler" {
			return
		}
		r, err := version.Gem{}.ParseRange(rng)
		require.NoError(t, err)
		v, err := version.Gem{}.Parse(l.Version(name))
		require.NoError(t, err)
		assert.True(t, l.Has(name) && r.Contains(v), "%s asks for %s %s, and %s is locked", by, name, rng, l.Version(name))
	}
	for _, q := range c.Requirements {
		if !l.Has(q.Name) && q.When != nil {
			continue // for a platform that the lock is not for
		}
		meets(q.Site.String(), q.Name, c.Detail.(*project.Project).Versions(q))
	}
	for _, s := range l.Sections {
		for _, one := range s.Specs {
			needed[one.Name] = needed[one.Name] || s.Kind == "PATH"
			for _, d := range one.Deps {
				meets(one.Name, d.Name, d.Rng)
			}
		}
	}
	if sums := l.Section("CHECKSUMS"); sums != nil {
		var listed, there []string
		for _, line := range sums.Lines {
			name, sum, stated := strings.Cut(strings.TrimSpace(line), " sha256=")
			bare, _, _ := strings.Cut(name, " ")
			if ofServer := slices.ContainsFunc(l.Section("GEM").Specs, func(one *lock.Spec) bool { return one.Name == bare }); !ofServer {
				assert.False(t, stated, line)
				continue
			}
			assert.Len(t, sum, 64, line)
			listed = append(listed, name)
		}
		for _, one := range l.Section("GEM").Specs {
			there = append(there, one.Name+" ("+lock.FullName(one.Version, one.Platform)+")")
		}
		assert.Equal(t, there, listed)
	}
	for _, s := range l.Gems() {
		assert.True(t, needed[s.Name], "nobody needs %s", s.Name)
	}
}
