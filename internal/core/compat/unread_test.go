package compat

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestUnread(t *testing.T) {
	l := &KeyList{
		Files: []string{
			"*",
		}, Root: []string{"tide"}, Known: []string{"every", "table.rows", "piers.*.name", "extra.**"}, Required: []string{"every"},
	}
	for _, c := range []struct{ file, text, want string }{
		{"a.yml", "tide:\n  every: 1\n  table: {rows: 2}\n  piers: {north: {name: x}}\n  extra: {a: {b: 1}}\nother: {x: 1}\n", ""},
		{"a.yml", "tide:\n  evry: 1\n", "tide.evry:2 (tide.every) tide.every missing"},
		{"a.yml", "tide:\n  every: 1\n  rows: 2\n  piers: {north: {colour: x}}\n", "tide.rows:3 (tide.table.rows) tide.piers.north.colour:4"},
		{"a.properties", "tide.every=1\ntide.interval=2\n", "tide.interval:2"},
		{"a.json", "{\"other\": 1}", ""},
		{".env", "TIDE_EVERY=1\nTIDE_TABLEROWS=1\nTIDE_TABLE_ROWS=1\nTIDES=2\nTIDE_EXTRA_X=1\n", ""},
	} {
		if c.file == ".env" {
			l = &KeyList{Files: []string{"*"}, Root: []string{"tide"}, Known: []string{"every", "table.rows", "extra.**"}}
			c.want = "TIDE_TABLEROWS:2 (tide.table.rows)"
		}
		found, err := l.Unread(c.file, c.text)
		require.NoError(t, err)
		got := ""
		for _, u := range found {
			if got != "" {
				got += " "
			}
			got += u.Key
			if u.Missing {
				got += " missing"
				continue
			}
			got += ":" + string(rune('0'+u.Line))
			if u.Nearest != "" {
				got += " (" + u.Nearest + ")"
			}
		}
		assert.Equal(t, c.want, got, c.text)
	}
}

func TestWithSchema(t *testing.T) {
	l, err := (&KeyList{}).WithSchema([]byte(`{"type": "object", "additionalProperties": false, "required": ["a"], "properties": {
		"a": {"$ref": "#/$defs/a"}, "b": {"type": "object"}}, "$defs": {"a": {"properties": {"x": {}, "y.z": {}}, "additionalProperties": false,
		"required": ["x"]}}}`))
	require.NoError(t, err)
	slices.Sort(l.Known)
	assert.Equal(t, []string{`a`, `a."y.z"`, `a."y.z".**`, "a.x", "a.x.**", "b", "b.**"}, l.Known)
	assert.Equal(t, []string{"a", "a.x"}, l.Required)
}
