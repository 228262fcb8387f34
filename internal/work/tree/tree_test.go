package tree

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
	"bellwether/internal/work/settings"
)

func read(t *testing.T, files map[string]string, real map[string]string) *Tree {
	t.Helper()
	fsys := fstest.MapFS{}
	for name, text := range files {
		fsys[name] = &fstest.MapFile{Data: []byte(text)}
	}
	tr, err := Read(Source{
		FS: fsys, Settings: &settings.Settings{LeaveOut: []string{"old"}},
		Ignored: func([]string) map[string]bool { return map[string]bool{"dist": true} },
		Real: func(name string) (string, error) {
			if to := real[name]; to != "" {
				return to, nil
			}
			return name, nil
		},
	})
	require.NoError(t, err)
	return tr
}

func dirs(tr *Tree) (dirs []string) {
	for _, part := range tr.Parts {
		dirs = append(dirs, part.Eco.Kind()+" in "+part.Dir)
	}
	return dirs
}

const ferry = `{"name": "ferry", "dependencies": {"rope": "^1.0.0"}}`

// A tree stays as it is whatever comes of it.
func TestWith(t *testing.T) {
	tr := read(t, map[string]string{
		"ferry/package.json": ferry, "crane/go.mod": "module crane.example/crane\n\ngo 1.25\n", "old/package.json": ferry,
		"dist/package.json": ferry, ".nvmrc": "20\n",
	}, nil)
	assert.Equal(t, []string{"npm in ferry", "golang in crane"}, dirs(tr))
	edits := []model.FileEdit{
		{File: "ferry/package.json", New: []byte(`{"name": "ferry", "dependencies": {"rope": "^2.0.0"}}`)},
		{File: ".nvmrc", New: []byte("22\n")},
	}
	after, err := tr.With(edits)
	require.NoError(t, err)
	asked := func(tr *Tree) string { return tr.Part("ferry").Find("rope")[0].Range }
	node := func(tr *Tree) string {
		places, err := tr.Places()
		require.NoError(t, err)
		for _, group := range places.Groups {
			if group[0].Subject.Name == "node" {
				return group[0].Range
			}
		}
		return ""
	}
	assert.Equal(t, []string{"^1.0.0", "^2.0.0"}, []string{asked(tr), asked(after)})
	assert.Equal(t, []string{"20", "22"}, []string{node(tr), node(after)})
	assert.Equal(t, dirs(tr), dirs(after))
	same, err := tr.With(nil)
	require.NoError(t, err)
	assert.Same(t, tr, same)

	moved := tr.Moved(after.Files, after.Part("ferry"))
	assert.Equal(t, "^2.0.0", asked(moved))
	assert.Same(t, tr.Part("crane"), moved.Part("crane"), "only the one part is another")
}

// A place that a manifest's own reader finds, too, is one place.
func TestOnePlace(t *testing.T) {
	tr := read(t, map[string]string{"crane/go.mod": "module crane.example/crane\n\ngo 1.25.0\n"}, nil)
	places, err := tr.Places()
	require.NoError(t, err)
	require.Len(t, places.Groups, 1)
	require.Len(t, places.Groups[0], 1)
	assert.Equal(t, "crane/go.mod:3", places.Groups[0][0].Site.String())
}

func TestAliases(t *testing.T) {
	for _, link := range []string{"ferry", "pier"} {
		tr := read(t, map[string]string{"ferry/package.json": ferry, "pier/package.json": ferry}, map[string]string{
			link + "/package.json": map[string]string{"ferry": "pier", "pier": "ferry"}[link] + "/package.json",
		})
		assert.Len(t, tr.Parts, 1)
		assert.NotEqual(t, link, tr.Parts[0].Dir, "the link stands for the other")
	}
}

// A manifest without a component of its own belongs to the innermost one around it.
func TestPartWith(t *testing.T) {
	tr := read(t, map[string]string{
		"package.json": ferry, "decks/package.json": `{"name": "decks", "workspaces": ["*"]}`, "decks/upper/package.json": `{"name": "upper"}`,
	}, nil)
	assert.Equal(t, []string{"npm in .", "npm in decks"}, dirs(tr))
	assert.Equal(t, "decks", tr.PartWith("decks/upper/package.json").Dir)
	assert.Equal(t, ".", tr.PartWith("decking/package.json").Dir)
	assert.Nil(t, tr.PartWith("decks/upper/go.mod"))
}
