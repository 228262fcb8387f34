package git

import (
	"net"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRemote(t *testing.T) {
	from, write := repo(t)
	write("a file", "two")
	second, err := from.Commit(t.Context(), []string{"a file"}, "second", nil)
	require.NoError(t, err)
	r, err := OpenRemote(t.Context(), filepath.Join(t.TempDir(), "kept"), "file://"+from.Top)
	require.NoError(t, err)
	refs, err := r.Refs(t.Context())
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"HEAD": second, "refs/heads/main": second}, refs)
	assert.Empty(t, r.Commit(t.Context(), second), "nothing is fetched yet")
	commit, err := r.Fetch(t.Context(), "main")
	require.NoError(t, err)
	assert.Equal(t, second, commit)
	text, err := r.File(t.Context(), commit, "a file")
	require.NoError(t, err)
	assert.Equal(t, "two", string(text))
	require.NoError(t, r.FetchAll(t.Context()))
	assert.NotEmpty(t, r.Commit(t.Context(), second+"~1"), "what is before it is here now")
}

// A server that never answers is given up, and no login is shown.
func TestSilentRemote(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	t.Setenv("GIT_HTTP_LOW_SPEED_LIMIT", "1")
	t.Setenv("GIT_HTTP_LOW_SPEED_TIME", "1")
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer silent.Close()
	r, err := OpenRemote(t.Context(), t.TempDir(), "http://crew:secret@"+silent.Addr().String()+"/tide")
	require.NoError(t, err)
	_, err = r.Refs(t.Context())
	require.ErrorIs(t, err, ErrSource)
	assert.ErrorContains(t, err, "http://"+silent.Addr().String()+"/tide: ")
	assert.NotContains(t, err.Error(), "secret")
}
