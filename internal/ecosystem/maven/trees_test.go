package maven

import (
	"context"
	"fmt"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
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
	"bellwether/internal/ecosystem/maven/graph"
	"bellwether/internal/ecosystem/maven/project"
	"bellwether/internal/host/fetch"
	"bellwether/internal/standin/shorthand"
	"bellwether/internal/standin/verdict"
)

// book has what Maven said before.
var book = verdict.Open("testdata/verdicts.json")

func TestMain(m *testing.M) { os.Exit(verdict.Runner{M: m, Book: book}.Run()) }

// laid is a project on the disk, and a repository that serves what it needs.
type laid struct {
	dir, home, url string
	universe       string
}

// lay writes a project of a txtar file: "repository" has packages in lines, "repository/PATH" whole files; all other
// files are the project's. REPOSITORY in them is the address of the repository.
func lay(t *testing.T, archive *txtar.Archive) laid {
	t.Helper()
	var universe strings.Builder
	raw := map[string]string{}
	l := laid{dir: t.TempDir(), home: t.TempDir()}
	for _, f := range archive.Files {
		if name, is := strings.CutPrefix(f.Name, "repository"); is {
			universe.WriteString(f.Name + "\n" + string(f.Data))
			raw[strings.TrimPrefix(name, "/")] = string(f.Data)
		}
	}
	artifacts, err := shorthand.Artifacts(raw[""])
	require.NoError(t, err)
	for name, text := range raw {
		if name != "" {
			artifacts[name] = text
		}
	}
	server := httptest.NewServer(artifacts.Repository())
	t.Cleanup(server.Close)
	l.url, l.universe = server.URL, universe.String()
	for _, f := range archive.Files {
		if strings.Contains(f.Name, ".") && !strings.HasPrefix(f.Name, "repository") && !strings.HasSuffix(f.Name, ".want") {
			name := filepath.Join(l.dir, f.Name)
			require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
			require.NoError(t, os.WriteFile(name, f.Data, 0o644))
		}
	}
	require.NoError(t, os.MkdirAll(filepath.Join(l.home, ".m2"), 0o755))
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(l.home, ".m2", "settings.xml"),
			fmt.Appendf(nil, `<settings><activeProfiles><activeProfile>pier</activeProfile></activeProfiles>
<profiles><profile><id>pier</id><repositories><repository><id>pier</id><url>%s</url></repository></repositories></profile></profiles>
</settings>`,
				l.url),
			0o644,
		),
	)
	return l
}

var treeLine = regexp.MustCompile(`^[-+|\\ ]*([^ :]+:[^ :]+):([^ :]+)(?::([^ :]+))?:([^ :]+):(compile|runtime|test|provided|system)\b`)

// said is what Maven says the modules get: "module: group:artifact version scope" a line.
func (l laid) said(t *testing.T) []string {
	t.Helper()
	text := book.Check(
		t,
		verdict.Case{Client: "mvn", Question: []string{"dependency:tree"}, Dir: l.dir, Given: l.universe, Far: true},
		func() string {
			for _, ours := range []string{"pier", "example"} { // of another test
				require.NoError(t, os.RemoveAll(filepath.Join(local, ours)))
			}
			out := filepath.Join(t.TempDir(), "tree.txt")
			dir := t.TempDir()
			require.NoError(t, os.CopyFS(dir, os.DirFS(l.dir)))
			cmd := exec.Command("mvn", "-B", "-q", "-s", filepath.Join(l.home, ".m2", "settings.xml"), "compile", "dependency:tree",
				"-Dmaven.repo.local="+local, "-DoutputFile="+out, "-DappendOutput=true")
			cmd.Dir = dir
			if text, err := cmd.CombinedOutput(); err != nil {
				return "mvn: " + err.Error() + "\n" + string(text)
			}
			text, err := os.ReadFile(out)
			require.NoError(t, err)
			return string(text)
		},
	)
	require.NotContains(t, text, "mvn: ")
	var all []string
	module := ""
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\r\n")
		if m := treeLine.FindStringSubmatch(line); m != nil && strings.ContainsAny(line[:1], "+\\| ") {
			all = append(all, module+": "+m[1]+" "+m[4]+" "+m[5])
		} else if !strings.ContainsAny(line[:1], "+\\| ") {
			module = strings.Join(strings.SplitN(line, ":", 3)[:2], ":")
		}
	}
	slices.Sort(all)
	return all
}

