package hostile

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Trial is a good server that is to misbehave in every way, for one kind of request at a time.
type Trial struct {
	Good  http.Handler
	Kinds []string // the ends of the paths that are asked for
	// Ask tells what the server at an address says, in short.
	Ask func(address string) (string, error)
	// About is what an error has to name.
	About string
	// Loose tells of a kind of which a damaged answer may be read as another one; nil for none.
	Loose func(kind string) bool
}

// Run asks each misbehaving server once: there is the answer of the good one, or an error that says what it is about, within
// bounds of time and memory.
func (x Trial) Run(t *testing.T) {
	t.Helper()
	want := ""
	for _, kind := range x.Kinds {
		for _, b := range append([]Behaviour{{Name: "good"}}, All()...) {
			handler := x.Good
			if b.Serve != nil {
				handler = At(x.Good, b, func(path string) bool { return strings.HasSuffix(path, kind) })
			}
			server := httptest.NewServer(handler)
			began := time.Now()
			var got string
			var err error
			memory := Memory(func() { got, err = x.Ask(server.URL) })
			took := time.Since(began)
			server.CloseClientConnections()
			server.Close()
			name := fmt.Sprintf("%s at %s", b.Name, kind)
			assert.Less(t, took, MaxTime, name)
			assert.Less(t, memory, MaxMemory, name)
			switch {
			case b.Serve == nil:
				require.NoError(t, err)
				want = got
			case err != nil:
				assert.Contains(t, err.Error(), x.About, name)
			case !b.Content && (x.Loose == nil || !x.Loose(kind)):
				assert.Equal(t, want, got, name)
			}
		}
	}
}
