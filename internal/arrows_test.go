package internal

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// mayImport lists what each part of the house may import of ours, apart from itself; one that
// is not listed may import nothing. docs/architecture.md draws the same.
var mayImport = map[string]string{
	"core":      "",
	"host":      "core",
	"ecosystem": "core host",
	"view":      "core",
	"standin":   "core",
	"cli": "core host view standin demo work work/desk work/settings work/world work/ways work/plan work/verify " +
		"work/carry work/culprit work/look work/adapt work/todo work/notes work/report work/scaffold",
	"work":          "core host ecosystem work/settings work/tree work/kept work/desk work/verify",
	"work/settings": "core host ecosystem",
	"work/tree":     "core host ecosystem work/settings",
	"work/kept":     "core host work/tree",
	"work/desk":     "core host ecosystem work/settings work/tree",
	"work/shelf":    "core host ecosystem books work/settings work/desk work/tree",
	"work/world":    "core host ecosystem work/desk work/tree",
	"work/subjects": "core ecosystem work/desk work/tree work/shelf work/world",
	"work/ways":     "core ecosystem work/tree work/shelf work/world",
	"work/need":     "core host ecosystem work/desk work/tree work/shelf work/ways work/world",
	"work/plan":     "core ecosystem work/settings work/desk work/tree work/kept work/shelf work/world work/ways work/need work/subjects",
	"work/verify":   "core host ecosystem work/settings work/desk work/tree work/kept",
	"work/notes":    "core host ecosystem work/settings work/desk work/tree work/kept work/adapt",
	"work/todo":     "core work/desk work/tree work/kept",
	"work/adapt":    "core host ecosystem work/desk work/tree work/kept work/shelf work/world work/verify work/todo",
	"work/carry": "core host ecosystem work/settings work/desk work/tree work/kept work/world work/legs work/need work/verify work/adapt " +
		"work/todo work/notes",
	"work/culprit":  "core host work/desk work/tree work/kept work/world work/legs work/verify work/adapt",
	"work/legs":     "core work/desk work/tree work/world work/subjects",
	"work/report":   "core work/desk work/tree work/kept work/plan work/carry work/world",
	"work/scaffold": "core host ecosystem work/desk work/tree work/kept",
	"work/look":     "core host ecosystem work/desk work/tree work/shelf work/world work/ways work/need work/plan work/subjects work/notes",
}

// room is the part of the house that a package is in, as mayImport names it; below internal,
// "core", "host" and so on, and for the rooms of work "work/plan".
func room(pkg string) string {
	parts := strings.Split(strings.TrimPrefix(pkg, "internal/"), "/")
	if parts[0] == "work" && len(parts) > 1 {
		return path.Join("work", parts[1])
	}
	return parts[0]
}

// TestImportsRunDownwards fails on an import that runs up, and on an arrow that is drawn and
// not there.
func TestImportsRunDownwards(t *testing.T) {
	used := map[string]bool{}
	err := filepath.WalkDir(".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ImportsOnly)
		require.NoError(t, err)
		here := room(path.Dir(filepath.ToSlash(name)))
		allowed, listed := mayImport[here]
		require.True(t, listed, "%s is in no room that is listed", name)
		for _, i := range file.Imports {
			target := strings.Trim(i.Path.Value, `"`)
			ours, isOurs := strings.CutPrefix(target, "bellwether/")
			if !isOurs {
				if here == "core" {
					assert.NotContains(t, []string{"os", "net", "net/http", "os/exec", "path/filepath"}, target, "%s: the core computes only", name)
				}
				continue
			}
			if ours == "internal/core/route" { // what others say to the planner is core/contract's
				assert.Contains(t, []string{"work", "core/route"}, planning(here, name), "%s imports the planner", name)
			}
			if to := room(ours); to != here {
				assert.Contains(t, strings.Fields(allowed), to, "%s imports %s", name, ours)
				used[here+" "+to] = true
			} else if here == "ecosystem" {
				// What Maven and Gradle have in common is a room of its own.
				assert.Contains(
					t, []string{"internal/ecosystem", "internal/ecosystem/mavenrepo"}, ours, "%s: an ecosystem must not know another", name,
				)
			}
		}
		return nil
	})
	require.NoError(t, err)
	for here, allowed := range mayImport {
		for _, to := range strings.Fields(allowed) {
			assert.True(t, used[here+" "+to], "%s may import %s, and does not", here, to)
		}
	}
}

// planning is the planner's own room, or a house of those who use it.
func planning(here, name string) string {
	if strings.HasPrefix(filepath.ToSlash(name), "core/route/") {
		return "core/route"
	}
	house, _, _ := strings.Cut(here, "/")
	return house
}

// The bounds of a file that is read with ease.
const (
	maxColumns = 140
	maxLines   = 500
	maxRoom    = 1500 // lines of a room of work
)

// TestFilesAreShort sees that no line is too wide to be read, that no file of the program is too
// long, and that no room of work grows into a house.
func TestFilesAreShort(t *testing.T) {
	rooms := map[string]int{}
	err := filepath.WalkDir(".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(name, ".go") {
			return err
		}
		src, err := os.ReadFile(name)
		require.NoError(t, err)
		lines := strings.Split(string(src), "\n")
		for i, line := range lines {
			assert.LessOrEqual(t, len(line), maxColumns, "%s:%d", name, i+1)
		}
		if strings.HasSuffix(name, "_test.go") {
			return nil
		}
		assert.LessOrEqual(t, len(lines)-1, maxLines, name)
		if here := room(path.Dir(filepath.ToSlash(name))); strings.HasPrefix(here, "work/") {
			rooms[here] += len(lines) - 1
		}
		return nil
	})
	require.NoError(t, err)
	for here, n := range rooms {
		assert.LessOrEqual(t, n, maxRoom, here)
	}
}

// firstOf is code that takes the first of the declarations of a name: the others may be at other versions.
var firstOf = regexp.MustCompile(`\.Find\([^()\n]*(\([^()\n]*\))?[^()\n]*\)\[0\]|` +
	`(\w+) :?= [\w.]*([Pp]art|[Cc]omponent|c)\.Find\((.*\n){1,12}.*\b\w+\[0\]\.(Locked|Range|Site|Fixed)`)

// TestNoFirstDeclaration sees that nobody speaks of one declaration by a name that may have several, and that components are
// read in a way that identifies what they declare.
func TestNoFirstDeclaration(t *testing.T) {
	err := filepath.WalkDir(".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") || strings.Contains(name, "rewrite") {
			return err
		}
		src, err := os.ReadFile(name)
		require.NoError(t, err)
		assert.Empty(t, firstOf.FindString(string(src)), "%s takes the first of several declarations", name)
		if strings.HasPrefix(filepath.ToSlash(name), "work/") {
			assert.NotContains(t, string(src), "Eco.Read(", "%s: ecosystem.Read identifies what is declared", name)
		}
		return nil
	})
	require.NoError(t, err)
}
