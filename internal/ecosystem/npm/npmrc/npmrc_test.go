package npmrc

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

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
	s := Read(
		os.DirFS(root), ".", home, env, []string{"npm_config_omit_lockfile_registry_resolved=true", "NPM_CONFIG_FETCH_RETRIES=5"},
	)

	header := func(address string) string {
		header, _ := s.Authorization(address)
		return header
	}
	assert.Equal(t, "https://quay.test/npm/", s.Registry("left"))
	assert.Equal(t, "https://other.test/", s.Registry("@harbour/signal"))
	assert.Equal(t, "https://quay.test/npm/", s.Registry("@crew/signal"))
	assert.Equal(t, "Bearer deep", header("https://quay.test/npm/left"))
	assert.Empty(t, header("https://quay.test/elsewhere/left"), "not under the path that it is for")
	assert.Empty(t, header("https://quay.test.evil.test/npm/left"))
	assert.Equal(t, "Basic Z3VsbDpzZWEgc2FsdA==", header("https://other.test/@harbour%2Fsignal"))
	assert.True(t, s.On("engine-strict"))
	assert.True(t, s.On("omit-lockfile-registry-resolved"))
	assert.Equal(t, "false", s.Get("strict-ssl"))
	assert.Empty(t, s.Said())
	stall, retries := s.Patience()
	assert.EqualValues(t, 1500, stall.Milliseconds())
	assert.Equal(t, 5, retries)

	s = Read(os.DirFS(root), ".", home, env, []string{"npm_config_registry=https://third.test/"})
	assert.Equal(t, "https://third.test/", s.Registry("left"), "the environment has the last word")
}

// A project's own file gets nothing of the person's, and sends nothing of theirs
// elsewhere.
func TestHostileSettings(t *testing.T) {
	home := t.TempDir()
	require.NoError(
		t,
		os.WriteFile(filepath.Join(home, ".npmrc"), []byte("//quay.test/:_authToken=deep-secret\nregistry=https://quay.test/\n"), 0o600),
	)
	env := func(name string) string { return map[string]string{"SECRET": "deep-secret"}[name] }
	for _, c := range []struct {
		npmrc   string
		address string // that is asked
		header  string // that goes there
		said    string
	}{
		{"", "https://quay.test/left", "Bearer deep-secret", ""},
		{"registry=http://quay.test/", "http://quay.test/left", "", "not sent: it would go over plain HTTP"},
		{"strict-ssl=false", "https://quay.test/left", "", "which certificates count"},
		{"ca=x", "https://quay.test/left", "", "which certificates count"},
		{"cafile=own.pem", "https://quay.test/left", "", "which certificates count"},
		{"cafile=/etc/ssl/own.pem", "https://quay.test/left", "Bearer deep-secret", "leads out of the project"},
		{"cafile=../own.pem", "https://quay.test/left", "Bearer deep-secret", "leads out of the project"},
		{"https-proxy=http://evil.test/", "https://quay.test/left", "Bearer deep-secret", ":1: https-proxy is not taken"},
		{"\nproxy=http://evil.test/", "https://quay.test/left", "Bearer deep-secret", ":2: proxy is not taken"},
		{"registry=https://evil.test/${SECRET}/", "https://evil.test/", "", "registry is not taken"},
		{"@a:registry=https://evil.test/${SECRET}/", "https://evil.test/", "", "@a:registry is not taken"},
		{"//evil.test/:_authToken=${SECRET}", "https://evil.test/left", "", "${SECRET} is not filled in"},
		{"//evil.test/:_password=${SECRET}\n//evil.test/:username=x", "https://evil.test/left", "", "names the host evil.test"},
		{"//quay.test/:_authToken=${SECRET}x", "https://quay.test/left", "Bearer deep-secret", ""}, // the person's counts
		{"//quay.test/npm/:_authToken=${SECRET}x", "https://quay.test/npm/left", "Bearer deep-secretx", ""},
		{"//quay.test/npm/:_authToken=${SECRET}x\nca=x", "https://quay.test/npm/left", "", "which certificates count"},
		{"//evil.test/:_authToken=theirs", "https://evil.test/left", "Bearer theirs", ""},
	} {
		s := Read(fstest.MapFS{"board/.npmrc": {Data: []byte(c.npmrc)}}, "board", home, env, nil)
		header, refused := s.Authorization(c.address)
		assert.Equal(t, c.header, header, c.npmrc)
		said := strings.Join(append(s.Said(), refused), "\n")
		if c.said == "" {
			assert.Empty(t, said, c.npmrc)
		} else {
			assert.Contains(t, said, c.said, c.npmrc)
		}
		assert.NotContains(t, said, "deep-secret", c.npmrc)
		for _, value := range s.Values {
			assert.False(t, strings.Contains(value, "evil.test") && strings.Contains(value, "deep"), "%s: %s", c.npmrc, value)
		}
	}
}
