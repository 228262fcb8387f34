package archive

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

// TestHostileArchives sees that names and links lead nowhere, and that an archive that becomes
// too large is given up.
func TestHostileArchives(t *testing.T) {
	var names []string
	list := func(name string, _ int64, read func() ([]byte, error)) error {
		names = append(names, name)
		_, err := read()
		return err
	}
	put := func(w *tar.Writer, name string, kind byte, data string) {
		require.NoError(
			t,
			w.WriteHeader(&tar.Header{Name: name, Typeflag: kind, Linkname: "/etc/passwd", Size: int64(len(data)), Mode: 0o644}),
		)
		_, err := w.Write([]byte(data))
		require.NoError(t, err)
	}
	require.NoError(t, TarGz(packed(t, func(w *tar.Writer) {
		put(w, "package/CHANGELOG.md", tar.TypeReg, "a")
		put(w, "/etc/CHANGELOG.md", tar.TypeReg, "b")
		put(w, "package/../../../CHANGELOG.md", tar.TypeReg, "c")
		put(w, "package/link.md", tar.TypeSymlink, "")
		put(w, "package/hard.md", tar.TypeLink, "")
	}), list))
	assert.Equal(t, []string{"package/CHANGELOG.md", "etc/CHANGELOG.md", "CHANGELOG.md"}, names)

	zeros := string(make([]byte, 1<<20))
	bomb := packed(t, func(w *tar.Writer) {
		for range 100 {
			put(w, "package/zeros", tar.TypeReg, zeros)
		}
	})
	none := func(string, int64, func() ([]byte, error)) error { return nil }
	assert.ErrorContains(t, TarGz(bomb, none), "times larger when it is unpacked")

	many := packed(t, func(w *tar.Writer) {
		for range maxFiles + 2 {
			require.NoError(t, w.WriteHeader(&tar.Header{Name: "p/x", Typeflag: tar.TypeReg, Mode: 0o644}))
		}
	})
	assert.ErrorContains(t, TarGz(many, none), "more than 200000 files")
	assert.ErrorContains(t, TarGz(bytes.NewBufferString("no archive"), none), "gzip")
	cut := packed(t, func(w *tar.Writer) { put(w, "a", tar.TypeReg, zeros) }).Bytes()[:60]
	assert.ErrorContains(t, TarGz(bytes.NewReader(cut), none), "EOF")
}
