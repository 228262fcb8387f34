package notes

import (
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/version"
)

// onTheWay tells of versions after 1.0.0 and up to 2.0.0.
func onTheWay(text string, major bool) bool {
	for range 3 {
		if v, err := (version.NPM{}).Parse(text); err == nil {
			low, _ := version.NPM{}.Parse("1.0.0")
			high, _ := version.NPM{}.Parse("2.0.0")
			return v.Compare(low) > 0 && v.Compare(high) <= 0
		}
		text += ".0"
	}
	return false
}

// TestCorpus cuts files of every form.
func TestCorpus(t *testing.T) {
	a, err := txtar.ParseFile("testdata/corpus.txtar")
	require.NoError(t, err)
	cases := 0
	for i := 0; i+1 < len(a.Files); i += 2 {
		f, want := a.Files[i], a.Files[i+1]
		name, rest, _ := strings.Cut(f.Name, "/")
		require.Equal(t, name+"/want", want.Name)
		require.True(t, IsNotes(rest), rest)
		text := string(f.Data)
		if strings.HasPrefix(name, "crlf") {
			text = strings.ReplaceAll(text, "\n", "\r\n")
		}
		var got strings.Builder
		for _, p := range Between(Read(rest, text), onTheWay) {
			got.WriteString(p.Version + ":")
			for _, e := range p.Entries() {
				got.WriteString(" " + string(e.Kind))
			}
			got.WriteString("\n")
		}
		assert.Equal(t, string(want.Data), got.String(), name)
		cases++
	}
	assert.GreaterOrEqual(t, cases, 40)
}

func TestRenames(t *testing.T) {
	for text, want := range map[string]string{
		"`createBoard` is now `makeBoard`":                     "createBoard makeBoard",
		"`createBoard()` has been renamed to `makeBoard()`.":   "createBoard makeBoard",
		"Rename `a.b` option to `a.c`":                         "a.b a.c",
		"Renamed the function `openPier` to `open`":            "openPier open",
		"Use `tides.fetch` instead of `fetchTides`":            "fetchTides tides.fetch",
		"`fetchTides` was removed. Use `tides.fetch` instead.": "fetchTides tides.fetch",
		"`p.send(a, b)` signature - use `p.at(a).send(b)`":     "",
		"`x-y` -> `z`":                           "x-y z",
		"'oldName' is replaced by 'newName'":     "oldName newName",
		"The `--fast` option moved to `--quick`": "--fast --quick",
		"DeprecationWarning: fetchTides is deprecated, use tides.get instead": "fetchTides tides.get",
		"use of old_name is fine":                    "",
		"`a` and `b` were fixed":                     "",
		"`value` may be `true`":                      "",
		"the parser is deprecated. Use it with care": "",
	} {
		got := ""
		for _, r := range Renames(text) {
			got = strings.TrimSpace(got + " " + r.Old + " " + r.New)
		}
		assert.Equal(t, want, got, text)
	}
}

func TestNames(t *testing.T) {
	for text, want := range map[string]string{
		"The verify() function no longer accepts unsigned tokens":      "verify",
		"Pier#moor() and Pier#leave() take no callback, .haul() does":  ".haul .leave .moor",
		"remove: `req.tide()` -- use `req.tides`, `req.log` instead":   "req.tide",
		"`openPier` is gone in favour of `pier.open` and `pier.close`": "openPier",
		"use `tides` with care":                            "tides",
		"`a-b` is now consistent with `c-d`; `e-f` is not": "a-b e-f",
		"call foo(bar) (or not)":                           "",
	} {
		assert.Equal(t, want, strings.Join(namesIn(text), " "), text)
	}
}

func TestNeeds(t *testing.T) {
	for text, want := range map[string]string{
		"Requires Node.js >= 20":                       "Node.js 20",
		"The minimum supported Go version is now 1.25": "Go 1.25",
		"drop support for Node 16":                     "Node 16 and before",
		"Drop Node 10":                                 "Node 10 and before",
		"Drop support for NodeJS <= 16":                "NodeJS 16 and before",
		"Dropped support for Node.js 12, 14 and 15.":   "Node.js 15 and before",
		"Remove support for Node < 18":                 "Node 18",
		"no longer supports Ruby 2.7":                  "Ruby 2.7 and before",
		"Drop the node module":                         "",
		"Drop Java serialization":                      "",
		"remove node 3 from the tree":                  "node 3 and before",
		"bump minimum Java to 17":                      "Java 17",
		"now requires TypeScript 5.4 or newer":         "TypeScript 5.4",
		"requires care":                                "",
	} {
		got := ""
		if n := needOf(text); n != nil {
			if got = n.Name + " " + n.Version; n.After {
				got += " and before"
			}
		}
		assert.Equal(t, want, got, text)
	}
}

// TestReadme reads what a README says of upgrading, and nothing else.
func TestReadme(t *testing.T) {
	parts := ReadReadme("# Quay\n\n## 1.5.0 is out\n\n- `x` is here\n\n## Upgrading\n\n### From 1.x to 2.0\n\n" +
		"- `a` is now `b`\n\n## Use\n\n- 2.0.0\n")
	require.Len(t, parts, 1)
	assert.Equal(t, "2.0", parts[0].Version)
	require.Len(t, parts[0].Entries(), 1)
	assert.Equal(t, []Rename{{"a", "b"}}, parts[0].Entries()[0].Renames)
}

func TestIsNotes(t *testing.T) {
	for name, want := range map[string]bool{
		"CHANGELOG.md": true, "changelog": true, "HISTORY.rst": true, "docs/migration-v5.md": true, "docs/changelogs/2.0.0.md": true,
		"UPGRADE-3.0.md": true, "lib/changelog.js": false, "src/history.md": false, "a/b/c/CHANGELOG.md": false,
		"README.md": false, "docs/2.0.0.md": false,
	} {
		assert.Equal(t, want, IsNotes(name), name)
	}
}

// FuzzRead sees that no text stops the reader, and that lines stay in order.
func FuzzRead(f *testing.F) {
	f.Add("CHANGELOG.md", "## 1.2.3\n- `a` is now `b`\n```\nx\n")
	f.Add("UPGRADING.rst", "from 1.x to 2\n====\n* a")
	f.Fuzz(func(t *testing.T, name, text string) {
		last := 0
		for _, p := range Read(name, text) {
			require.Greater(t, p.Line, last-1)
			for _, e := range p.Entries() {
				require.GreaterOrEqual(t, e.Line, p.Line)
				require.LessOrEqual(t, len(e.Text), maxEntry+4)
			}
			last = p.Line
		}
	})
}
