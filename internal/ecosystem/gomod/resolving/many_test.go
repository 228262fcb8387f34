package resolving

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gomod/goenv"
	"bellwether/internal/ecosystem/gomod/project"
	"bellwether/internal/ecosystem/gomod/registry"
	"bellwether/internal/ecosystem/gomod/tidying"
	"bellwether/internal/host/fetch"
)

// TestManyVersions moves a module of which very many versions are listed: a step for every
// pair of them would not come to an end.
func TestManyVersions(t *testing.T) {
	var list strings.Builder
	for i := range 30000 {
		fmt.Fprintf(&list, "v1.%d.%d\n", i/100, i%100)
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case !strings.HasPrefix(r.URL.Path, "/a.example/one/@"):
			w.WriteHeader(http.StatusNotFound)
		case strings.HasSuffix(r.URL.Path, "/list"):
			_, _ = w.Write([]byte(list.String()))
		default:
			_, _ = w.Write([]byte("module a.example/one\n\ngo 1.21\n"))
		}
	}))
	defer server.Close()
	files := fstest.MapFS{"go.mod": {Data: []byte("module own.example/ferry\n\ngo 1.21\n\nrequire a.example/one v1.0.0\n")}}
	around := ecosystem.Surroundings{
		Files: files, Environ: []string{"GOPROXY=" + server.URL, "GOSUMDB=off", "GOMODCACHE=" + t.TempDir(), "GOENV=off"},
		Client: fetch.New(fetch.Config{}),
		Ask:    func(context.Context, ...string) (string, error) { return "go1.24", nil },
	}
	settings, err := goenv.Read(t.Context(), around)
	require.NoError(t, err)
	p, err := project.Read(&ecosystem.Index{FS: files}, ".")
	require.NoError(t, err)
	one := model.Requirement{Subject: model.Subject{Kind: project.Name, Name: "a.example/one"}, Name: "a.example/one", Locked: "v1.0.0"}
	r := registry.Connect(t.Context(), around, settings)
	releases, err := r.Releases(t.Context(), one.Subject)
	require.NoError(t, err)
	require.Len(t, releases, 30000)
	s := &resolver{Tidier: tidying.New(t.Context(), r, p), ask: ecosystem.Ask{Component: &model.Component{}}, problem: &solve.Problem{}}
	require.NoError(t, s.add(one, releases))
	assert.Len(t, s.subjects[0].candidates, 30000)
}
