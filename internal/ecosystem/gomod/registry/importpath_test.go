package registry

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gomod/goenv"
	"bellwether/internal/ecosystem/gomod/origin"
	"bellwether/internal/ecosystem/gomod/protocol"
	"bellwether/internal/host/fetch"
)

// TestPlaces are pages as servers of repositories give them.
func TestPlaces(t *testing.T) {
	var host string
	pages := map[string]string{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Query().Get("go-get") != "1" || pages[r.URL.Path] == "" {
			http.NotFound(w, r)
			return
		}
		fmt.Fprint(w, strings.ReplaceAll(pages[r.URL.Path], "HOST", host))
	}))
	defer server.Close()
	host = strings.TrimPrefix(server.URL, "http://")
	meta := func(content string) string {
		return `<!doctype html><html><head><meta charset="utf-8"><link rel=x><META name="go-import" ` +
			`content="` + content + `"></head><body><p>not & XML</body>`
	}
	pages["/tide"] = meta("HOST/tide git https://HOST/code/tide")
	pages["/tide/gauge"] = pages["/tide"]
	pages["/other"] = `<meta name="go-import" content="HOST/else git https://x.example"><meta name="go-import" ` +
		`content="HOST/other mod https://HOST/proxy">`
	pages["/claims"] = meta("HOST/tide git https://evil.example/tide")
	pages["/claims/tide"] = meta("HOST/claims git https://evil.example/tide")
	pages["/plain"] = meta("HOST/plain git http://HOST/plain")
	pages["/run"] = meta("HOST/run git ext::sh")
	pages["/empty"] = "<html></html>"

	place := func(insecure, path string) (protocol.Place, error) {
		s := &goenv.Settings{Around: ecosystem.Surroundings{Environ: []string{"GOINSECURE=" + insecure}, Client: fetch.New(fetch.Config{})}}
		p, err := (&Registry{Settings: s, around: s.Around}).placeOf(t.Context(), host+path)
		p.Root, p.Address = strings.TrimPrefix(p.Root, host), strings.ReplaceAll(p.Address, host, "HOST")
		return p, err
	}
	for path, want := range map[string]struct {
		kind, root, address string
	}{
		"/tide":       {"git", "/tide", "https://HOST/code/tide"},
		"/tide/gauge": {"git", "/tide", "https://HOST/code/tide"},
		"/other":      {"mod", "/other", "https://HOST/proxy"},
		"/plain":      {"git", "/plain", "http://HOST/plain"},
	} {
		p, err := place(host, path)
		require.NoError(t, err, path)
		assert.Equal(t, want.root+" "+want.kind+" "+want.address, p.Root+" "+p.Kind+" "+p.Address)
	}
	for path, want := range map[string]string{
		"/claims":      "names no repository for it",
		"/claims/tide": "which the page of " + host + "/claims does not",
		"/run":         "which is no address",
		"/empty":       "names no repository for it",
		"/gone":        "404",
	} {
		_, err := place(host, path)
		assert.ErrorContains(t, err, want, path)
	}
	s := &goenv.Settings{Around: ecosystem.Surroundings{}}
	assert.ErrorContains(t, s.Reachable(testPlace("http://a.example/x")), "no safe way")
	assert.ErrorContains(t, s.Reachable(testPlace("file:///etc")), "no address")
	assert.NoError(t, s.Reachable(testPlace("ssh://git@a.example/x")))
}

func testPlace(address string) protocol.Place {
	return protocol.Place{Root: "a.example/x", Kind: "git", Address: address}
}

func TestGOVCS(t *testing.T) {
	for rules, want := range map[string]bool{
		"": true, "*:all": true, "*:off": false, "public:off": true, "private:hg": false, "a.example:hg|git,*:off": true, "b.example:off": true,
	} {
		s := &goenv.Settings{Around: ecosystem.Surroundings{Environ: []string{"GOVCS=" + rules, "GOPRIVATE=a.example"}}}
		assert.Equal(t, want, s.AllowsGit("a.example/x"), rules)
	}
}

// TestTags tells which tags are versions of which module.
func TestTags(t *testing.T) {
	o := &origin.Origin{Root: "a.example/tide"}
	for module, want := range map[string]string{
		"a.example/tide":          "v1.2.3, v2.0.0+incompatible",
		"a.example/tide/v2":       "v2.0.0",
		"a.example/tide/gauge":    "v0.1.0, v3.0.0-rc.1+incompatible",
		"a.example/tide/gauge/v3": "v3.0.0-rc.1",
	} {
		var got []string
		for _, tag := range []string{
			"v1", "v1.2", "v1.2.3", "1.2.3", "v1.2.3+x", "v2.0.0", "gauge/v0.1.0", "gauge/v3.0.0-rc.1", "gauges/v1.0.0",
			"v0.0.0-20260101000000-0123456789ab",
		} {
			if v := o.Module(module).Version(tag); v != "" {
				got = append(got, v)
			}
		}
		assert.Equal(t, want, strings.Join(got, ", "), module)
	}
}

func FuzzPlaces(f *testing.F) {
	f.Add(`<meta name="go-import" content="a.example/x git https://a.example/x"><body>`)
	f.Add("<meta name=go-import content='a b c'>")
	f.Fuzz(func(t *testing.T, page string) {
		for _, p := range readPlaces(strings.NewReader(page)) {
			require.NotEmpty(t, p.Root)
			require.NotContains(t, p.Address, " ")
		}
	})
}
