package fetch

import (
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEndless sees that a host which names ever more is given up, by all clients that share a count, and others are not.
func TestEndless(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("x")) }))
	defer server.Close()
	count := &Count{}
	ask := func() error {
		_, err := New(Config{Asked: count}).Document(t.Context(), Request{URL: server.URL + "/x", Distil: io.ReadAll})
		return err
	}
	require.NoError(t, ask())
	count.hosts[server.Listener.Addr().String()] = MaxAnswers
	var endless *Endless
	require.ErrorAs(t, ask(), &endless)
	assert.Equal(t, server.Listener.Addr().String(), endless.Host)
	require.NoError(t, count.one("other.example"))
	require.NoError(t, (*Count)(nil).one("any"))
}
