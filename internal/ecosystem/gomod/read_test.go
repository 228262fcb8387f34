package gomod

import (
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/module"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gomod/project"
	"bellwether/internal/ecosystem/gomod/selection"
	"bellwether/internal/host/fetch"
)

const everyDirective = `// Deprecated: use own.example/boat.
module own.example/ferry // the ferry

go 1.24.0

toolchain go1.25.1

godebug default=go1.21

require a.example/one v1.2.3 // needed

require (
	"b.example/two" v0.0.0-20230101000000-0123456789ab // indirect
	c.example/three/v2 v2.1.0 // indirect; for the horn

	// alone
	d.example/four v3.0.0+incompatible
)

replace a.example/one v1.0.0 => ../one
replace (
	e.example/five => f.example/five v1.0.0
)

exclude a.example/one v1.2.4
retract [v1.0.0, v1.1.0] // leaked
tool a.example/one/cmd/saw
ignore ./node_modules
`

// TestSites sees that each version stands where it is said to, that splicing
// nothing changes nothing, and that new versions are read back.
func TestSites(t *testing.T) {
	for name, text := range map[string]string{"as is": everyDirective, "other line ends": strings.ReplaceAll(everyDirective, "\n", "\r\n")} {
		t.Run(name, func(t *testing.T) {
			c := readText(t, text)
			require.Len(t, c.Requirements, 5)
			var splices []model.Splice
			for i, r := range c.Requirements {
				assert.Equal(t, r.Range, r.Site.Text)
				assert.Equal(t, r.Range, text[r.Site.Start:r.Site.End])
				assert.Equal(t, model.LineOf([]byte(text), r.Site.Start), r.Site.Line)
				fresh := []string{"1.24.7", "v1.9.0", "v0.9.0", "v2.9.0", "v3.9.0+incompatible"}[i]
				splices = append(splices, model.Splice{Site: r.Site, New: fresh})
			}
			same, err := model.Apply([]byte(text), nil)
			require.NoError(t, err)
			assert.Equal(t, text, string(same))
			moved, err := model.Apply([]byte(text), splices)
			require.NoError(t, err)
			again := readText(t, string(moved))
			for i, r := range again.Requirements {
				assert.Equal(t, splices[i].New, r.Range)
				assert.Equal(t, c.Requirements[i].Group, r.Group)
			}
		})
	}
}

func readText(t *testing.T, text string) *model.Component {
	t.Helper()
	c, err := Ecosystem{}.Read(indexed(fstest.MapFS{"go.mod": {Data: []byte(text)}}), ".")
	require.NoError(t, err)
	return c
}

func TestReadFaults(t *testing.T) {
	for want, files := range map[string]fstest.MapFS{
		"go.mod:3:1: usage: require":                  {"go.mod": {Data: []byte("module x.example/x\n\nrequire a.example/a\n")}},
		"go.mod:3: a merge left its conflict markers": {"go.mod": {Data: []byte("module x.example/x\n\n<<<<<<< HEAD\n")}},
		"it has no module line":                       {"go.mod": {Data: []byte("go 1.21\n")}},
		"required a second time, first on line 2": {"go.mod": {Data: []byte("module x.example/x\nrequire a.example/a " +
			"v1.0.0\nrequire a.example/a v1.1.0\n")}},
		"go.sum:2: 2 fields where": {
			"go.mod": {Data: []byte("module x.example/x\n")}, "go.sum": {Data: []byte("a.example/a v1.0.0 h1:x\na b\n")},
		},
		"go.sum:1: a merge left": {
			"go.mod": {Data: []byte("module x.example/x\n")}, "go.sum": {Data: []byte("<<<<<<< HEAD\n")},
		},
		"go.work:2: it uses ../out, which lies outside": {
			"go.mod": {Data: []byte("module x.example/x\n")}, "go.work": {Data: []byte("go 1.21\nuse ../out\n")},
		},
	} {
		_, err := Ecosystem{}.Read(indexed(files), ".")
		assert.ErrorContains(t, err, want)
	}
}

