package fetch

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/standin/hostile"
)

// TestBounds asks servers whose answers have no end, or never come: each is given up
// with a message that names the host and the bound.
func TestBounds(t *testing.T) {
	endless := func(w io.Writer, r *http.Request, chunk []byte) {
		for r.Context().Err() == nil {
			if _, err := w.Write(chunk); err != nil {
				return
			}
		}
	}
	for name, c := range map[string]struct {
		answer http.HandlerFunc
		want   string
	}{
		"endless": {func(w http.ResponseWriter, r *http.Request) { endless(w, r, make([]byte, 1<<20)) }, "larger than 8 MB"},
		"bomb": {func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Encoding", "gzip")
			endless(flushed{gzip.NewWriter(w)}, r, make([]byte, 1<<16))
		}, "larger than 8 MB"},
		"drip": {func(w http.ResponseWriter, r *http.Request) {
			for r.Context().Err() == nil {
				_, _ = w.Write([]byte("x"))
				w.(http.Flusher).Flush()
				time.Sleep(20 * time.Millisecond)
			}
		}, "slower than 1024 bytes a second"},
		"silent": {func(w http.ResponseWriter, r *http.Request) {
			_, _ = w.Write([]byte("x"))
			w.(http.Flusher).Flush()
			<-r.Context().Done()
		}, "fell silent"},
		"no answer": {func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() }, "timeout"},
		"retry-after": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Retry-After", "31536000")
			w.WriteHeader(http.StatusServiceUnavailable)
		}, "status 503"},
		"redirects": {func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, r.URL.Path+"x", http.StatusFound) }, "redirects"},
		"headers": {func(w http.ResponseWriter, _ *http.Request) {
			for i := range 15000 {
				w.Header().Set(fmt.Sprintf("X-%d", i), strings.Repeat("x", 100))
			}
		}, "server response headers exceeded"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			server := httptest.NewServer(c.answer)
			defer server.Close()
			defer server.CloseClientConnections()
			began := time.Now()
			_, err := New(
				Config{Stall: 1500 * time.Millisecond, Slow: 2 * time.Second},
			).Document(
				t.Context(), Request{URL: server.URL + "/doc", Distil: whole, Limit: 8 << 20},
			)
			require.Error(t, err)
			assert.ErrorContains(t, err, c.want)
			if name != "retry-after" {
				assert.ErrorContains(t, err, strings.TrimPrefix(server.URL, "http://"))
			}
			assert.Less(t, time.Since(began), 15*time.Second)
		})
	}
}

// flushed compresses what is written at once.
type flushed struct{ *gzip.Writer }

func (f flushed) Write(p []byte) (int, error) {
	n, err := f.Writer.Write(p)
	return n, errors.Join(err, f.Flush())
}

// A server that takes the connection and says what is no HTTP, or nothing.
func TestNoHTTP(t *testing.T) {
	for _, says := range []string{"", "\x00\x01\x02", "HTTP/1.1 200 OK\r\nContent-Length: " +
		"-5\r\n\r\n", "HTTP/1.1 200 OK\r\n" + strings.Repeat("X: y\r\n", 300000), "HTTP/9.9 abc\r\n\r\n"} {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		go func() {
			for {
				conn, err := listener.Accept()
				if err != nil {
					return
				}
				_, _ = io.WriteString(conn, says)
				_ = conn.Close()
			}
		}()
		_, err = New(
			Config{Stall: 300 * time.Millisecond},
		).Document(
			t.Context(),
			Request{URL: "http://" + listener.Addr().String() + "/doc", Distil: whole},
		)
		assert.ErrorContains(t, err, "127.0.0.1")
		require.NoError(t, listener.Close())
	}
}

// An interrupt ends what is waited for, whatever the server does.
func TestInterruptedInTheMiddle(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		for r.Context().Err() == nil {
			_, _ = w.Write(make([]byte, 4096))
			w.(http.Flusher).Flush()
			time.Sleep(time.Millisecond)
		}
	}))
	defer server.Close()
	defer server.CloseClientConnections()
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	_, err := New(Config{}).Document(ctx, Request{URL: server.URL, Distil: whole})
	assert.ErrorIs(t, err, context.DeadlineExceeded)
}

// A login goes over TLS or stays on this machine, and follows no redirect elsewhere.
func TestLogins(t *testing.T) {
	_, err := New(Config{}).Document(t.Context(), Request{URL: "http://quay.example/left", Authorization: "Bearer s3cret", Distil: whole})
	assert.ErrorContains(t, err, "not sent to it over plain HTTP")
	var got string
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { got = r.Header.Get("Authorization") }))
	defer other.Close()
	secure := httptest.NewTLSServer(
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, other.URL, http.StatusFound) }),
	)
	defer secure.Close()
	c := New(Config{})
	c.Trust(func() ([]byte, error) { return nil, nil }, true)
	_, err = c.Document(t.Context(), Request{URL: secure.URL, Authorization: "Bearer s3cret", Distil: whole})
	assert.ErrorContains(t, err, "redirects from TLS")
	here := httptest.NewServer(
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, other.URL, http.StatusFound) }),
	)
	defer here.Close()
	_, err = New(Config{}).Document(t.Context(), Request{URL: here.URL, Authorization: "Bearer s3cret", Distil: whole})
	require.NoError(t, err)
	assert.Empty(t, got)
}

// What is kept from the future, since a clock was wrong, is asked for again.
func TestFromTheFuture(t *testing.T) {
	c := New(Config{MaxAge: time.Hour})
	assert.True(t, c.young(entry{Checked: time.Now().Add(-time.Minute)}))
	assert.False(t, c.young(entry{Checked: time.Now().Add(time.Hour)}))
	assert.False(t, c.young(entry{}))
}

// TestMisbehaviour asks for a book or a page of servers that misbehave in every way: what
// is read is bounded, and an error names the host.
func TestMisbehaviour(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	good := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "schema: bellwether/book/1\n") })
	const most = 16 << 20
	for _, b := range hostile.All() {
		server := httptest.NewServer(hostile.At(good, b, func(string) bool { return true }))
		began := time.Now()
		var text []byte
		var err error
		memory := hostile.Memory(func() {
			text, err = New(
				Config{Stall: 300 * time.Millisecond, Slow: 500 * time.Millisecond},
			).Document(
				t.Context(), Request{URL: server.URL + "/pier.yaml", Page: true, Limit: most, Distil: whole},
			)
		})
		server.CloseClientConnections()
		server.Close()
		assert.Less(t, time.Since(began), hostile.MaxTime, b.Name)
		assert.Less(t, memory, hostile.MaxMemory, b.Name)
		assert.LessOrEqual(t, len(text), most, b.Name)
		if err != nil {
			assert.ErrorContains(t, err, "127.0.0.1", b.Name)
		}
	}
}
