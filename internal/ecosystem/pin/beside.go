package pin

import (
	"fmt"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
)

// speaking are the files in which people and build scripts speak of runtimes: documents, scripts, settings of compilers and bundlers.
var speaking = []string{
	"*.{md,markdown,rst,adoc,txt}", "*.{sh,bash,ps1,mk}", "{M,m}akefile", "Justfile", "Vagrantfile", "package.json",
	"{ts,js}config*.json", ".swcrc", ".browserslistrc", ".babelrc*",
	"{babel,esbuild,jest,rollup,tsup,vite,vitest,webpack}.config.*",
}

// telling are documents about the past, in which old versions have their place.
var telling = lazyregexp.New(`(?i)^(change|history|news|release|upgrad|migrat)`)

// switching are what switches between installed versions of a runtime, and what else it is called in prose.
var switching = map[string]string{
	"node": `nvm install|nvm use|nvm alias default|fnm use|volta pin node@|node\.js`, "python": "pyenv install|pyenv local",
	"ruby": "rbenv install|rbenv local|rvm use|rvm install", "java": "java se",
}

// mentions is the form in which a text speaks of a version of a runtime: "node18", "Node.js 18", "nvm use 18".
func mentions(subject model.Subject) (*regexp.Regexp, error) {
	words := []string{}
	for _, word := range slices.Sorted(maps.Keys(runtimes)) {
		if runtimes[word] == subject.Name {
			words = append(words, regexp.QuoteMeta(word))
		}
	}
	if more := switching[subject.Name]; more != "" {
		words = append(words, more)
	}
	return regexp.Compile(
		`(?i)(?:^|[^0-9a-z_.])(?P<said>(?:` + strings.Join(words, "|") + `)[-\s/@:=]{0,3}v?(?P<version>[0-9]+(?:\.[0-9]+){0,2}))\b`,
	)
}

// maxSaid bounds the places that one note lists.
const maxSaid = 8

// Beside is a note on the files of a project that speak of a version of a runtime that its places leave, in a way that only a
// person can judge: scripts, base configurations, documents. It is empty where there are none. Lines that state a version for the
// table are not listed; old are the places before they were raised.
func Beside(files *ecosystem.Index, old []model.Pin, aim Aim) string {
	left := leaving(old, aim)
	if len(left) == 0 || old[0].Subject.Kind != "runtime" {
		return ""
	}
	form, err := mentions(old[0].Subject)
	if err != nil {
		return ""
	}
	stated := map[string]bool{}
	for _, p := range old {
		stated[p.Site.String()] = true
	}
	said, more := []string{}, 0
	for _, name := range files.Files() {
		if !speaks(name) || files.IsLink(name) {
			continue
		}
		if info, err := fs.Stat(files.FS, name); err != nil || info.Size() > maxFile {
			continue
		}
		src, err := fs.ReadFile(files.FS, name)
		if err != nil {
			continue
		}
		told := map[int]bool{}
		for _, m := range form.FindAllSubmatchIndex(src, -1) {
			group := func(name string) (start, end int) {
				at := 2 * form.SubexpIndex(name)
				return m[at], m[at+1]
			}
			start, end := group("said")
			from, to := group("version")
			site := model.Site{File: name, Line: model.LineOf(src, start)}
			if told[site.Line] || stated[site.String()] || !older(string(src[from:to]), left, aim.To) {
				continue
			}
			told[site.Line] = true
			if len(said) == maxSaid {
				more++
				continue
			}
			said = append(said, fmt.Sprintf("%s (%s)", site, strings.Join(strings.Fields(string(src[start:end])), " ")))
		}
	}
	switch {
	case len(said) == 0:
		return ""
	case more > 0:
		said = append(said, fmt.Sprintf("and %d more", more))
	}
	return fmt.Sprintf("these still speak of an older %s, and are left to you: %s", old[0].Subject, strings.Join(said, ", "))
}

// older tells whether a version that a text names is of a line that is left, and older than where it goes.
func older(text string, left []version.Version, to version.Version) bool {
	v, err := version.Plain{}.Newest(text)
	return err == nil && v.Compare(to) < 0 &&
		slices.ContainsFunc(left, func(l version.Version) bool { return l.Line() == v.Line() })
}

// speaks tells whether a file is one in which runtimes are spoken of.
func speaks(name string) bool {
	base := path.Base(name)
	return !telling.MatchString(base) && !inVendor(name) && slices.ContainsFunc(speaking, func(p string) bool {
		return doublestar.MatchUnvalidated(p, base)
	})
}

// leaving are the versions that places state and that are below an aim.
func leaving(old []model.Pin, aim Aim) (left []version.Version) {
	r := raiser{aim: aim}
	for _, p := range old {
		if low := Low(p); low != nil && low.Compare(r.target(p)) < 0 {
			left = append(left, low)
		}
	}
	return left
}