// TestProxyInAFolder reads what the go command keeps on disk as a proxy.
func TestProxyInAFolder(t *testing.T) {
	dir := t.TempDir()
	at := filepath.Join(dir, "a.example", "one", "@v")
	require.NoError(t, os.MkdirAll(at, 0o755))
	for name, text := range map[string]string{"list": "v1.0.0\nv1.1.0\nnonsense\n", "v1.1.0.mod": "// Deprecated: gone to " +
		"b.example/two\nmodule a.example/one\n\ngo 1.21\n", "v1.0.0.mod": "module a.example/one\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(at, name), []byte(text), 0o644))
	}
	r, err := Ecosystem{}.Connect(context.Background(), ecosystem.Surroundings{
		Environ: []string{"GOPROXY=file://" + dir, "GOMODCACHE=" + t.TempDir(), "GOENV=off"}, Client: fetch.New(fetch.Config{}),
		Ask: func(context.Context, ...string) (string, error) { return "go1.20", nil },
	}, ".")
	require.NoError(t, err)
	releases, err := r.Releases(context.Background(), model.Subject{Kind: project.Name, Name: "a.example/one"})
	require.NoError(t, err)
	require.Len(t, releases, 2)
	assert.Equal(t, "b.example/two", releases[0].Replaced)
	assert.Empty(t, releases[0].Unfit)
	assert.Equal(t, "needs go 1.21, here is 1.20", releases[1].Unfit)
}

func FuzzReadGoMod(f *testing.F) {
	for part := range strings.SplitSeq(everyDirective, "\n\n") { // small inputs are quickly made smaller
		f.Add([]byte("module x\n\n" + part))
	}
	f.Add([]byte("module x\r\ngo 9.9\r\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		c, err := Ecosystem{}.Read(indexed(fstest.MapFS{"go.mod": {Data: text}}), ".")
		if err != nil {
			return
		}
		for _, r := range c.Requirements {
			assert.Equal(t, r.Site.Text, string(text[r.Site.Start:r.Site.End]))
		}
	})
}

func FuzzReadGoSum(f *testing.F) {
	f.Add([]byte("a.example/a v1.0.0 h1:x\na.example/a v1.0.0/go.mod h1:y\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		s, err := project.ReadSums(fstest.MapFS{"go.sum": {Data: text}}, "go.sum")
		if err != nil {
			return
		}
		var all []module.Version
		for m := range s.Hashes {
			all = append(all, m)
		}
		again, err := project.ReadSums(fstest.MapFS{"go.sum": {Data: s.Text(all)}}, "go.sum")
		require.NoError(t, err)
		assert.Len(t, again.Hashes, len(s.Hashes))
	})
}

func FuzzReadGoWork(f *testing.F) {
	f.Add([]byte("go 1.21\nuse (\n\t.\n\t./lib\n)\nreplace a.example/a => ./b\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		_, _ = Ecosystem{}.Read(indexed(fstest.MapFS{
			"go.mod": {Data: []byte("module x.example/x\n")}, "lib/go.mod": {Data: []byte("module y.example/y\n")}, "go.work": {Data: text},
		}), ".")
	})
}

// FuzzProxyAnswers feeds a proxy's answers for list, mod and latest.
func FuzzProxyAnswers(f *testing.F) {
	f.Add("v1.0.0\nv1.1.0\n", "module a.example/one\n\ngo 1.21\n\nretract v1.0.0\n", `{"Version":"v1.0.0","Time":"2024-01-01T00:00:00Z"}`)
	f.Add("", "module a.example/one\n", `{"Version":"v0.0.0-20240101000000-0123456789ab"}`)
	now := &answers{}
	server := httptest.NewServer(now)
	defer server.Close()
	client, cache := fetch.New(fetch.Config{}), f.TempDir()
	f.Fuzz(func(t *testing.T, list, mod, latest string) {
		*now = answers{list, mod, latest}
		r, err := Ecosystem{}.Connect(context.Background(), ecosystem.Surroundings{
			Environ: []string{"GOPROXY=" + server.URL, "GOMODCACHE=" + cache, "GOENV=off"}, Client: client,
			Ask: func(context.Context, ...string) (string, error) { return "go1.24", nil },
		}, ".")
		require.NoError(t, err)
		releases, err := r.Releases(context.Background(), model.Subject{Kind: project.Name, Name: "a.example/one"})
		if err != nil {
			return
		}
		for _, rel := range releases {
			_, err := selection.Order{}.Parse(rel.Version)
			assert.NoError(t, err)
		}
	})
}

type answers struct{ list, mod, latest string }

func (a answers) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch {
	case !strings.HasPrefix(r.URL.Path, "/a.example/one/@"):
		w.WriteHeader(http.StatusNotFound)
	case strings.HasSuffix(r.URL.Path, "/list"):
		_, _ = w.Write([]byte(a.list))
	case strings.HasSuffix(r.URL.Path, ".mod"):
		_, _ = w.Write([]byte(a.mod))
	default:
		_, _ = w.Write([]byte(a.latest))
	}
}
