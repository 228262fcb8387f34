package npm

import (
	"context"
	"fmt"
	"io/fs"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/npm/project"
	"bellwether/internal/host/fetch"
	"bellwether/internal/standin/shorthand"
	"bellwether/internal/standin/verdict"
)

// A shape is a txtar file: "universe" in shorthand, the project's files,
// "ask" (a name and a range a line, "apart" and names, or "dedupe"), and "want": locations with versions, or
// "error:" and texts that the error must hold. Without a lock among its files
// the project is resolved afresh; "npm" as the lock's text has npm write it,
// from the files as they are in "before" where that is given. "unjudged" tells why npm
// is not asked for its verdict; "notable" holds sentences that are to be told, "written" lines of the
// root's manifest.
func TestShapes(t *testing.T) {
	files, err := filepath.Glob("testdata/shapes/*.txtar")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txtar"), func(t *testing.T) {
			t.Parallel()
			archive, err := txtar.ParseFile(file)
			require.NoError(t, err)
			runShape(t, archive)
		})
	}
}

var lockVersion = regexp.MustCompile(`^npm(\d?)\n$`)

func runShape(t *testing.T, archive *txtar.Archive) {
	dir := t.TempDir()
	sections := map[string]string{}
	for _, f := range archive.Files {
		sections[f.Name] = string(f.Data)
		switch f.Name {
		case "universe", "ask", "want", "unjudged", "notable", "written":
			continue
		}
		name := filepath.Join(dir, filepath.FromSlash(f.Name))
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, f.Data, 0o644))
	}
	u, err := shorthand.Load(sections["universe"])
	require.NoError(t, err)
	server := httptest.NewServer(u.NPM())
	t.Cleanup(server.Close)
	judge := newJudge(t, dir, server.URL, sections["universe"])
	if m := lockVersion.FindStringSubmatch(sections["package-lock.json"]); m != nil {
		require.NoError(t, os.Remove(filepath.Join(dir, "package-lock.json")))
		judge.env = append(judge.env, "npm_config_lockfile_version="+m[1])
		judge.ask("install --package-lock-only", func() { judge.run("install", "--package-lock-only") })
	}
	outcome, err := resolveIn(dir, sections["ask"], judge.env)
	if texts, wantsError := strings.CutPrefix(sections["want"], "error:"); wantsError {
		require.Error(t, err)
		t.Log(err)
		for text := range strings.Lines(texts) {
			assert.ErrorContains(t, err, strings.TrimSpace(text))
		}
		return
	}
	require.NoError(t, err)
	for _, edit := range outcome.Edits {
		require.NoError(t, os.WriteFile(filepath.Join(dir, filepath.FromSlash(edit.File)), edit.New, 0o644))
	}
	p, err := project.ReadProject(os.DirFS(dir), ".")
	require.NoError(t, err)
	judge.loosePeers = strings.Contains(sections[".npmrc"], "legacy-peer-deps")
	if !judge.loosePeers && len(outcome.Notices)+len(outcome.AsBefore) == 0 {
		require.NoError(t, checkLock(p))
	}
	for line := range strings.Lines(sections["want"]) {
		loc, want, _ := strings.Cut(strings.TrimSpace(line), " ")
		got := "absent"
		if e := p.Lock.Entries[loc]; e != nil {
			got = e.Version
			if e.Link {
				got = "link"
			}
		}
		assert.Equal(t, want, got, loc)
	}
	for line := range strings.Lines(sections["written"]) {
		assert.Contains(t, string(p.Root.Src), strings.TrimSpace(line))
	}
	for line := range strings.Lines(sections["notable"]) {
		assert.Contains(t, outcome.Notable, strings.TrimSpace(line))
	}
	again, err := resolveIn(dir, "", judge.env)
	require.NoError(t, err)
	assert.Empty(t, again.Edits, "resolving what is resolved changes nothing")
	if _, unjudged := sections["unjudged"]; !unjudged {
		judge.accepts()
	}
}

// resolveIn resolves the component in dir with bounds of one range a line.
func resolveIn(dir, ask string, environ []string) (*contract.State, error) {
	c, err := Ecosystem{}.Read(indexed(os.DirFS(dir)), ".")
	if err != nil {
		return nil, err
	}
	r, err := Ecosystem{}.Connect(context.Background(), ecosystem.Surroundings{
		Files: os.DirFS(dir), Environ: environ, Client: fetch.New(fetch.Config{}), Now: time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC),
		Ask: func(context.Context, ...string) (string, error) { return "20.20.0", nil },
	}, ".")
	if err != nil {
		return nil, err
	}
	bounds := map[string]contract.Bound{}
	var first, apart []string
	dedupe := false
	for line := range strings.Lines(ask) {
		name, text, _ := strings.Cut(strings.TrimSpace(line), " ")
		switch name {
		case "apart":
			apart = strings.Fields(text)
			continue
		case "dedupe":
			dedupe = true
			continue
		}
		rng, err := version.NPM{}.ParseRange(text)
		if err != nil {
			return nil, err
		}
		bounds[name] = contract.Bound{Allow: rng.Contains, Newest: true, Why: name + " is to be " + text}
		first = append(first, name)
	}
	return r.Resolve(
		context.Background(),
		ecosystem.Ask{Component: c, Goal: contract.Goal{Bounds: bounds, First: first, Terms: model.Terms{Apart: apart, Dedupe: dedupe}}},
	)
}

