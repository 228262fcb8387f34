package imports

import (
	"archive/zip"
	"bytes"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/module"

	"bellwether/internal/ecosystem/gomod/protocol"
)

// TestArchivesThatBreakTheRules sees that no such archive is read.
func TestArchivesThatBreakTheRules(t *testing.T) {
	m := module.Version{Path: "a.example/one", Version: "v1.0.0"}
	for want, names := range map[string][]string{
		"invalid path element":                 {"a.example/one@v1.0.0/../out.go"},
		"case-insensitive file name collision": {"a.example/one@v1.0.0/tide.go", "a.example/one@v1.0.0/Tide.go"},
		"path does not have prefix":            {"b.example/two@v1.0.0/tide.go"},
		"zip: not a valid zip file":            nil,
	} {
		file := filepath.Join(t.TempDir(), "m.zip")
		var buf bytes.Buffer
		z := zip.NewWriter(&buf)
		for _, name := range names {
			w, err := z.Create(name)
			require.NoError(t, err)
			_, err = w.Write([]byte("package one\n"))
			require.NoError(t, err)
		}
		if names != nil {
			require.NoError(t, z.Close())
		}
		require.NoError(t, os.WriteFile(file, buf.Bytes(), 0o644))
		_, err := IndexZip(m, file)
		assert.ErrorContains(t, err, want)
		assert.ErrorContains(t, err, "the archive of a.example/one v1.0.0 breaks the rules for module archives")
	}
	// One that claims to be larger than a module may be is given up on the way.
	_, err := io.ReadAll(&protocol.Bounded{R: strings.NewReader(strings.Repeat("x", 100)), Left: 99})
	assert.ErrorContains(t, err, "too large")
}
