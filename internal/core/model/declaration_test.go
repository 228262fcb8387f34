package model

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"bellwether/internal/core/condition"
)

func TestIdentify(t *testing.T) {
	old := condition.Term{Key: "profile", Op: condition.Equal, Value: "old"}
	at := func(file string, start int) Site { return Site{File: file, Start: start, End: start + 1} }
	c := &Component{Requirements: []Requirement{
		{Name: "hawser", Group: "managed", Site: at("pom.xml", 10), Locked: "1.0"},
		{Name: "hawser", Group: "direct", Site: at("pom.xml", 20), Locked: "2.0"},
		{Name: "hawser", Group: "direct", When: old, Site: at("pom.xml", 30), Locked: "2.0"},
		{Name: "hawser", Group: "direct", Site: at("a/pom.xml", 30), Locked: "2.0"},
		{Name: "hawser", Group: "direct", Site: at("a/pom.xml", 40), Locked: "2.0"},
		{Name: "hawser", Group: "direct", Site: at("b/pom.xml", 40), Fixed: "a parent states it", Locked: "3.0"},
		{Name: "rope", Group: "direct", Site: at("pom.xml", 50), Locked: "1.0"},
		{Name: "rope", Group: "direct", Site: at("a/pom.xml", 50), Locked: "1.0"},
		{ID: "deck::twine", Name: "twine", Site: at("pom.xml", 60)},
	}}
	c.Identify()
	var keys []string
	for _, r := range c.Requirements {
		keys = append(keys, r.Key())
	}
	assert.Equal(t, []string{
		"pom.xml#managed::hawser", "pom.xml#direct::hawser", "pom.xml#direct#profile==old::hawser", "a/pom.xml::hawser",
		"a/pom.xml#2::hawser", "hawser", "rope", "rope", "twine",
	}, keys)
	assert.Equal(t, DeclarationID("deck::twine"), c.Requirements[8].ID, "what a reader said stays")
	assert.Len(t, c.Find("hawser"), 6)
	assert.Len(t, c.Find("a/pom.xml::rope"), 1)
	assert.Equal(t, "1.0, 2.0, 3.0", c.LockedAt("hawser"))
	assert.Equal(t, "2.0", c.LockedAt("a/pom.xml::hawser"))
	assert.True(t, c.Declares("pom.xml::rope"))
	assert.False(t, c.Declares("c/pom.xml::rope"))
	assert.Equal(t, "rope in a/pom.xml", Spoken("a/pom.xml::rope"))
	place, name := Parted(string(Declaration("odd::file", "rope")))
	assert.Equal(t, "odd:file rope", place+" "+name)
}
