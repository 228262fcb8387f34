package gemfile

import (
	"fmt"
	"slices"
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
var forges = map[string]string{
	"github": "https://github.com/%s.git", "gitlab": "https://gitlab.com/%s.git", "gist": "https://gist.github.com/%s.git",
}

// options are the options of a gem line that are known: they say nothing about the gem's source, or they say it in a way that is read.
var options = []string{
	"group", "groups", "platform", "platforms", "require", "autorequire", "branch", "tag", "ref", "submodules", "glob", "name", "env",
	"install_if", "force_ruby_platform", "type", "git", "github", "gitlab", "bitbucket", "gist", "path", "source",
}

// knowsSource tells whether all options of a line are known. An unknown one may be a short form of an address, which a file defines
// that is not read.
func (r *reader) knowsSource(a args) bool {
	for name := range a.options {
		if !slices.Contains(options, name) {
			return false
		}
	}
	return true
}

// ownForge tells whether a repository is named in a short form to which the Gemfile gives a meaning of its own.
func (r *reader) ownForge(a args, blocks []block) bool {
	for name := range r.forges {
		if a.options[name] != "" || slices.ContainsFunc(blocks, func(b block) bool { return b.kind == name }) {
			return true
		}
	}
	return false
}

// repository notes a repository that an option or a block names.
func (d *Declared) repository(kind, value string, options map[string]string) {
	if form := forges[kind]; form != "" {
		if !strings.Contains(value, "/") && kind != "gist" {
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
