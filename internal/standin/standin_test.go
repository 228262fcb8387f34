package standin_test

import (
	"archive/tar"
	"compress/gzip"
	"crypto/sha512"
	"encoding/base64"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/demo"
	"bellwether/internal/standin"
)

const twoReleases = `
name: "@harbour/signal"
tags: {next: 2.0.0-rc.1}
releases:
  - {version: 1.0.0, published: 2024-01-01T00:00:00Z, source: lamp, dependencies: {left: "^1"}, bin: {signal: cli.js}}
  - {version: 2.0.0-rc.1, published: 2025-01-01T00:00:00Z, dependencies: {}, deprecated: too bright}
`

func universe(t *testing.T) *standin.Universe {
	u, err := standin.Load(fstest.MapFS{
		"signal/releases.yaml": {Data: []byte(twoReleases)},
		"signal/lamp/index.js": {Data: []byte("module.exports = 1;\n")},
		"signal/lamp/cli.js":   {Data: []byte("#!/usr/bin/env node\n")},
	})
	require.NoError(t, err)
	return u
}

type document struct {
	Tags     map[string]string `json:"dist-tags"`
	Time     map[string]string `json:"time"`
	Versions map[string]struct {
		Dependencies map[string]string `json:"dependencies"`
		Bin          map[string]string `json:"bin"`
		Deprecated   string            `json:"deprecated"`
		Dist         struct{ Tarball, Integrity string }
	} `json:"versions"`
}

func get(t *testing.T, url string, header ...string) *http.Response {
	req, err := http.NewRequest(http.MethodGet, url, nil)
	require.NoError(t, err)
	for i := 0; i < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	t.Cleanup(func() { _ = resp.Body.Close() })
	return resp
}

func TestProtocol(t *testing.T) {
	server := httptest.NewServer(universe(t).NPM())
	defer server.Close()
	resp := get(t, server.URL+"/@harbour%2Fsignal")
	var d document
	require.NoError(t, json.NewDecoder(resp.Body).Decode(&d))
	assert.Equal(t, map[string]string{"latest": "2.0.0-rc.1", "next": "2.0.0-rc.1"}, d.Tags)
	assert.Equal(t, "2024-01-01T00:00:00Z", d.Time["1.0.0"])
	assert.Equal(t, map[string]string{"left": "^1"}, d.Versions["1.0.0"].Dependencies)
	assert.Empty(t, d.Versions["2.0.0-rc.1"].Dependencies, "stated as none")
	assert.Equal(t, map[string]string{"signal": "cli.js"}, d.Versions["2.0.0-rc.1"].Bin, "as before it")
	assert.Equal(t, "too bright", d.Versions["2.0.0-rc.1"].Deprecated)

	unchanged := get(t, server.URL+"/@harbour%2Fsignal", "If-None-Match", resp.Header.Get("ETag"))
	assert.Equal(t, http.StatusNotModified, unchanged.StatusCode)
	packed := get(t, server.URL+"/@harbour/signal", "Accept-Encoding", "gzip")
	assert.Equal(t, "gzip", packed.Header.Get("Content-Encoding"))
	assert.Equal(t, http.StatusNotFound, get(t, server.URL+"/left").StatusCode)

	archive, err := io.ReadAll(get(t, d.Versions["1.0.0"].Dist.Tarball).Body)
	require.NoError(t, err)
	sum := sha512.Sum512(archive)
	assert.Equal(t, "sha512-"+base64.StdEncoding.EncodeToString(sum[:]), d.Versions["1.0.0"].Dist.Integrity)
}

func TestArchive(t *testing.T) {
	server := httptest.NewServer(universe(t).NPM())
	defer server.Close()
	zip, err := gzip.NewReader(get(t, server.URL+"/@harbour/signal/-/signal-1.0.0.tgz").Body)
	require.NoError(t, err)
	modes := map[string]int64{}
	for archive := tar.NewReader(zip); ; {
		h, err := archive.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		modes[h.Name] = h.Mode
	}
	assert.Equal(t, map[string]int64{"package/cli.js": 0o755, "package/index.js": 0o644, "package/package.json": 0o644}, modes)
}

func TestUnknownKey(t *testing.T) {
	_, err := standin.Load(fstest.MapFS{"x/releases.yaml": {Data: []byte("name: x\nrelease: []\n")}})
	assert.ErrorContains(t, err, "x/releases.yaml")
}

// TestDemo sees that the demo's lock names what its registry really serves.
func TestDemo(t *testing.T) {
	u, err := standin.Load(demo.Packages())
	require.NoError(t, err)
	server := httptest.NewServer(u.NPM())
	defer server.Close()
	dir := t.TempDir()
	require.NoError(t, demo.LayOut(dir))
	file, err := os.Open(filepath.Join(dir, "board", "package-lock.json"))
	require.NoError(t, err)
	defer file.Close()
	var lock struct {
		Packages map[string]struct{ Version, Integrity string }
	}
	require.NoError(t, json.NewDecoder(file).Decode(&lock))
	require.Greater(t, len(lock.Packages), 12)
	name := regexp.MustCompile(`^node_modules/(.+)$`)
	for loc, entry := range lock.Packages {
		m := name.FindStringSubmatch(loc)
		if m == nil {
			continue
		}
		var d document
		require.NoError(t, json.NewDecoder(get(t, server.URL+"/"+m[1]).Body).Decode(&d))
		assert.Equal(t, d.Versions[entry.Version].Dist.Integrity, entry.Integrity, loc)
	}
}
