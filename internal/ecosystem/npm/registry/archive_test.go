package registry

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// packed is an archive of what fill writes.
func packed(t *testing.T, fill func(w *tar.Writer)) *bytes.Buffer {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	fill(w)
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	return &b
}

// TestEachFile sees that names are those below the archive's own folder, and that what the registry lists is what came.
func TestEachFile(t *testing.T) {
	archive := packed(t, func(w *tar.Writer) {
		for _, name := range []string{"package/CHANGELOG.md", "other/sub/a.md", "package/../../../out.md"} {
			require.NoError(t, w.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o644}))
		}
	}).Bytes()
	var names []string
	list := func(name string, _ int64, _ func() ([]byte, error)) error {
		names = append(names, name)
		return nil
	}
	require.NoError(t, EachFile(bytes.NewReader(archive), "", list))
	assert.Equal(t, []string{"CHANGELOG.md", "sub/a.md", ""}, names)
	assert.ErrorContains(t, EachFile(bytes.NewReader(archive), "sha512-AAAA", list), "its integrity differs")
	assert.ErrorContains(t, EachFile(bytes.NewBufferString("no archive"), "", list), "the archive")
}
