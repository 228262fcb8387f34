package gemfile

import (
	"fmt"
	"strings"

	"bellwether/internal/core/lazyregexp"
)

// Repository is where a gem line takes its gem from, if not from a gem server.
type Repository struct {
	Address string
	Key     string // "branch", "tag" or "ref"; empty for the main branch
	At      string // which one
}

// SourceMark begins a range that asks for a repository.
const SourceMark = "git+"

// String is the repository as a range: "git+https://git.example/rope.git#main".
func (r Repository) String() string {
	if r.At == "" {
		return SourceMark + r.Address
	}
	return SourceMark + r.Address + "#" + r.At
}

// readSource reads a range that asks for a repository. What looks like a commit is one, and what
// looks like a version is a tag.
func readSource(rng string) Repository {
	address, at, _ := strings.Cut(strings.TrimPrefix(rng, SourceMark), "#")
	r := Repository{Address: address, At: at}
	switch {
	case at == "":
	case commitName.MatchString(at):
		r.Key = "ref"
	case tagName.MatchString(at):
		r.Key = "tag"
	default:
		r.Key = "branch"
	}
	return r
}

var (
	commitName = lazyregexp.New(`^[0-9a-f]{7,40}$`)
	tagName    = lazyregexp.New(`^v?[0-9]+(\.[0-9A-Za-z]+)+$`)
)

// forges are the short forms of addresses that Bundler knows.
var forges = map[string]string{"github": "https://github.com/%s.git", "gitlab": "https://gitlab.com/%s.git"}

// repository notes a repository that an option or a block names.
func (d *Declared) repository(kind, value string, options map[string]string) {
	if form := forges[kind]; form != "" {
		if !strings.Contains(value, "/") {
			value += "/" + value
		}
		value = fmt.Sprintf(form, value)
	}
	d.Git = Repository{Address: value}
	for _, key := range []string{"branch", "tag", "ref"} {
		if at := options[key]; at != "" {
			d.Git.Key, d.Git.At = key, at
		}
	}
}

// origin notes where a gem comes from, if not from the global source.
func (d *Declared) origin(a args) {
	for _, kind := range []string{"git", "github", "gitlab", "bitbucket", "gist"} {
		if v := a.options[kind]; v != "" {
			d.repository(kind, v, a.options)
		}
	}
	if v := a.options["path"]; v != "" {
		d.Path = v
	}
	if v := a.options["source"]; v != "" {
		d.Source = v
	}
	switch {
	case d.Git.Address != "":
		d.Fixed = "git source"
	case d.Path != "":
		d.Fixed = "path source"
	}
}
