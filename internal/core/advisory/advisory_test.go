package advisory

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
)

const record = `{
  "schema_version": "1.6.0", "id": "PIER-2026-1", "aliases": ["X-1"], "summary": "knots come loose",
  "database_specific": {"severity": "HIGH"},
  "affected": [
    {"package": {"ecosystem": "npm", "name": "hawser"}, "versions": ["0.9.0-odd"], "ranges": [
      {"type": "SEMVER", "events": [{"introduced": "0"}, {"fixed": "1.2.5"}, {"introduced": "2.0.0"}, {"last_affected": "2.1.0"}]},
      {"type": "GIT", "events": [{"introduced": "abc"}]}]},
    {"package": {"ecosystem": "Go", "name": "pier.example/crane"}, "ranges": [
      {"type": "SEMVER", "events": [{"introduced": "1.1.0"}, {"fixed": "1.4.0"}]}]},
    {"package": {"ecosystem": "Elsewhere", "name": "x"}}
  ]
}`

// known are two of the schema's ecosystems.
var known = map[string]Ecosystem{
	"npm": {Kind: "npm", Name: as, Version: as},
	"Go": {Kind: "golang", Name: as, Version: func(text string) string {
		if text == "" || text == "0" {
			return text
		}
		return "v" + text
	}},
}

func as(text string) string { return text }

func TestAffects(t *testing.T) {
	r, err := Read("a.json", []byte(record), known)
	require.NoError(t, err)
	npm, mod := model.Subject{Kind: "npm", Name: "hawser"}, model.Subject{Kind: "golang", Name: "pier.example/crane"}
	for text, want := range map[string]bool{
		"0.1.0": true, "0.9.0-odd": true, "1.2.4": true, "1.2.5-rc.1": true, "1.2.5": false, "1.9.0": false, "2.0.0": true,
		"2.1.0": true, "2.1.1": false, "3.0.0": false,
	} {
		got, err := r.Affects(npm, text, version.NPM{})
		require.NoError(t, err)
		assert.Equal(t, want, got, text)
	}
	for text, want := range map[string]bool{"v1.0.0": false, "v1.1.0": true, "v1.3.9": true, "v1.4.0": false} {
		got, err := r.Affects(mod, text, version.GoMod{})
		require.NoError(t, err)
		assert.Equal(t, want, got, text)
	}
	got, err := r.Affects(model.Subject{Kind: "npm", Name: "other"}, "1.0.0", version.NPM{})
	require.NoError(t, err)
	assert.False(t, got)
	assert.Equal(t, []string{"1.2.5"}, r.Fixed(npm))
	assert.Equal(t, []model.Subject{npm, mod}, r.Subjects())
	assert.Equal(t, "HIGH", r.Severity)
}

func TestRead(t *testing.T) {
	for text, want := range map[string]string{
		"{": "a.json: unexpected end of JSON input", `{"id": 3}`: "cannot unmarshal number", `{}`: "it has no id",
	} {
		_, err := Read("a.json", []byte(text), known)
		assert.ErrorContains(t, err, want, text)
	}
	r, err := Read("a.json", []byte(`{"id": "x", "withdrawn": "2026-01-01T00:00:00Z"}`), known)
	require.NoError(t, err)
	assert.Nil(t, r, "a withdrawn record counts no longer")
	r, err = Read("a.json", []byte(strings.Replace(record, `"fixed": "1.2.5"`, `"fixed": "soon"`, 1)), known)
	require.NoError(t, err)
	_, err = r.Affects(model.Subject{Kind: "npm", Name: "hawser"}, "1.0.0", version.NPM{})
	assert.ErrorContains(t, err, "a.json: ")
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(record))
	f.Fuzz(func(t *testing.T, src []byte) {
		r, err := Read("a.json", src, known)
		if err != nil || r == nil {
			return
		}
		for _, s := range r.Subjects() {
			_, _ = r.Affects(s, "1.0.0", version.NPM{})
		}
	})
}