// local is where Maven keeps what it fetched for the tests: the programs that it is made of are the same for all.
var local = filepath.Join(os.TempDir(), "bellwether-maven-tests")

func (l laid) surroundings() ecosystem.Surroundings {
	return ecosystem.Surroundings{
		Files: os.DirFS(l.dir), Home: l.home, Client: fetch.New(fetch.Config{}), Now: time.Now(),
		Ask: func(_ context.Context, args ...string) (string, error) {
			if args[0] == "java" {
				return `openjdk version "17.0.9" 2026-10-17`, nil
			}
			return "", assert.AnError
		},
	}
}

func (l laid) read(t *testing.T) (*model.Component, *registries) {
	t.Helper()
	x, err := ecosystem.Walk(os.DirFS(l.dir), nil)
	require.NoError(t, err)
	dirs, err := Ecosystem{}.Detect(x)
	require.NoError(t, err)
	require.Equal(t, []string{"."}, dirs)
	c, err := Ecosystem{}.Read(x, ".")
	require.NoError(t, err)
	r, err := Ecosystem{}.Connect(t.Context(), l.surroundings(), ".")
	require.NoError(t, err)
	reg := r.(*registries)
	reg.Central = false
	return c, reg
}

// TestTrees compares what modules get with what Maven says. What "moves" asks for, a name and a range a line, is written and
// compared again; "pom.xml.want" is what the file becomes then.
func TestTrees(t *testing.T) {
	files, err := filepath.Glob("testdata/trees/*.txtar")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txtar"), func(t *testing.T) {
			archive, err := txtar.ParseFile(file)
			require.NoError(t, err)
			l := lay(t, archive)
			compareTrees(t, l)
			parts := map[string]string{}
			for _, f := range archive.Files {
				parts[f.Name] = string(f.Data)
			}
			if parts["moves"] == "" {
				return
			}
			c, r := l.read(t)
			goal := contract.Goal{Bounds: map[string]contract.Bound{}}
			for line := range strings.Lines(parts["moves"]) {
				name, text, _ := strings.Cut(strings.TrimSpace(line), " ")
				rng, err := version.Maven{}.ParseRange(text)
				require.NoError(t, err)
				goal.Bounds[name] = contract.Bound{
					Allow: func(v version.Version) bool { return rng.Contains(v) && !v.Preview() }, Newest: true,
					Why: name + "@" + text + " is asked for",
				}
				goal.First = append(goal.First, name)
			}
			state, err := r.Resolve(t.Context(), ecosystem.Ask{Component: c, Goal: goal})
			if want := parts["error"]; want != "" {
				require.ErrorContains(t, err, strings.TrimSpace(want))
				return
			}
			require.NoError(t, err)
			for _, e := range state.Edits {
				require.NoError(t, os.WriteFile(filepath.Join(l.dir, e.File), e.New, 0o644))
			}
			if want := parts["notable"]; want != "" {
				assert.Equal(t, strings.Split(strings.TrimSpace(want), "\n"), state.Notable)
			}
			for name, want := range parts {
				if is, ok := strings.CutSuffix(name, ".want"); ok {
					got, err := os.ReadFile(filepath.Join(l.dir, is))
					require.NoError(t, err)
					assert.Equal(t, want, string(got))
				}
			}
			compareTrees(t, l)
		})
	}
}

func compareTrees(t *testing.T, l laid) {
	t.Helper()
	c, r := l.read(t)
	trees, err := graph.Trees(t.Context(), r.Registry, c.Detail.(*project.Project))
	require.NoError(t, err)
	var ours []string
	for _, tree := range trees {
		for _, w := range tree.Won {
			ours = append(ours, tree.Of.Coords.String()+": "+w.Coords.String()+" "+w.Version+" "+w.Scope)
		}
	}
	slices.Sort(ours)
	assert.Equal(t, l.said(t), ours)
}
