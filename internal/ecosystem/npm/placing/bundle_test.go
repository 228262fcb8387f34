package placing

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha512"
	"encoding/base64"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// archiveOf packs files, given as names and contents in turn.
func archiveOf(t *testing.T, files ...string) (archive []byte, integrity string) {
	t.Helper()
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	w := tar.NewWriter(z)
	for i := 0; i < len(files); i += 2 {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: files[i], Mode: 0o644, Size: int64(len(files[i+1]))}))
		_, err := w.Write([]byte(files[i+1]))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	sum := sha512.Sum512(packed.Bytes())
	return packed.Bytes(), "sha512-" + base64.StdEncoding.EncodeToString(sum[:])
}

func TestReadBundle(t *testing.T) {
	archive, integrity := archiveOf(
		t, "package/package.json", `{"name": "crane", "version": "1.0.0"}`,
		"package/node_modules/hook/node_modules/@saltmarsh/pin/package.json", `{"name": "@saltmarsh/pin", "version": "2.0.0"}`,
		"package/node_modules/hook/package.json",
		`{"name": "hook", "version": "1.2.0", "dependencies": {"@saltmarsh/pin": "^2.0.0"}, "scripts": {"install": "x"}}`,
		"package/node_modules/hook/lib/package.json", `{"type": "module"}`, "package/lib/node_modules/stray/package.json",
		`{"name": "stray", "version": "1.0.0"}`, "package/node_modules/../../../outside/package.json",
		`{"name": "outside", "version": "1.0.0"}`, "package/node_modules/torn/package.json", `{"name": `,
		"package/node_modules/sly/package.json", `{"name": "../../elsewhere", "version": "1.0.0"}`,
	)
	list, err := readBundle(bytes.NewReader(archive), integrity+" sha1-AAAA")
	require.NoError(t, err)
	require.Len(t, list, 2, "what lies elsewhere or cannot be read is no bundled package")
	assert.Equal(t, []string{"node_modules/hook", "node_modules/hook/node_modules/@saltmarsh/pin"}, []string{list[0].Loc, list[1].Loc})
	assert.Equal(t, "^2.0.0", list[0].Body.Dependencies["@saltmarsh/pin"])
	assert.True(t, list[0].Body.Script)

	_, err = readBundle(bytes.NewReader(archive), "sha512-AAAA")
	assert.ErrorContains(t, err, "integrity differs")
	_, err = readBundle(bytes.NewReader(archive[:len(archive)/2]), integrity)
	assert.ErrorContains(t, err, "the archive")
	_, err = readBundle(bytes.NewReader([]byte("<html>")), integrity)
	assert.ErrorContains(t, err, "the archive")
}
