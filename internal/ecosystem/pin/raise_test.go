package pin

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
)

// TestRaise takes one subject to a version in files of all shapes. The second
// half of the archive, under "then/", is what they are to be.
func TestRaise(t *testing.T) {
	archive, err := txtar.ParseFile("testdata/raise.txtar")
	require.NoError(t, err)
	before, want := fstest.MapFS{}, map[string]string{}
	for _, f := range archive.Files {
		if len(f.Name) > 5 && f.Name[:5] == "then/" {
			want[f.Name[5:]] = string(f.Data)
		} else {
			before[f.Name] = &fstest.MapFile{Data: f.Data}
			if _, known := want[f.Name]; !known {
				want[f.Name] = string(f.Data)
			}
		}
	}
	pins, _, err := Read(indexed(t, before), nowhere, nil)
	require.NoError(t, err)
	to, err := version.Plain{}.Parse("20.9")
	require.NoError(t, err)
	var ours []model.Pin
	for _, p := range pins {
		if p.Subject.Name == "node" || p.Subject.Name == "java" || p.Subject.Name == "gradle" || p.Subject.Name == "dotnet" {
			ours = append(ours, p)
		}
	}
	raised, err := Raise(before, ours, Aim{To: to, Low: to, Enough: func(v version.Version) bool { return v.Compare(to) >= 0 }})
	require.NoError(t, err)
	got := map[string]string{}
	for name, f := range before {
		got[name] = string(f.Data)
	}
	for _, e := range raised.Edits {
		got[e.File] = string(e.New)
	}
	for name, text := range want {
		assert.Equal(t, text, got[name], name)
	}
	assert.Equal(t, []string{
		".tool-versions:1: a whole version has to stand there, and of 20.9 none is known but the first: put the current one there",
		"Dockerfile:1: no registry of images was asked whether there is one with the tag 20.9",
		"Dockerfile:4: no registry of images was asked whether there is registry.harbour.example:5000/crew/node:20-alpine",
		"digest.Dockerfile:1: no registry of images was asked whether there is node:20",
		"digest.Dockerfile:1: the digest behind 16 is dropped, since it holds for that version alone; put the one of 20.9 there",
		"digest.Dockerfile:2 states runtime/node in a way that cannot be changed from here: it is named by its digest alone",
		"digest.Dockerfile:3 states runtime/node in a way that cannot be changed from here: its tag comes from a variable that has no value here",
		"gradle-wrapper.properties:1: a whole version has to stand there, and of 20.9 none is known but the first: put the current one there",
		"gradle-wrapper.properties:1: the digest behind 8.10.2 is dropped, since it holds for that version alone; put the one of 20.9 there",
		"package.json:1: a whole version has to stand there, and of 20.9 none is known but the first: put the current one there",
	}, raised.Notes)
}

// TestRaiseCorpus takes every subject of the corpus up and reads the files again:
// nothing that is known is below the aim, and lines without a place are as they
// were.
func TestRaiseCorpus(t *testing.T) {
	archive, err := txtar.ParseFile("testdata/corpus.txtar")
	require.NoError(t, err)
	fsys := fstest.MapFS{}
	for _, f := range archive.Files {
		fsys[f.Name] = &fstest.MapFile{Data: f.Data}
	}
	pins, _, err := Read(indexed(t, fsys), nowhere, nil)
	require.NoError(t, err)
	to, err := version.Plain{}.Parse("97")
	require.NoError(t, err)
	bySubject := map[model.Subject][]model.Pin{}
	for _, p := range pins {
		bySubject[p.Subject] = append(bySubject[p.Subject], p)
	}
	for subject, places := range bySubject {
		raised, err := Raise(fsys, places, Aim{To: to, Low: to, Enough: func(v version.Version) bool { return v.Compare(to) >= 0 }})
		require.NoError(t, err, subject.String())
		after := fstest.MapFS{}
		for _, e := range raised.Edits {
			after[e.File] = &fstest.MapFile{Data: e.New}
			changed := map[int]bool{}
			for _, p := range places {
				if p.Site.File == e.File {
					changed[p.Site.Line] = true
					changed[p.Digest.Line] = true
				}
			}
			for i, line := range strings.SplitAfter(string(e.Old), "\n") {
				if !changed[i+1] {
					assert.Contains(t, string(e.New), line, "%s:%d", e.File, i+1)
				}
			}
		}
		again, notes, err := Read(indexed(t, after), nowhere, nil)
		require.NoError(t, err)
		assert.Empty(t, notes, subject.String())
		for _, p := range again {
			if low := Low(p); p.Subject == subject && low != nil {
				assert.GreaterOrEqual(t, low.Compare(to), 0, described(p))
			}
		}
	}
}

// TestOldestGivesWay lets a version come into a list whose entries are all enough: the oldest goes.
func TestOldestGivesWay(t *testing.T) {
	for before, after := range map[string]string{
		`[16, 18, "20.x"]`:                 `[18, "20.x", "22.x"]`,
		`[20]`:                             `[22]`,
		`[20, 18]`:                         `[20, 22]`, // it does not ascend: the last is raised
		"\n          - 18\n          - 20": "\n          - 20\n          - 22",
		"\n          - '18.x'\n          - '20.x'": "\n          - '20.x'\n          - '22.x'",
	} {
		text := func(list string) string {
			return "jobs:\n  check:\n    strategy:\n      matrix:\n        node-version: " + list + "\n    steps: []\n"
		}
		fsys := fstest.MapFS{".github/workflows/ci.yml": {Data: []byte(text(before))}}
		x, err := ecosystem.Walk(fsys, nil)
		require.NoError(t, err)
		pins, _, err := Read(x, func(string) bool { return false }, nil)
		require.NoError(t, err)
		to, err := version.Plain{}.Parse("22")
		require.NoError(t, err)
		low, err := version.Plain{}.Parse("0")
		require.NoError(t, err)
		raised, err := Raise(fsys, pins, Aim{To: to, Low: low, Enough: func(version.Version) bool { return true }})
		require.NoError(t, err)
		require.Len(t, raised.Edits, 1, before)
		assert.Equal(t, text(after), string(raised.Edits[0].New), before)
	}
}
