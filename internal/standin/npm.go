package standin

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"path"
	"strings"
	"time"
)

// NPM serves the universe by the npm registry's protocol: package documents
// with conditional requests and gzip, and archives.
func (u *Universe) NPM() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			http.Error(w, `{"error":"this stand-in only reads"}`, http.StatusMethodNotAllowed)
			return
		}
		name, file, isArchive := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/-/")
		if name == "-/ping" || name == "" {
			writeJSON(w, r, map[string]any{})
			return
		}
		h := u.packages[name]
		if h == nil {
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(http.StatusNotFound)
			_, _ = w.Write([]byte(`{"error":"not found"}`))
			return
		}
		if !isArchive {
			writeJSON(w, r, h.document("http://"+r.Host+"/"))
			return
		}
		for _, release := range h.Releases {
			if file == h.archiveName(release) {
				w.Header().Set("Content-Type", "application/octet-stream")
				_, _ = w.Write(release.archive)
				return
			}
		}
		http.NotFound(w, r)
	})
}

func (h *history) archiveName(r *Release) string {
	return path.Base(h.Name) + "-" + r.Version + ".tgz"
}

// document is the package's document, with archives at the address base.
func (h *history) document(base string) map[string]any {
	versions, times := map[string]any{}, map[string]string{}
	for _, r := range h.Releases {
		m := h.manifest(r)
		if r.Deprecated != "" {
			m["deprecated"] = r.Deprecated
		}
		dist := map[string]any{"tarball": base + h.Name + "/-/" + h.archiveName(r), "integrity": r.integrity}
		if r.Attested {
			dist["attestations"] = map[string]any{"provenance": map[string]string{"predicateType": "https://slsa.dev/provenance/v1"}}
		}
		m["dist"] = dist
		versions[r.Version] = m
		if !r.Published.IsZero() {
			times[r.Version] = r.Published.UTC().Format(time.RFC3339)
		}
	}
	return map[string]any{"_id": h.Name, "name": h.Name, "dist-tags": h.Tags, "versions": versions, "time": times}
}

func writeJSON(w http.ResponseWriter, r *http.Request, v any) {
	data, err := json.Marshal(v)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	sum := sha256.Sum256(data)
	tag := `"` + hex.EncodeToString(sum[:12]) + `"`
	w.Header().Set("ETag", tag)
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Vary", "Accept-Encoding")
	if r.Header.Get("If-None-Match") == tag {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	if strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
		w.Header().Set("Content-Encoding", "gzip")
		var buf bytes.Buffer
		zip := gzip.NewWriter(&buf)
		_, _ = zip.Write(data)
		_ = zip.Close()
		data = buf.Bytes()
	}
	_, _ = w.Write(data)
}
