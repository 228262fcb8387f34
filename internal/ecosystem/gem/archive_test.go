package gem

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gem/project"
	"bellwether/internal/ecosystem/gem/registry"
	"bellwether/internal/host/fetch"
)

// TestArchive reads a file of a gem from the source that knows it, though it is not the first.
func TestArchive(t *testing.T) {
	first, second := server(t, "hawser 1.0.0"), server(t, "quayside 1.0.0\n| # 1.0.0\n| It floats.\n")
	files := fstest.MapFS{"Gemfile": {Data: []byte("source '" + first + "'\nsource '" + second + "'\ngem 'quayside'\n")}}
	r, err := Ecosystem{}.Connect(t.Context(), ecosystem.Surroundings{
		Files: files, Client: fetch.New(fetch.Config{}), Now: time.Now(),
		Ask: func(context.Context, ...string) (string, error) { return "", assert.AnError },
	}, ".")
	require.NoError(t, err)
	list, err := r.(ecosystem.Archived).Archive(t.Context(), model.Subject{Kind: project.Name, Name: "quayside"}, "1.0.0", ecosystem.Wanted{
		Form: "test", File: func(name string, _ int64) bool { return name == "CHANGELOG.md" },
	})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Contains(t, string(list[0].Data), "It floats.")
}

// TestArchiveBounds sees that an archive that grows without measure is left, and that a path out of
// it stays within.
func TestArchiveBounds(t *testing.T) {
	var packed bytes.Buffer
	zipped := gzip.NewWriter(&packed)
	inner := tar.NewWriter(zipped)
	large := make([]byte, registry.LargeFrom+1<<20)
	require.NoError(t, inner.WriteHeader(&tar.Header{Name: "../../out", Mode: 0o644, Size: 2}))
	_, _ = inner.Write([]byte("in"))
	require.NoError(t, inner.WriteHeader(&tar.Header{Name: "zeros", Mode: 0o644, Size: int64(len(large))}))
	_, _ = inner.Write(large)
	require.NoError(t, inner.Close())
	require.NoError(t, zipped.Close())
	var names []string
	wanted := ecosystem.Wanted{File: func(name string, _ int64) bool { names = append(names, name); return false }}
	_, err := registry.ReadData(bytes.NewReader(packed.Bytes()), int64(packed.Len()), wanted)
	assert.ErrorContains(t, err, "200 times larger")
	assert.Equal(t, []string{"out", "zeros"}, names)
}
