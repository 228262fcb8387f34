package standin

import (
	"archive/zip"
	"bytes"
	"crypto/sha1"
	"encoding/hex"
	"fmt"
	"net/http"
	"path"
	"slices"
	"strings"
)

// Artifacts are the descriptions of versions in a repository of the Maven layout, by their paths:
// "org/quay/quay/1.0/quay-1.0.pom". Each has an archive, which is empty.
type Artifacts map[string]string

// Repository serves them, with lists of versions and digests.
func (a Artifacts) Repository() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		plain, digest := strings.CutSuffix(name, ".sha1")
		text, there := a.file(plain)
		switch {
		case !there:
			http.NotFound(w, r)
		case digest:
			sum := sha1.Sum(text)
			_, _ = w.Write([]byte(hex.EncodeToString(sum[:])))
		default:
			_, _ = w.Write(text)
		}
	})
}

func (a Artifacts) file(name string) ([]byte, bool) {
	if text, there := a[name]; there {
		return []byte(text), true
	}
	if jar, is := strings.CutSuffix(name, ".jar"); is && a[jar+".pom"] != "" {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		_, _ = z.Create("META-INF/")
		_ = z.Close()
		return b.Bytes(), true
	}
	if path.Base(name) == "maven-metadata.xml" {
		return a.metadata(path.Dir(name))
	}
	return nil, false
}

// Packages is how many packages there are.
func (a Artifacts) Packages() int {
	folders := map[string]bool{}
	for file := range a {
		folders[path.Dir(path.Dir(file))] = true
	}
	return len(folders)
}

// metadata is the list of versions of the package in a folder.
func (a Artifacts) metadata(folder string) ([]byte, bool) {
	var all []string
	for file := range a {
		if path.Dir(path.Dir(file)) == folder {
			all = append(all, path.Base(path.Dir(file)))
		}
	}
	if all == nil {
		return nil, false
	}
	slices.Sort(all)
	var b strings.Builder
	fmt.Fprintf(&b, "<metadata><groupId>%s</groupId><artifactId>%s</artifactId><versioning><versions>\n",
		strings.ReplaceAll(path.Dir(folder), "/", "."), path.Base(folder))
	for _, v := range all {
		fmt.Fprintf(&b, "<version>%s</version>\n", v)
	}
	b.WriteString("</versions></versioning></metadata>\n")
	return []byte(b.String()), true
}
