package npm

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSettings(t *testing.T) {
	root, home := t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(home, ".npmrc"), []byte(`
; the crew's own
registry=https://quay.test/npm
//quay.test/npm/:_authToken=${QUAY_TOKEN}
//other.test/:username=gull
//other.test/:_password=c2VhIHNhbHQ=
strict-ssl = "false"
fetch-timeout=1500
`), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(root, ".npmrc"), []byte("@harbour:registry=https://other.test/\nengine-strict\n"), 0o600))
	env := func(name string) string { return map[string]string{"QUAY_TOKEN": "deep"}[name] }
	s := readSettings(root, ".", home, env, []string{"npm_config_omit_lockfile_registry_resolved=true", "NPM_CONFIG_FETCH_RETRIES=5"})

	assert.Equal(t, "https://quay.test/npm/", s.registry("left"))
	assert.Equal(t, "https://other.test/", s.registry("@harbour/signal"))
	assert.Equal(t, "https://quay.test/npm/", s.registry("@crew/signal"))
	assert.Equal(t, "Bearer deep", s.authorization("https://quay.test/npm/left"))
	assert.Empty(t, s.authorization("https://quay.test/elsewhere/left"), "not under the path that it is for")
	assert.Empty(t, s.authorization("https://quay.test.evil.test/npm/left"))
	assert.Equal(t, "Basic Z3VsbDpzZWEgc2FsdA==", s.authorization("https://other.test/@harbour%2Fsignal"))
	assert.True(t, s.on("engine-strict"))
	assert.True(t, s.on("omit-lockfile-registry-resolved"))
	assert.Equal(t, "false", s["strict-ssl"])
	stall, retries := s.patience()
	assert.EqualValues(t, 1500, stall.Milliseconds())
	assert.Equal(t, 5, retries)

	s = readSettings(root, ".", home, env, []string{"npm_config_registry=https://third.test/"})
	assert.Equal(t, "https://third.test/", s.registry("left"), "the environment has the last word")
}

// oldPackage holds what the public registry's older documents hold.
const oldPackage = `{
  "_id": "left", "dist-tags": {"latest": "1.1.0", "odd": 5}, "readme": "long",
  "versions": {
    "1.0.0": {"name": "left", "version": "1.0.0", "dependencies": [], "engines": ["node >= 0.6"], "license": {"type": "BSD"},
      "bin": "./cli.js", "dist": {"shasum": "da39a3ee5e6b4b0d3255bfef95601890afd80709", "tarball": "https://quay.test/left/-/left-1.0.0.tgz"}},
    "1.1.0": {"name": "left", "version": "1.1.0", "dependencies": {"deep": "^1", "maybe": "1", "odd": 7}, "optionalDependencies": {"maybe": "1"},
      "peerDependencies": {"frame": "^2"}, "peerDependenciesMeta": {"frame": {"optional": true}}, "engines": {"node": ">=18"},
      "bundledDependencies": ["deep"], "funding": "https://quay.test/fund", "license": "MIT", "scripts": {"install": "make"},
      "deprecated": "use right", "dist": {"integrity": "sha512-x", "tarball": "https://elsewhere.test/left.tgz"}},
    "not-a-version": {"name": "left"},
    "1.2.0": "not an object"
  },
  "time": {"created": "x", "1.0.0": "2015-01-02T03:04:05.678Z", "1.1.0": "2026-07-30T16:14:51.287000+00:00"}
}`

func TestPackument(t *testing.T) {
	payload, err := distil("left", "https://quay.test/")(strings.NewReader(oldPackage))
	require.NoError(t, err)
	p, err := openPackage(payload)
	require.NoError(t, err)
	assert.Equal(t, []string{"1.0.0", "1.1.0"}, p.versions)
	assert.Equal(t, map[string]string{"latest": "1.1.0"}, p.tags)

	first, second := p.releases[0], p.releases[1]
	assert.Equal(t, "sha1-2jmj7l5rSw0yVb/vlWAYkK/YBwk=", first.Integrity)
	assert.Equal(t, "https://quay.test/left/-/left-1.0.0.tgz", first.tarball())
	assert.Equal(t, "https://elsewhere.test/left.tgz", second.tarball())
	assert.Equal(t, 2015, first.published.Year())
	assert.Equal(t, 2026, second.published.Year())
	assert.Equal(t, `["node >= 0.6"]`, first.body().Engines)
	assert.Equal(t, "BSD", first.body().License)
	assert.Equal(t, `{"left":"cli.js"}`, first.body().Bin)

	b := second.body()
	assert.Equal(t, map[string]string{"deep": "^1"}, b.Dependencies, "what is optional is not also required")
	assert.Equal(t, map[string]string{"maybe": "1"}, b.Optional)
	assert.Equal(t, []string{"frame"}, b.PeerOptional)
	assert.Equal(t, ">=18", b.Node)
	assert.Equal(t, []string{"deep"}, b.Bundled)
	assert.Equal(t, `{"url":"https://quay.test/fund"}`, b.Funding)
	assert.True(t, b.Script)
	assert.Equal(t, "use right", second.Deprecated)
}

func TestPackumentFaults(t *testing.T) {
	for text, want := range map[string]string{
		"":                            "cut short",
		`{"versions": {"1.0.0": {"na`: "cut short",
		`["left"]`:                    "no package document",
		"<html>":                      "not the JSON of a package",
	} {
		_, err := distil("left", "https://quay.test/")(strings.NewReader(text))
		assert.ErrorContains(t, err, want, "%q", text)
	}
}

func FuzzPackument(f *testing.F) {
	f.Add(oldPackage)
	f.Fuzz(func(t *testing.T, text string) {
		payload, err := distil("left", "https://quay.test/")(strings.NewReader(text))
		if err != nil {
			return
		}
		p, err := openPackage(payload)
		require.NoError(t, err)
		for _, r := range p.releases {
			bodyEdges(r.body(), nil)
			r.tarball()
		}
	})
}
