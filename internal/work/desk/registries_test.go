package desk

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/ecosystem"
	"bellwether/internal/work/settings"
	"bellwether/internal/work/tree"
)

// Components with the same settings share a registry; one that lays down its own has its own.
func TestRegistry(t *testing.T) {
	root, home := t.TempDir(), t.TempDir()
	for name, text := range map[string]string{
		"ferry/package.json": `{"name": "ferry"}`, "pier/package.json": `{"name": "pier"}`, "own/package.json": `{"name": "own"}`,
		"own/.npmrc": "registry=http://127.0.0.1:9/\n", "crane/go.mod": "module crane.example/crane\n\ngo 1.25\n",
		"hoist/go.mod": "module hoist.example/hoist\n\ngo 1.25\n",
	} {
		file := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	}
	t.Setenv("HOME", home)
	t.Setenv("npm_config_userconfig", filepath.Join(home, "npmrc"))
	t.Setenv("npm_config_registry", "")
	d, err := New(Options{Dir: root, NoCache: true})
	require.NoError(t, err)
	tr, err := tree.Read(tree.Source{
		FS: d.Files, Settings: &settings.Settings{}, Ignored: func([]string) map[string]bool { return nil }, Real: d.Files.Real,
	})
	require.NoError(t, err)
	of := func(d *Desk, dir string) ecosystem.Registry {
		r, err := d.Registry(t.Context(), tr.Part(dir))
		require.NoError(t, err, dir)
		return r
	}
	assert.Same(t, of(d, "ferry"), of(d, "ferry"))
	assert.Same(t, of(d, "ferry"), of(d, "pier"))
	assert.NotSame(t, of(d, "ferry"), of(d, "own"), "its .npmrc names another registry")
	assert.Same(t, of(d, "crane"), of(d, "hoist"))
	later := d.As(d.Clock.AddDate(0, -1, 0), []string{"left"})
	assert.NotSame(t, of(d, "ferry"), of(later, "ferry"), "at another time other releases exist")
	assert.Equal(t, []string{"left"}, later.Previews())
	assert.Empty(t, d.Previews(), "the desk itself stays as it was")
}
