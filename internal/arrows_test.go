package internal

import (
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
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
	"story": "core host view standin demo work work/desk work/world work/ways work/plan work/carry work/standing work/culprit work/look " +
		"work/adapt work/notes work/report work/scaffold",
	"cli": "core host view story work work/desk work/settings work/tree work/world work/ways work/plan work/verify " +
		"work/carry work/standing work/culprit work/look work/adapt work/todo work/notes work/report work/scaffold",
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
	"work/notes":    "core host ecosystem work/settings work/desk work/tree work/kept",
	"work/hints":    "core ecosystem work/desk work/tree work/kept work/adapt work/notes",
	"work/todo":     "core work/desk work/tree work/kept",
	"work/adapt":    "core host ecosystem work/desk work/tree work/kept work/shelf work/world work/verify work/todo",
	"work/carry": "core host ecosystem work/settings work/desk work/tree work/kept work/world work/legs work/need work/verify work/adapt " +
		"work/hints",
	"work/standing": "core work/settings work/desk work/tree work/kept work/todo",
	"work/culprit":  "core host work/desk work/tree work/kept work/world work/legs work/verify work/adapt",
	"work/legs":     "core work/desk work/tree work/world work/subjects",
	"work/report":   "core work/desk work/tree work/kept work/plan work/standing work/world",
	"work/scaffold": "core host ecosystem work/desk work/tree work/kept",
	"work/look":     "core host ecosystem work/desk work/tree work/shelf work/world work/ways work/need work/plan work/subjects work/notes",
}

// inside lists what the rooms of the core, the host, the ecosystems and the view import of their own house; one that is not listed
// imports none of it. Names are of the same house, in an ecosystem of the same family; with a slash before them, of another one. The
// contract of the ecosystems is for all of them.
var inside = map[string]string{
	"core/advisory":             "model version",
	"core/companion":            "version",
	"core/compat":               "keys lex model pattern rewrite solve spelling version yamldoc",
	"core/contract":             "model version",
	"core/finding":              "lazyregexp output",
	"core/finding/printed":      "finding finding/suites lazyregexp",
	"core/finding/suites":       "finding lazyregexp",
	"core/flat":                 "contract model solve version want",
	"core/jsondoc":              "model",
	"core/keys":                 "lex model splice yamldoc",
	"core/mention":              "keys lex",
	"core/model":                "condition",
	"core/notes":                "lazyregexp version",
	"core/output":               "model",
	"core/overlay":              "model",
	"core/pattern":              "lazyregexp lex spelling splice",
	"core/report":               "finding harmless model notes output",
	"core/rewrite":              "charset keys lazyregexp lex model pattern reserved rewrite/source splice",
	"core/rewrite/source":       "charset keys lazyregexp lex pattern splice",
	"core/route":                "contract model solve spelling version",
	"core/scaffold":             "keys lazyregexp merge reserved",
	"core/version":              "lazyregexp",
	"core/want":                 "contract model solve version",
	"core/xmldoc":               "model",
	"core/yamldoc":              "lazyregexp model spelling",
	"ecosystem/gem":             "gemfile project registry resolving",
	"ecosystem/gem/project":     "gemfile lock",
	"ecosystem/gem/registry":    "gemfile lock project /archive",
	"ecosystem/gem/resolving":   "gemfile lock project registry",
	"ecosystem/gomod":           "goenv imports project registry resolving selection",
	"ecosystem/gomod/goenv":     "protocol",
	"ecosystem/gomod/origin":    "protocol",
	"ecosystem/gomod/project":   "imports selection",
	"ecosystem/gomod/registry":  "goenv imports origin project protocol selection",
	"ecosystem/gomod/resolving": "imports project protocol registry selection tidying",
	"ecosystem/gomod/tidying":   "imports project registry selection",
	"ecosystem/maven":           "graph pom project registry resolving /mavenrepo",
	"ecosystem/maven/graph":     "pom project registry /mavenrepo",
	"ecosystem/maven/linked":    "graph registry /mavenrepo",
	"ecosystem/maven/pom":       "/mavenrepo",
	"ecosystem/maven/project":   "pom /mavenrepo",
	"ecosystem/maven/registry":  "pom project /mavenrepo",
	"ecosystem/maven/resolving": "graph linked pom project registry /mavenrepo",
	"ecosystem/npm":             "npmrc packagejson project registry resolving tree",
	"ecosystem/npm/lock":        "packagejson",
	"ecosystem/npm/lockwriter":  "lock packagejson tree",
	"ecosystem/npm/placing":     "lock packagejson registry tree /archive",
	"ecosystem/npm/project":     "lock npmrc packagejson tree",
	"ecosystem/npm/registry":    "npmrc packagejson /archive",
	"ecosystem/npm/resolving":   "lockwriter packagejson placing project registry tree",
	"ecosystem/npm/tree":        "lock packagejson registry",
	"host/fetch":                "within",
	"host/git":                  "marked run within",
	"host/keep":                 "within",
	"host/probe":                "run",
	"host/run":                  "marked within",
	"host/scratch":              "git run within",
	"view":                      "doc drawing page template",
	"view/drawing":              "doc",
	"view/page":                 "doc drawing",
	"view/template":             "doc page",
}

// mayImportInside tells whether a package may import another one of its house.
func mayImportInside(pkg, other string) bool {
	house, _, _ := strings.Cut(pkg, "/")
	if other == "ecosystem" {
		return true
	}
	base := house
	if house == "ecosystem" {
		base = path.Join(strings.Split(pkg+"/", "/")[:2]...)
	}
	return slices.ContainsFunc(strings.Fields(inside[pkg]), func(name string) bool {
		if below, elsewhere := strings.CutPrefix(name, "/"); elsewhere {
			return other == house+"/"+below
		}
		return other == base+"/"+name
	})
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
			} else if here != "standin" && !strings.HasPrefix(here, "work") {
				pkg, other := path.Dir(filepath.ToSlash(name)), strings.TrimPrefix(ours, "internal/")
				assert.True(t, mayImportInside(pkg, other), "%s imports %s", name, ours)
				used[pkg+" "+other] = true
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
	for pkg, allowed := range inside {
		for _, name := range strings.Fields(allowed) {
			assert.True(t, slices.ContainsFunc(slices.Collect(maps.Keys(used)), func(arrow string) bool {
				return strings.HasPrefix(arrow, pkg+" ") && strings.HasSuffix(arrow, "/"+strings.TrimPrefix(name, "/"))
			}), "%s may import %s, and does not", pkg, name)
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
	maxRoom    = 2600 // lines of a package
	maxUseCase = 1500 // lines of a room of work
)

// TestFilesAreShort sees that no line is too wide to be read, that no file of the program is too
// long, and that no room grows into a house.
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
		rooms[path.Dir(filepath.ToSlash(name))] += len(lines) - 1
		return nil
	})
	require.NoError(t, err)
	for here, n := range rooms {
		most := maxRoom
		if strings.HasPrefix(here, "work/") {
			most = maxUseCase
		}
		assert.LessOrEqual(t, n, most, here)
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
