package gomod

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"io/fs"
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
	versions "bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gomod/project"
	"bellwether/internal/ecosystem/gomod/selection"
	"bellwether/internal/host/fetch"
	"bellwether/internal/standin/shorthand"
	"bellwether/internal/standin/verdict"
)

// A shape is a txtar file: "universe" in shorthand, the project's files, "ask"
// (a name and a query a line, or "newest" and a name), and "want": lines "PATH
// VERSION", with "indirect" after it where it is, or "PATH absent"; lines "FILE
// has TEXT"; or "error:" and texts that the error must hold. The go command
// makes the project tidy first, unless there is a section "as-is". The module
// in the folder that "dir" names is the one that is resolved; the go command
// judges those in "also" as well.
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

var realProjects = flag.Bool("real", false, "resolve and build projects of public modules, over the network")

// TestRealProjects does as TestShapes with public modules. Without an "ask" all
// requirements go to the newest of their lines.
func TestRealProjects(t *testing.T) {
	if !*realProjects {
		t.Skip("it needs the network: -args -real")
	}
	files, err := filepath.Glob("testdata/real/*.txtar")
	require.NoError(t, err)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txtar"), func(t *testing.T) {
			archive, err := txtar.ParseFile(file)
			require.NoError(t, err)
			runShape(t, archive)
		})
	}
}

func runShape(t *testing.T, archive *txtar.Archive) {
	root := t.TempDir()
	sections := map[string]string{"dir": ".\n"}
	for _, f := range archive.Files {
		sections[f.Name] = string(f.Data)
		switch f.Name {
		case "universe", "ask", "want", "as-is", "dir", "also":
			continue
		}
		name := filepath.Join(root, filepath.FromSlash(f.Name))
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		text := string(f.Data)
		if strings.Contains(sections["as-is"], "CRLF") {
			text = strings.ReplaceAll(text, "\n", "\r\n")
		}
		require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
	}
	dir := strings.TrimSpace(sections["dir"])
	j := newJudge(t, root, dir, sections["universe"])
	if _, asIs := sections["as-is"]; !asIs {
		for _, at := range append(strings.Fields(sections["also"]), dir) {
			j.dir = filepath.Join(root, at)
			j.alone(func() { j.ask("mod tidy", func() string { return j.run("mod", "tidy") }) })
		}
	}
	if *realProjects && sections["ask"] == "" {
		p, err := project.Read(indexed(os.DirFS(root)), dir)
		require.NoError(t, err)
		for _, q := range p.Mod.Require {
			if !q.Indirect && p.Fixed(q.Mod) == "" {
				sections["ask"] += "newest " + q.Mod.Path + "\n"
			}
		}
		sections["ask"] += j.families(root, dir)
	}
	outcome, err := j.resolve(root, dir, sections["ask"])
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
		require.NoError(t, os.WriteFile(filepath.Join(root, filepath.FromSlash(edit.File)), edit.New, 0o644))
	}
	p, err := project.Read(indexed(os.DirFS(root)), dir)
	require.NoError(t, err)
	for line := range strings.Lines(sections["want"]) {
		name, want, _ := strings.Cut(strings.TrimSpace(line), " ")
		if text, ok := strings.CutPrefix(want, "has "); ok {
			data, err := os.ReadFile(filepath.Join(root, filepath.FromSlash(name)))
			require.NoError(t, err)
			assert.Contains(t, string(data), text, name)
			continue
		}
		got := "absent"
		if q := p.Required(name); q != nil {
			if got = q.Mod.Version; q.Indirect {
				got += " indirect"
			}
		}
		if name == "go" {
			got = p.GoVersion()
		}
		if name == "notice" {
			assert.Contains(t, strings.Join(outcome.Notices, "\n"), want)
			continue
		}
		assert.Equal(t, want, got, name)
	}
	again, err := j.resolve(root, dir, "")
	require.NoError(t, err)
	assert.Empty(t, again.Edits, "resolving what is resolved changes nothing")
	j.accepts(strings.Contains(sections["as-is"], "CRLF"), sections["go.work"] != "")
	for also := range strings.FieldsSeq(sections["also"]) {
		j.dir = filepath.Join(root, also)
		j.accepts(false, false)
	}
}

// judge is the go command, with a stand-in for a proxy.
type judge struct {
	t        *testing.T
	root     string // the whole project's
	dir      string // of the module
	universe string
	url      string // of the proxy
	env      []string
}

// book has what the go command said before.
var book = verdict.Open("testdata/verdicts.json")

func TestMain(m *testing.M) { os.Exit(verdict.Runner{M: m, Book: book}.Run()) }

// ask asks the go command, if it was not asked the same before.
func (j *judge) ask(question string, ask func() string) string {
	j.t.Helper()
	if j.universe == "" {
		return ask() // real modules, by the network
	}
	rel, err := filepath.Rel(j.root, j.dir)
	require.NoError(j.t, err)
	return book.Check(j.t, verdict.Case{
		Client: "go", Question: []string{question, filepath.ToSlash(rel), fmt.Sprint(slices.Contains(j.env, "GOWORK=off"))},
		Dir: j.root, Given: j.universe,
		Words: map[string]string{"proxy": j.url, "root": j.root},
	}, ask)
}

