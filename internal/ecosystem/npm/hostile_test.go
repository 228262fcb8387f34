package npm

import (
	"context"
	"fmt"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
	"bellwether/internal/standin/hostile"
	"bellwether/internal/standin/shorthand"
)

// TestHostileRegistry asks for a package, and for what an archive bundles, of registries
// that misbehave in every way: there is the right answer or an error that names the
// package, within bounds of time and memory.
func TestHostileRegistry(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	u, err := shorthand.Load("left 1.0.0\nleft 1.1.0\n")
	require.NoError(t, err)
	good := u.NPM()
	want := ""
	for _, kind := range []string{"/left", ".tgz"} {
		for _, b := range append([]hostile.Behaviour{{Name: "good"}}, hostile.All()...) {
			handler := good
			if b.Serve != nil {
				handler = hostile.At(good, b, func(path string) bool { return strings.HasSuffix(path, kind) })
			}
			server := httptest.NewServer(handler)
			began := time.Now()
			var got string
			var err error
			memory := hostile.Memory(func() { got, err = askNPM(t, server.URL, kind) })
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
			case !b.Content:
				assert.Equal(t, want, got, name)
			}
			if err == nil && kind == ".tgz" && b.Name != "good" && !b.Content {
				assert.Equal(t, want, got, "%s: an archive that is not the listed one is refused", name)
			}
		}
	}
}

// askNPM tells what a registry says, in short.
func askNPM(t *testing.T, address, kind string) (string, error) {
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	opened, err := Ecosystem{}.Connect(ctx, ecosystem.Surroundings{
		Files:   fstest.MapFS{},
		Environ: []string{"npm_config_registry=" + address, "npm_config_fetch_timeout=100", "npm_config_fetch_retries=0"},
		Client:  fetch.New(fetch.Config{Slow: 150 * time.Millisecond, Most: 24 << 20}), Now: time.Now(),
		Ask: func(context.Context, ...string) (string, error) { return "", fmt.Errorf("nothing is installed") },
	}, ".")
	if err != nil {
		return "", err
	}
	r := opened.(*registry)
	releases, err := r.Releases(ctx, model.Subject{Kind: Name, Name: "left"})
	if err != nil {
		return "", err
	}
	text := ""
	for _, rel := range releases {
		text += rel.Version + "\n"
	}
	if kind == ".tgz" {
		p, err := r.pkg(ctx, "left")
		if err != nil {
			return "", err
		}
		list, err := r.bundle(ctx, p.releases[0])
		return fmt.Sprint(text, list), err
	}
	return text, nil
}
