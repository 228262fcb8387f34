package standin

import (
	"crypto/md5"
	"encoding/hex"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
)

// Gems is all gems that a stand-in knows: of each the lines of its list, without the head.
type Gems map[string][]string

// Index serves the gems by the protocol of the compact index: names, versions, and a list a gem.
func (g Gems) Index() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text := ""
		switch name, isInfo := strings.CutPrefix(r.URL.Path, "/info/"); {
		case isInfo && g[name] != nil:
			text = g.info(name)
		case r.URL.Path == "/names":
			text = "---\n" + strings.Join(slices.Sorted(maps.Keys(g)), "\n") + "\n"
		case r.URL.Path == "/versions":
			text = g.versions()
		default:
			http.NotFound(w, r)
			return
		}
		sum := md5.Sum([]byte(text))
		tag := `"` + hex.EncodeToString(sum[:]) + `"`
		w.Header().Set("ETag", tag)
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		if r.Header.Get("If-None-Match") == tag {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		_, _ = w.Write([]byte(text))
	})
}

// info is the list of a gem.
func (g Gems) info(name string) string { return "---\n" + strings.Join(g[name], "\n") + "\n" }

// versions is the list of all gems, each with the digest of its own list.
func (g Gems) versions() string {
	var b strings.Builder
	b.WriteString("created_at: 2024-01-01T00:00:00Z\n---\n")
	for _, name := range slices.Sorted(maps.Keys(g)) {
		var all []string
		for _, line := range g[name] {
			version, _, _ := strings.Cut(line, " ")
			all = append(all, version)
		}
		sum := md5.Sum([]byte(g.info(name)))
		fmt.Fprintf(&b, "%s %s %s\n", name, strings.Join(all, ","), hex.EncodeToString(sum[:]))
	}
	return b.String()
}
