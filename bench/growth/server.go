package main

import (
	"crypto/sha1"
	"fmt"
	"net/http"
	"path"
	"regexp"
	"strings"
)

// registries answers for the registries of all ecosystems: every package has the releases 1.0.0 and 1.1.0, which need
// nothing.
func registries(w http.ResponseWriter, r *http.Request) {
	kind, rest, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	text := ""
	switch kind {
	case "npm":
		text = fmt.Sprintf(`{"name": %q, "dist-tags": {"latest": "1.1.0"}, "versions": {"1.0.0": {"version": "1.0.0", "dist": {}}, `+
			`"1.1.0": {"version": "1.1.0", "dist": {}}}}`, rest)
	case "go":
		module, file, _ := strings.Cut(rest, "/@")
		if major.MatchString(module) {
			break
		}
		switch path.Ext(file) {
		case "":
			if file == "v/list" {
				text = "v1.0.0\nv1.1.0\n"
			}
		case ".mod":
			text = "module " + module + "\n"
		case ".info":
			text = fmt.Sprintf(`{"Version": %q, "Time": "2024-01-01T00:00:00Z"}`, strings.TrimSuffix(path.Base(file), ".info"))
		}
	case "gems":
		if strings.HasPrefix(rest, "info/") {
			text = "---\n1.0.0 |\n1.1.0 |\n"
		}
	case "maven":
		text = maven(strings.TrimSuffix(rest, ".sha1"))
		if strings.HasSuffix(rest, ".sha1") && text != "" {
			text = fmt.Sprintf("%x", sha1.Sum([]byte(text)))
		}
	}
	if text == "" {
		http.NotFound(w, r)
		return
	}
	_, _ = w.Write([]byte(text))
}

// major matches the path of a later major, which no module has.
var major = regexp.MustCompile(`/v[0-9]+$`)

func maven(file string) string {
	if strings.HasSuffix(file, "/maven-metadata.xml") {
		return "<metadata><versioning><versions><version>1.0</version><version>1.1</version></versions></versioning></metadata>"
	}
	if !strings.HasSuffix(file, ".pom") {
		return ""
	}
	version := path.Base(path.Dir(file))
	artifact := path.Base(path.Dir(path.Dir(file)))
	group := strings.ReplaceAll(path.Dir(path.Dir(path.Dir(file))), "/", ".")
	return "<project><modelVersion>4.0.0</modelVersion><groupId>" + group + "</groupId><artifactId>" + artifact + "</artifactId><version>" +
		version + "</version></project>"
}
