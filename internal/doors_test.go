package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// door is what only some rooms may use, each for the reason that is given.
type door struct {
	what string
	uses func(pkg, name string) bool
	may  map[string]string // by room or file
}

// fileCalls are the functions of package os that reach a file by its path.
var fileCalls = map[string]bool{
	"Open": true, "OpenFile": true, "Create": true, "ReadFile": true, "WriteFile": true, "ReadDir": true, "Stat": true,
	"Lstat": true, "Remove": true, "RemoveAll": true,
	"Mkdir": true, "MkdirAll": true, "MkdirTemp": true, "CreateTemp": true, "Rename": true, "Symlink": true, "Readlink": true,
	"Chmod": true, "Chown": true, "Truncate": true,
	"DirFS": true, "CopyFS": true, "Link": true, "OpenRoot": true, "OpenInRoot": true,
}

// doors are drawn in docs/security.md.
var doors = []door{
	{
		"reaches files by their paths", func(pkg, name string) bool {
			return pkg == "os" && fileCalls[name] || pkg == "path/filepath" && (name == "Walk" || name == "WalkDir" || name == "Glob")
		},
		map[string]string{
			"host/within":                         "the door itself",
			"host/fetch":                          "the person's cache",
			"host/run":                            "the person's cache, /proc",
			"host/marked":                         "/proc",
			"host/machine":                        "folders of version managers in the person's home",
			"host/keep/seal.go":                   "the key, in the person's home",
			"host/keep/writable_other.go":         "a file of its own",
			"host/git":                            "git's own folders, and where repositories are looked for",
			"host/scratch/scratch.go":             "copies into temporary folders of our own making",
			"host/scratch/watch.go":               "scratches, without following links",
			"ecosystem/gomod/registry/archive.go": "temporary files, the go command's cache",
			"ecosystem/gomod/origin/origin.go":    "temporary files",
			"work/kept/store.go":                  "the person's folder for what programs keep",
			"work/verify/stage.go":                "a folder of the scratch",
			"work/scaffold/source.go":             "templates where the person has them, temporary files",
			"work/scaffold/generate.go":           "temporary files",
			"standin":                             "temporary files",
			"cli/cli.go":                          "a drawing where the person wants it",
			"story":                               "the folders of the stories, and those in which their packages are compiled",
			"cli/man.go":                          "the folder of the manual",
			"cli/scaffold.go":                     "a page where the person wants it",
		},
	},
	{
		"writes what Bellwether keeps in a project", func(pkg, name string) bool {
			return pkg == "bellwether/internal/host/within" && name == "Keeping"
		},
		map[string]string{"host/keep": "the keeper itself", "host/git/mend.go": "takes back what a commit of a leg added"},
	},
	{
		"starts processes", func(pkg, _ string) bool { return pkg == "os/exec" },
		map[string]string{"host/run": "the door itself", "standin/verdict": "looks whether a client is there, in tests"},
	},
	{
		"asks the network", func(pkg, name string) bool {
			return pkg == "net/http" && (name == "Client" || name == "Get" || name == "Post" || name == "DefaultClient") ||
				pkg == "net" && (strings.HasPrefix(name, "Dial") || name == "Listen")
		},
		map[string]string{
			"host/fetch": "the door itself", "host/probe": "programs that stages started", "story/registries.go": "serves on loopback",
		},
	},
	{
		"writes to the terminal by itself", func(pkg, name string) bool {
			return pkg == "os" && (name == "Stdout" || name == "Stderr") ||
				pkg == "fmt" && (name == "Print" || name == "Printf" || name == "Println")
		},
		map[string]string{},
	},
}

// TestDoors fails on code that goes round a door.
func TestDoors(t *testing.T) {
	used := map[string]bool{}
	err := filepath.WalkDir(".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return err
		}
		name = filepath.ToSlash(name)
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		require.NoError(t, err)
		imports := map[string]string{}
		for _, i := range file.Imports {
			at, err := strconv.Unquote(i.Path.Value)
			require.NoError(t, err)
			as := path.Base(at)
			if i.Name != nil {
				as = i.Name.Name
			}
			if as == "v2" {
				as = path.Base(path.Dir(at))
			}
			imports[as] = at
		}
		ast.Inspect(file, func(n ast.Node) bool {
			s, ok := n.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			of, ok := s.X.(*ast.Ident)
			if !ok || imports[of.Name] == "" || of.Obj != nil {
				return true
			}
			for _, d := range doors {
				if !d.uses(imports[of.Name], s.Sel.Name) {
					continue
				}
				room := name
				for d.may[room] == "" && room != "." {
					room = path.Dir(room)
				}
				used[d.what+room] = true
				assert.NotEmpty(t, d.may[room], "%s %s (%s.%s)", name, d.what, of.Name, s.Sel.Name)
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	for _, d := range doors {
		for room := range d.may {
			assert.True(t, used[d.what+room], "%s no longer %s: its line can go", room, d.what)
		}
	}
}
