package pin

import (
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
)

func nowhere(string) bool { return false }

// TestCorpus reads files as people write them, with each kind of line end.
func TestCorpus(t *testing.T) {
	archive, err := txtar.ParseFile("testdata/corpus.txtar")
	require.NoError(t, err)
	for name, end := range map[string]string{"as is": "\n", "other line ends": "\r\n"} {
		t.Run(name, func(t *testing.T) {
			fsys, want := fstest.MapFS{}, ""
			for _, f := range archive.Files {
				if f.Name == "want" {
					want = string(f.Data)
					continue
				}
				fsys[f.Name] = &fstest.MapFile{Data: []byte(strings.ReplaceAll(string(f.Data), "\n", end))}
			}
			pins, notes, err := Read(indexed(t, fsys), nowhere, nil)
			require.NoError(t, err)
			var got []string
			for _, p := range pins {
				checkSite(t, p, fsys[p.Site.File].Data)
				got = append(got, described(p))
			}
			for _, n := range notes {
				got = append(got, "note: "+n)
			}
			slices.Sort(got)
			assert.Equal(t, strings.Split(strings.TrimSpace(want), "\n"), got)
		})
	}
}

// described is a pin in a line: its place, subject, text, and what it is.
func described(p model.Pin) string {
	text := fmt.Sprintf("%s %s %s", p.Site, p.Subject, p.Range)
	for _, mark := range []struct {
		word  string
		holds bool
	}{
		{"floating", p.Floating}, {"at least", p.AtLeast}, {"one of several", p.List != nil}, {"whole", p.Whole},
		{"assumed", p.Assumed}, {"here", p.Here}, {"with a digest", p.Digest.Text != ""}, {"unknown", p.Unknown != ""},
	} {
		if mark.holds {
			text += ", " + mark.word
		}
	}
	return text
}

// checkSite sees that a pin stands where it is said to, and that new text in
// its place is read back.
func checkSite(t *testing.T, p model.Pin, src []byte) {
	t.Helper()
	same, err := model.Apply(src, nil)
	require.NoError(t, err)
	assert.Equal(t, src, same)
	assert.Equal(t, p.Site.Text, string(src[p.Site.Start:p.Site.End]))
	if p.Floating || p.Unknown != "" {
		return
	}
	fresh := "97"
	if strings.Contains(p.Range, ".") {
		fresh = "97.1"
	}
	moved, err := model.Apply(src, []model.Splice{{Site: p.Site, New: fresh}})
	require.NoError(t, err)
	again, _, err := Read(indexed(t, fstest.MapFS{p.Site.File: {Data: moved}}), nowhere, nil)
	require.NoError(t, err)
	assert.True(
		t, slices.ContainsFunc(again, func(q model.Pin) bool { return q.Subject == p.Subject && strings.HasPrefix(q.Range, fresh) }),
		"%s in\n%s", p.Site, moved,
	)
}

func TestLeftOut(t *testing.T) {
	pins, _, err := Read(indexed(t, fstest.MapFS{
		"old/.nvmrc": {
			Data: []byte("14\n"),
		}, ".nvmrc": {Data: []byte("\n\n")}, "Dockerfile": {Data: []byte(strings.Repeat("FROM node:20\n", 1<<17))},
	}), func(dir string) bool { return dir == "old" }, nil)
	require.NoError(t, err)
	assert.Empty(t, pins, "a folder that is left out, a file that says nothing, one that nobody wrote by hand")
}

func TestRowsOfAProject(t *testing.T) {
	row := Row{Files: "deploy/*.hcl", Subject: "runtime/node at least", Match: `node_image = "(?P<version>[0-9.]+)"`}
	require.NoError(t, row.Check())
	pins, _, err := Read(indexed(t, fstest.MapFS{"deploy/web.hcl": {Data: []byte("x\nnode_image = \"20.1\"\n")}}), nowhere, []Row{row})
	require.NoError(t, err)
	require.Len(t, pins, 1)
	assert.Equal(
		t, "deploy/web.hcl:2 runtime/node 20.1 true",
		fmt.Sprint(pins[0].Site, " ", pins[0].Subject, " ", pins[0].Range, " ", pins[0].AtLeast),
	)
	for want, bad := range map[string]Row{
		"is not a pattern": {"a[", "runtime/x", "(?P<version>x)", ""}, "is not runtime/": {"a", "package/x", "(?P<version>x)", ""},
		"has no group named version": {"a", "tool/x", "(x)", ""}, "missing closing": {"a", "tool/x", "(?P<version>x", ""},
		"either match or key": {"a", "tool/x", "(?P<version>x)", "a.b"},
	} {
		assert.ErrorContains(t, bad.Check(), want)
	}
}

func FuzzRead(f *testing.F) {
	for i := range kinds {
		f.Add(i, []byte("FROM node:20-slim\nnodejs 20\nimage: node:20\nnode-version: [18, '20']\n"))
	}
	f.Fuzz(func(t *testing.T, i int, src []byte) {
		file := &file{name: "x", src: src}
		kinds[max(i, -i-1)%len(kinds)].read(file)
		for _, p := range file.pins {
			assert.Equal(t, p.Site.Text, string(src[p.Site.Start:p.Site.End]))
		}
	})
}

// indexed is the index of a project's files.
func indexed(t testing.TB, fsys fs.FS) *ecosystem.Index {
	x, err := ecosystem.Walk(fsys, nil)
	require.NoError(t, err)
	return x
}
