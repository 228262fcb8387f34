package look_test

import (
	"fmt"
	"io/fs"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/adrg/xdg"
	"github.com/stretchr/testify/require"

	"bellwether/internal/standin/shorthand"
	"bellwether/internal/work"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/look"
)

// manyComponents lays out a project of components with five places each that
// state a runtime or an image, and serves what they require.
func manyComponents(tb testing.TB, n int) (dir string) {
	tb.Setenv("XDG_CACHE_HOME", tb.TempDir())
	xdg.Reload()
	u, err := shorthand.Load("left 1.0.0 node:>=12\nleft 1.4.0 node:>=14\nright 2.0.0\nright 2.1.0\nrope 1.0.0\n")
	require.NoError(tb, err)
	server := httptest.NewServer(u.NPM())
	tb.Cleanup(server.Close)
	tb.Setenv("npm_config_registry", server.URL+"/")
	dir = tb.TempDir()
	for i := range n {
		for name, text := range map[string]string{
			"package.json": fmt.Sprintf(`{"name": "part-%d", "dependencies": {"left": "^1.0.0", "right": "^2.0.0", "rope": "^1.0.0"}}`, i),
			"package-lock.json": fmt.Sprintf(`{"name": "part-%d", "lockfileVersion": 3, "packages": {"": {"dependencies": {"left": `+
				`"^1.0.0", "right": "^2.0.0", "rope": "^1.0.0"}}, "node_modules/left": {"version": "1.0.0", "engines": {"node": ">=12"}}, `+
				`"node_modules/right": {"version": "2.0.0"}, "node_modules/rope": {"version": "1.0.0"}}}`, i),
			".nvmrc":         "16.20\n",
			"Dockerfile":     "FROM node:16.20-slim AS build\nRUN npm ci\nFROM alpine:3.20\n",
			".gitlab-ci.yml": "test:\n  image: node:16.20\n  services: [\"postgres:16\"]\n  script: [npm test]\n",
		} {
			file := filepath.Join(dir, fmt.Sprintf("part-%04d", i), name)
			require.NoError(tb, os.MkdirAll(filepath.Dir(file), 0o755))
			require.NoError(tb, os.WriteFile(file, []byte(text), 0o644))
		}
	}
	return dir
}

// BenchmarkSurvey surveys 1,000 components with 5,000 pins, warm.
func BenchmarkSurvey(b *testing.B) {
	dir := manyComponents(b, 1000)
	survey := func() {
		p, err := work.Open(b.Context(), desk.Options{Dir: dir})
		require.NoError(b, err)
		s, err := look.Survey(b.Context(), p.Desk, p.Tree, look.SurveyOptions{})
		require.NoError(b, err)
		pins := 0
		for _, g := range s.Pins {
			pins += len(g.Stated)
		}
		require.Equal(b, 5000, pins)
		require.Len(b, s.Components, 1000)
	}
	survey()
	for b.Loop() {
		survey()
	}
}

// BenchmarkReadFiles walks through the same project and reads its files: what
// surveying it cannot be faster than.
func BenchmarkReadFiles(b *testing.B) {
	dir := manyComponents(b, 1000)
	for b.Loop() {
		n := 0
		err := fs.WalkDir(os.DirFS(dir), ".", func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || strings.HasPrefix(name, ".git/") {
				return err
			}
			data, err := os.ReadFile(filepath.Join(dir, name))
			n += len(data)
			return err
		})
		require.NoError(b, err)
		require.NotZero(b, n)
	}
}