// TestPeerFromElsewhere has a peer that the manifest takes from a git source: it
// stays as it is, others go by its version, and no registry is asked for it.
func TestPeerFromElsewhere(t *testing.T) {
	u, err := shorthand.Load("plug 1.0.0 peer:form@^2\nplug 2.0.0 peer:form@^3\nplug 3.0.0 peer:form@^4")
	require.NoError(t, err)
	server := httptest.NewServer(u.NPM())
	defer server.Close()
	dir := t.TempDir()
	asks := `"dependencies": {"form": "git+https://forge.example/form.git#main", "plug": "^1.0.0"}`
	for name, text := range map[string]string{
		"package.json": `{"name": "shape", ` + asks + `}`,
		"package-lock.json": `{"name": "shape", "lockfileVersion": 3, "packages": {"": {"name": "shape", ` + asks + `},
			"node_modules/form": {"version": "3.1.0", "resolved": "git+https://forge.example/form.git#0123456789012345678901234567890123456789"},
			"node_modules/plug": {"version": "1.0.0", "peerDependencies": {"form": "^2"}}}}`,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	o, err := resolveIn(dir, "plug >=2", []string{"npm_config_registry=" + server.URL})
	require.NoError(t, err)
	require.Len(t, o.Moves, 1)
	assert.Equal(t, "2.0.0", o.Moves[0].To)
	_, err = resolveIn(dir, "plug >=3", []string{"npm_config_registry=" + server.URL})
	assert.ErrorContains(t, err, "plug 3.0.0 needs form ^4 as a peer")
}

// judge is npm itself.
type judge struct {
	t          *testing.T
	dir        string
	url        string
	universe   string
	env        []string
	loosePeers bool // the project does not mind peers, so npm ls must not be asked
}

func newJudge(t *testing.T, dir, registryURL, universe string) *judge {
	home := t.TempDir()
	return &judge{t: t, dir: dir, url: registryURL, universe: universe, env: []string{
		"npm_config_registry=" + registryURL, "npm_config_cache=" + filepath.Join(home, "cache"),
		"npm_config_userconfig=" + filepath.Join(home, "npmrc"),
		"npm_config_audit=false", "npm_config_fund=false", "npm_config_update_notifier=false", "npm_config_omit_lockfile_registry_resolved=false",
	}}
}

func (j *judge) run(args ...string) {
	j.t.Helper()
	cmd := exec.Command("npm", args...)
	cmd.Dir = j.dir
	cmd.Env = append(os.Environ(), j.env...)
	out, err := cmd.CombinedOutput()
	require.NoError(j.t, err, "npm %s:\n%s", strings.Join(args, " "), out)
}

// book has what npm said before.
var book = verdict.Open("testdata/verdicts.json")

func TestMain(m *testing.M) {
	os.Unsetenv("NODE_EXTRA_CA_CERTS") // stand-ins are on loopback
	os.Exit(verdict.Runner{M: m, Book: book}.Run())
}

// ask asks npm, if it was not asked the same before.
func (j *judge) ask(what string, ask func()) {
	j.t.Helper()
	version := ""
	for _, pair := range j.env {
		if strings.HasPrefix(pair, "npm_config_lockfile_version=") {
			version = pair
		}
	}
	book.Check(j.t, verdict.Case{
		Client: "npm", Question: []string{what, version}, Dir: j.dir, Given: j.universe, Words: map[string]string{"registry": j.url},
	}, func() string {
		ask()
		return ""
	})
}

// accepts has npm install from the lock, list what it installed, and write
// the lock again, which must change nothing.
func (j *judge) accepts() {
	j.t.Helper()
	read := func() string {
		data, err := os.ReadFile(filepath.Join(j.dir, "package-lock.json"))
		require.NoError(j.t, err)
		return string(data)
	}
	before := read()
	j.ask(fmt.Sprintf("accepts, peers loose %t", j.loosePeers), func() {
		j.run("ci", "--ignore-scripts")
		if !j.loosePeers {
			j.run("ls", "--all")
		}
		j.run("install", "--package-lock-only")
		assert.Equal(j.t, before, read(), "npm must leave the lock as it is")
	})
}

// indexed is the index of a project's files.
func indexed(fsys fs.FS) *ecosystem.Index {
	x, err := ecosystem.Walk(fsys, nil)
	if err != nil {
		panic(err)
	}
	return x
}
