package gomod

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/module"
	"golang.org/x/mod/sumdb/note"

	"bellwether/internal/core/contract"
	versions "bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gomod/registry"
	"bellwether/internal/host/fetch"
	"bellwether/internal/standin/hostile"
	"bellwether/internal/standin/shorthand"
)

// TestHostileProxy moves a module by way of proxies and checksum databases that misbehave
// in every way, at every kind of request: the state is the right one or there is an error
// that names the module, within bounds of time and memory. A database that is not heard
// never vouches for anything.
func TestHostileProxy(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	u, err := shorthand.Modules("left.example/l v1.0.0\nleft.example/l v1.1.0\n")
	require.NoError(t, err)
	private, public, err := note.GenerateKey(rand.Reader, "sums.example")
	require.NoError(t, err)
	sums, err := u.Sums(private)
	require.NoError(t, err)
	good := http.NewServeMux()
	good.Handle("/sumdb/", sums)
	good.Handle("/", u.Proxy())
	want, stays := "", "" // where it moves, and where the newer version is as if it were not there
	for _, kind := range []string{`/l/@v/list$`, `v1\.1\.0\.mod$`, `v1\.1\.0\.zip$`, `/supported$`, `/lookup/left.*v1\.1\.0$`, `/tile/`} {
		match := regexp.MustCompile(kind).MatchString
		for _, b := range append([]hostile.Behaviour{{Name: "good", Content: true}}, hostile.All()...) {
			var handler http.Handler = good
			if b.Serve != nil {
				handler = hostile.At(good, b, match)
			}
			server := httptest.NewUnstartedServer(handler)
			server.Config.ErrorLog = log.New(io.Discard, "", 0)
			server.Start()
			began := time.Now()
			var got string
			var err error
			memory := hostile.Memory(func() { got, err = moveLeft(t, server.URL, public) })
			took := time.Since(began)
			server.CloseClientConnections()
			server.Close()
			name := fmt.Sprintf("%s at %s", b.Name, kind)
			assert.Less(t, took, hostile.MaxTime, name)
			assert.Less(t, memory, hostile.MaxMemory, name)
			switch {
			case b.Serve == nil:
				require.NoError(t, err)
				require.Contains(t, got, "left.example/l v1.1.0 h1:")
				want = got
				gone := httptest.NewServer(hostile.At(good, hostile.All()[4], regexp.MustCompile(`v1\.1\.0\.mod$`).MatchString))
				stays, err = moveLeft(t, gone.URL, public)
				gone.Close()
				require.NoError(t, err)
				require.Contains(t, stays, "left.example/l v1.0.0 h1:")
			case err != nil:
				assert.Contains(t, err.Error(), "left.example/l", name)
			case kind == `/l/@v/list$` && b.Content:
				// Another list is another world.
			case strings.Contains(kind, "/list"), strings.Contains(kind, ".mod"), refused(b.Name) && !strings.Contains(kind, "/supported"):
				assert.Contains(t, []string{want, stays}, got, name)
			default:
				assert.Equal(t, want, got, name)
			}
		}
	}
}

// refused tells of an answer that means that there is no such version.
func refused(name string) bool {
	return slices.Contains([]string{"status 400", "status 401", "status 403", "status 404", "status 410"}, name)
}

// moveLeft moves the module to its newest version, and gives the files that change.
func moveLeft(t *testing.T, address, database string) (string, error) {
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	files := fstest.MapFS{
		"go.mod":   {Data: []byte("module own.example/ferry\n\ngo 1.21\n\nrequire left.example/l v1.0.0\n")},
		"ferry.go": {Data: []byte("package ferry\n\nimport _ \"left.example/l\"\n")},
	}
	c, err := Ecosystem{}.Read(indexed(files), ".")
	if err != nil {
		return "", err
	}
	r, err := Ecosystem{}.Connect(ctx, ecosystem.Surroundings{
		Files: files, Environ: []string{
			"GOPROXY=" + address, "GOSUMDB=" + database + " " + address + "/sumdb/sums.example", "GOMODCACHE=" + t.TempDir(),
			"GOENV=off",
		},
		Client: fetch.New(fetch.Config{Stall: 100 * time.Millisecond, Slow: 150 * time.Millisecond, Most: 8 << 20}), Now: time.Now(),
		Ask: func(context.Context, ...string) (string, error) { return "go1.26.0", nil },
	}, ".")
	if err != nil {
		return "", err
	}
	newest := contract.Bound{Newest: true, Allow: func(v versions.Version) bool { return !v.Preview() }}
	o, err := r.Resolve(ctx, ecosystem.Ask{Component: c, Goal: contract.Goal{Bounds: map[string]contract.Bound{"left.example/l": newest}}})
	if err != nil {
		return "", err
	}
	text := strings.Join(o.Notable, "\n")
	for _, e := range o.Edits {
		text += e.File + "\n" + string(e.New)
	}
	return text, nil
}

// TestHostileTimes asks for the newest version, and when a version came out.
func TestHostileTimes(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	u, err := shorthand.Modules("left.example/l v1.0.0\nleft.example/l v1.1.0\n")
	require.NoError(t, err)
	for kind, ask := range map[string]func(ctx context.Context, r *registry.Registry) (string, error){
		"@latest": func(ctx context.Context, r *registry.Registry) (string, error) {
			i, err := r.Latest(ctx, "left.example/l")
			return i.Version, err
		},
		"v1.1.0.info": func(ctx context.Context, r *registry.Registry) (string, error) {
			at, err := r.Published(ctx, module.Version{Path: "left.example/l", Version: "v1.1.0"})
			return at.String(), err
		},
	} {
		want := ""
		for _, b := range append([]hostile.Behaviour{{Name: "good", Content: true}}, hostile.All()...) {
			handler := u.Proxy()
			if b.Serve != nil {
				handler = hostile.At(handler, b, func(path string) bool { return strings.HasSuffix(path, kind) })
			}
			server := httptest.NewServer(handler)
			r, err := Ecosystem{}.Connect(t.Context(), ecosystem.Surroundings{
				Environ: []string{"GOPROXY=" + server.URL, "GOSUMDB=off", "GOMODCACHE=" + t.TempDir(), "GOENV=off"},
				Client:  fetch.New(fetch.Config{Stall: 100 * time.Millisecond, Slow: 150 * time.Millisecond, Most: 8 << 20}),
				Now:     time.Now(),
				Ask:     func(context.Context, ...string) (string, error) { return "go1.26.0", nil },
			}, ".")
			require.NoError(t, err)
			var got string
			began := time.Now()
			memory := hostile.Memory(func() { got, err = ask(t.Context(), r.(*registries).Registry) })
			name := fmt.Sprintf("%s at %s", b.Name, kind)
			assert.Less(t, time.Since(began), hostile.MaxTime, name)
			assert.Less(t, memory, hostile.MaxMemory, name)
			server.CloseClientConnections()
			server.Close()
			switch {
			case b.Serve == nil:
				require.NoError(t, err)
				want = got
			case err != nil:
				assert.Contains(t, err.Error(), "left.example/l", name)
			case !b.Content:
				assert.Equal(t, want, got, name)
			}
		}
	}
}
