package internal

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// mayImport lists what each room of the house may import of ours; a room that
// is not listed may import nothing. docs/architecture.md draws the same.
var mayImport = map[string][]string{
	"core":      {"core"},
	"host":      {"core", "host"},
	"ecosystem": {"core", "host", "ecosystem"},
	"view":      {"core"},
	"work":      {"core", "host", "ecosystem", "books"},
	"standin":   {"standin", "core"},
	"cli":       {"core", "host", "work", "view", "standin", "demo"},
}

// TestImportsRunDownwards fails on an import that runs up.
func TestImportsRunDownwards(t *testing.T) {
	seen := 0
	err := filepath.WalkDir(".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ImportsOnly)
		require.NoError(t, err)
		room, _, _ := strings.Cut(filepath.ToSlash(name), "/")
		for _, i := range file.Imports {
			ours, isOurs := strings.CutPrefix(strings.Trim(i.Path.Value, `"`), "bellwether/")
			if !isOurs {
				continue
			}
			seen++
			target, _, _ := strings.Cut(strings.TrimPrefix(ours, "internal/"), "/")
			assert.Contains(t, mayImport[room], target, "%s imports %s", name, ours)
			if room == "ecosystem" && target == "ecosystem" {
				assert.Equal(t, "internal/ecosystem", ours, "%s: an ecosystem must not know another", name)
			}
		}
		if room == "core" {
			for _, i := range file.Imports {
				for _, outside := range []string{"os", "net", "net/http", "os/exec", "path/filepath"} {
					assert.NotEqual(t, `"`+outside+`"`, i.Path.Value, "%s: the core computes only", name)
				}
			}
		}
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, seen, 50)
}
