package mavenrepo

import (
	"context"
	"crypto/sha1"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
	"bellwether/internal/standin/hostile"
)

// TestHostileRepository asks for the versions, a description and the classes of a package of repositories that misbehave
// in every way: there is the right answer or an error that names the package, within bounds of time and memory.
func TestHostileRepository(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	const pom = "<project><groupId>org.quay</groupId><artifactId>left</artifactId><version>1.0</version></project>"
	good := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		file, digest := strings.CutSuffix(r.URL.Path, ".sha1")
		text := map[string]string{
			"/org/quay/left/maven-metadata.xml":    "<metadata><versioning><versions><version>1.0</version></versions></versioning></metadata>",
			"/org/quay/left/1.0/left-1.0.pom":      pom,
			"/org/quay/left/1.0/left-1.0.pom.sha1": fmt.Sprintf("%x", sha1.Sum([]byte(pom))),
		}[r.URL.Path]
		if text == "" || digest && file == "" {
			http.NotFound(w, r)
			return
		}
		_, _ = w.Write([]byte(text))
	})
	want := ""
	for _, kind := range []string{"/maven-metadata.xml", ".pom", ".pom.sha1"} {
		for _, b := range append([]hostile.Behaviour{{Name: "good"}}, hostile.All()...) {
			handler := http.Handler(good)
			if b.Serve != nil {
				handler = hostile.At(good, b, func(path string) bool { return strings.HasSuffix(path, kind) })
			}
			server := httptest.NewServer(handler)
			began := time.Now()
			var got string
			var err error
			memory := hostile.Memory(func() { got, err = askRepository(t, server.URL) })
			took := time.Since(began)
			server.CloseClientConnections()
			server.Close()
			name := fmt.Sprintf("%s at %s", b.Name, kind)
			assert.Less(t, took, hostile.MaxTime, name)
			assert.Less(t, memory, hostile.MaxMemory, name)
			switch {
			case b.Serve == nil:
				require.NoError(t, err)
				want = got
			case err != nil:
				assert.Contains(t, err.Error(), "left", name)
			case !b.Content && kind != "/maven-metadata.xml": // a list that is none of XML lists nothing
				assert.Equal(t, want, got, name)
			}
		}
	}
}

// askRepository tells what a repository says of a package, in short.
func askRepository(t *testing.T, address string) (string, error) {
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	around := ecosystem.Surroundings{
		Client: fetch.New(fetch.Config{Slow: 150 * time.Millisecond, Stall: 100 * time.Millisecond, Most: 24 << 20}), Say: func(string) {},
	}
	c := New(around, newSettings())
	from, left := []Repository{{ID: "x", URL: address}}, Coordinates{"org.quay", "left"}
	versions, err := c.Versions(ctx, from, left)
	if err != nil {
		return "", err
	}
	text, err := c.POM(ctx, from, left, "1.0")
	return fmt.Sprint(versions, string(text)), err
}
