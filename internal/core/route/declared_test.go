package route

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
)

// places is a component that declares one package at versions, each in a file of its own.
func places(versions ...string) *model.Component {
	c := &model.Component{}
	for i, v := range versions {
		site := model.Site{File: string(rune('a'+i)) + "/package.json", Line: 1}
		c.Requirements = append(c.Requirements, model.Requirement{Name: "left", Group: "dependencies", Locked: v, Site: site})
	}
	c.Identify()
	return c
}

func TestCrossings(t *testing.T) {
	yes, no := func(model.Requirement) bool { return true }, func(model.Requirement) bool { return false }
	both := []model.Move{{Name: "left", From: "1.0.0", To: "1.5.0"}, {Name: "left", From: "2.1.0", To: "1.5.0"}}
	for _, c := range []struct {
		name          string
		before, after *model.Component
		moves         []model.Move
		named         func(model.Requirement) bool
		says          string
	}{
		{"the first goes up, the second goes along and down", places("1.0.0", "2.1.0"), places("1.5.0", "1.5.0"), both[:1], no,
			"left is at 2.1.0 in b/package.json:1, and would go down to 1.5.0 there"},
		{"even if the package is named", places("1.0.0", "2.1.0"), places("1.5.0", "1.5.0"), both[:1], yes, "would go down"},
		{"and if it is told, but nobody named it", places("1.0.0", "2.1.0"), places("1.5.0", "1.5.0"), both, no, "would go down"},
		{"which is told and asked for", places("1.0.0", "2.1.0"), places("1.5.0", "1.5.0"), both, yes, ""},
		{"the second crosses a major unasked", places("1.0.0", "2.1.0"), places("2.1.0", "2.1.0"), nil, no,
			"a/package.json:1, and would go to 2.1.0"},
		{"comes along with one that is named", places("1.0.0", "2.1.0"), places("3.0.0", "3.0.0"), both[:1], yes, ""},
		{"all within their majors", places("1.0.0", "2.1.0"), places("1.5.0", "2.2.0"), nil, no, ""},
		{"nothing changes", places("1.0.0", "2.1.0"), places("1.0.0", "2.1.0"), nil, no, ""},
		{"one goes away", places("1.0.0", "2.1.0"), places("1.0.0"), nil, no, ""},
	} {
		found := Crossings(version.NPM{}, c.before, c.after, c.moves, c.named)
		if c.says == "" {
			assert.Empty(t, found, c.name)
		} else if assert.Len(t, found, 1, c.name) {
			assert.Contains(t, found[0].Text, c.says, c.name)
		}
	}
}
