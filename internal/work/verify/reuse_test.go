package verify

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/settings"
	"bellwether/internal/work/tree"
)

// linked is an ecosystem whose components build with what lies in another folder.
type linked struct {
	ecosystem.Ecosystem
	with []string
}

func (l linked) BuildsWith(*model.Component) []string { return l.with }

func TestReading(t *testing.T) {
	part := func(dir string, with ...string) *tree.Part {
		return &tree.Part{Component: &model.Component{Dir: dir}, Eco: linked{with: with}}
	}
	ferry, pier, rope, whole := part("ferry", "rope"), part("pier"), part("rope"), part(".")
	j := Job{
		Desk: &desk.Desk{Settings: &settings.Settings{Reads: map[string][]string{"pier": {"ferry/**/*.proto", "rope/name"}}}},
		Tree: &tree.Tree{Parts: []*tree.Part{ferry, pier, rope}},
	}
	for name, readers := range map[string][]*tree.Part{
		"ferry/a.js":           {ferry},
		"ferry/api/v1/a.proto": {ferry, pier},
		"rope/name":            {ferry, pier, rope},
		"rope/names":           {ferry, rope},
		"ropes/name":           {ferry, pier, rope}, // in no component's folder
		"tools/check.sh":       {ferry, pier, rope},
		".bellwether/journey":  {},
		".bellwether.txt":      {ferry, pier, rope},
	} {
		for _, part := range j.Tree.Parts {
			assert.Equal(t, slices.Contains(readers, part), j.reading(part)(name), "%s reads %s", part.Dir, name)
		}
	}
	j.Tree.Parts = []*tree.Part{ferry, pier, whole}
	assert.True(t, j.reading(whole)("ferry/a.js"), "the component of the whole project reads all of it")
	assert.True(t, j.reading(ferry)("a.js"), "what the outer one has, the inner one may read")
	assert.False(t, j.reading(ferry)("pier/a.js"), "but not what another inner one has")
}
