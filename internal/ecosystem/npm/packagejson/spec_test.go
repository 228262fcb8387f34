package packagejson

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReadSpec(t *testing.T) {
	for value, want := range map[string]struct {
		kind specKind
		name string
		text string
	}{
		"^1.2.3":                       {SpecRange, "left", "^1.2.3"},
		"":                             {SpecRange, "left", ""},
		"*":                            {SpecRange, "left", "*"},
		" 1.x || 2 ":                   {SpecRange, "left", "1.x || 2"},
		"latest":                       {SpecTag, "left", "latest"},
		"next-11":                      {SpecTag, "left", "next-11"},
		"npm:right@^2":                 {SpecRange, "right", "^2"},
		"npm:@harbour/right@~2.1":      {SpecRange, "@harbour/right", "~2.1"},
		"npm:right":                    {SpecRange, "right", ""},
		"file:../right":                {SpecFile, "left", "file:../right"},
		"./right.tgz":                  {SpecFile, "left", "./right.tgz"},
		"link:right":                   {SpecFile, "left", "link:right"},
		"git+ssh://git@quay.test/r":    {SpecGit, "left", "git+ssh://git@quay.test/r"},
		"https://quay.test/r.git#v1":   {SpecGit, "left", "https://quay.test/r.git#v1"},
		"crew/right#semver:^1":         {SpecGit, "left", "crew/right#semver:^1"},
		"github:crew/right":            {SpecGit, "left", "github:crew/right"},
		"https://quay.test/right.tgz":  {SpecURL, "left", "https://quay.test/right.tgz"},
		"workspace:^":                  {SpecWorkspace, "left", "workspace:^"},
		strings.Repeat("^", 3) + "1.0": {SpecTag, "left", "^^^1.0"},
	} {
		got := ReadSpec("left", value)
		assert.Equal(t, want.kind, got.Kind, "%q", value)
		assert.Equal(t, want.name, got.Name, "%q", value)
		assert.Equal(t, want.text, got.Text, "%q", value)
	}
}

func TestCheckName(t *testing.T) {
	for _, good := range []string{"left", "@harbour/signal", "JSONStream", "a.b-c_d", "1two"} {
		assert.NoError(t, CheckName(good), good)
	}
	for _, bad := range []string{
		"", "..", "../x", "a/b", "@a", "@/b", "__proto__", ".hidden", "_x", "a b", "a\\b", "node_modules",
		strings.Repeat("x", 215),
	} {
		assert.Error(t, CheckName(bad), bad)
	}
}

func TestOverrideRules(t *testing.T) {
	m, err := ReadManifest(fstest.MapFS{"package.json": {Data: []byte(`{
		"dependencies": { "left": "^2.0.0" },
		"overrides": {
			"deep": "1.0.0",
			"tool@^2": { ".": "2.1.0", "wind": "3.0.0" },
			"rope": { "left": "$left" }
		}
	}`)}}, ".")
	require.NoError(t, err)
	top := Scope{ReadOverrides(m)}
	apply := func(s Scope, name, rng string) (string, Scope) {
		e, below := s.Apply(Edge{Name: name, Spec: ReadSpec(name, rng)})
		return e.Spec.Text, below
	}
	text, _ := apply(top, "deep", "^1.5.0")
	assert.Equal(t, "1.0.0", text)
	text, below := apply(top, "tool", "^2.0.0")
	assert.Equal(t, "2.1.0", text)
	text, _ = apply(below, "wind", "^1")
	assert.Equal(t, "3.0.0", text, "below tool")
	text, _ = apply(top, "wind", "^1")
	assert.Equal(t, "^1", text, "not elsewhere")
	text, _ = apply(top, "tool", "^1.0.0")
	assert.Equal(t, "^1.0.0", text, "another range of it is not meant")
	_, below = apply(top, "rope", "*")
	text, _ = apply(below, "left", "^1")
	assert.Equal(t, "^2.0.0", text, "by reference")
}