func newJudge(t *testing.T, root, dir, universe string) *judge {
	j := &judge{t: t, root: root, dir: filepath.Join(root, dir), universe: universe, env: append(os.Environ(), "GOTOOLCHAIN=local")}
	if universe == "" {
		return j
	}
	u, err := shorthand.Modules(universe)
	require.NoError(t, err)
	server := httptest.NewServer(u.Proxy())
	t.Cleanup(server.Close)
	j.url = server.URL
	j.env = []string{
		"GOPROXY=" + server.URL, "GOSUMDB=off", "GOFLAGS=-modcacherw", "GOMODCACHE=" + t.TempDir(), "GOTOOLCHAIN=local",
		"GOENV=off", "GOWORK=", "GO111MODULE=on",
	}
	return j
}

// command gives what the go command answers, and as an error what it says beside that. What it
// tells on its way, such as what it fetches, has no order.
func (j *judge) command(args ...string) ([]byte, error) {
	cmd := exec.Command("go", args...)
	cmd.Dir = j.dir
	cmd.Env = append(os.Environ(), j.env...)
	var beside bytes.Buffer
	cmd.Stderr = &beside
	out, err := cmd.Output()
	if err != nil {
		err = fmt.Errorf("%w\n%s", err, &beside)
	}
	return out, err
}

func (j *judge) run(args ...string) string {
	j.t.Helper()
	out, err := j.command(args...)
	require.NoError(j.t, err, "go %s:\n%s", strings.Join(args, " "), out)
	return string(out)
}

// families asks for the newest of what is released together with a direct
// requirement.
func (j *judge) families(root, dir string) (ask string) {
	c, err := Ecosystem{}.Read(indexed(os.DirFS(root)), dir)
	require.NoError(j.t, err)
	r, err := j.connect(root)
	require.NoError(j.t, err)
	families, err := r.Families(context.Background(), c)
	require.NoError(j.t, err)
	for _, name := range slices.Concat(families...) {
		if c.Find(name)[0].Asked {
			ask += "newest " + name + "\n"
		}
	}
	return ask
}

// resolve resolves the module with bounds of one query a line.
func (j *judge) resolve(root, dir, ask string) (*contract.State, error) {
	c, err := Ecosystem{}.Read(indexed(os.DirFS(root)), dir)
	if err != nil {
		return nil, err
	}
	r, err := j.connect(root)
	if err != nil {
		return nil, err
	}
	goal := contract.Goal{Bounds: map[string]contract.Bound{}}
	for line := range strings.Lines(ask) {
		name, text, _ := strings.Cut(strings.TrimSpace(line), " ")
		if name == "" {
			continue
		}
		if name == "newest" {
			at, err := selection.Order{}.Parse(c.Find(text)[0].Locked)
			if err != nil {
				return nil, err
			}
			goal.Bounds[text] = contract.Bound{Newest: true, Allow: func(v versions.Version) bool {
				return v.Compare(at) >= 0 && v.Line() == at.Line() && !v.Preview()
			}}
			goal.Fit = true
			continue
		}
		rng, err := selection.Order{}.ParseRange(text)
		if err != nil {
			return nil, err
		}
		goal.Bounds[name] = contract.Bound{Allow: rng.Contains, Newest: true, Why: name + " is to be " + text}
		goal.First = append(goal.First, name)
	}
	return r.Resolve(context.Background(), ecosystem.Ask{Component: c, Goal: goal})
}

func (j *judge) connect(root string) (ecosystem.Registry, error) {
	return Ecosystem{}.Connect(context.Background(), ecosystem.Surroundings{
		Files: os.DirFS(root), Environ: j.env, Home: os.Getenv("HOME"), Client: fetch.New(fetch.Config{}),
		Now: time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC),
		Ask: func(_ context.Context, args ...string) (string, error) {
			if args[len(args)-1] == "GOVERSION" && !*realProjects {
				return "go1.26.0", nil
			}
			out, err := exec.Command(args[0], args[1:]...).Output()
			return strings.TrimSpace(string(out)), err
		},
	}, ".")
}

// alone does something without the workspace around the module.
func (j *judge) alone(do func()) {
	j.env = append(j.env, "GOWORK=off")
	do()
	j.env = j.env[:len(j.env)-1]
}

// accepts has the go command say that nothing is to be tidied, that what it
// fetched is what go.sum says, and that it builds.
func (j *judge) accepts(otherForm, workspace bool) {
	j.t.Helper()
	j.ask(fmt.Sprintf("accepts, other form %t, workspace %t", otherForm, workspace), func() string {
		if !otherForm {
			j.alone(func() { j.run("mod", "tidy", "-diff") })
		}
		j.run("mod", "verify")
		if workspace {
			j.run("build", "./...")
		} else {
			j.run("build", "-mod=readonly", "./...")
		}
		j.run("vet", "./...")
		j.run("test", "./...")
		return ""
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
