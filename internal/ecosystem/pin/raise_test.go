package pin

import (
	"testing"
	"testing/fstest"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
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
	pins, _, err := Read(before, nowhere, nil)
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
		"digest.Dockerfile:1: the digest behind 16 is dropped, since it holds for that version alone; put the one of 20.9 there",
		"digest.Dockerfile:2 states runtime/node in a way that cannot be changed from here: it is named by its digest alone",
		"digest.Dockerfile:3 states runtime/node in a way that cannot be changed from here: its tag comes from a variable that has no value here",
		"gradle-wrapper.properties:1: the digest behind 8.10.2 is dropped, since it holds for that version alone; put the one of 20.9 there",
	}, raised.Notes)
}
