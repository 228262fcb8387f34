package packagejson

import (
	"fmt"
	"path"
	"strings"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/version"
)

// AtLeast is the version that a range begins with, which stands for what will be
// locked once the client has seen the range.
func AtLeast(rng version.Range) string {
	if bounds := version.Bounds(version.NPM{}, rng); len(bounds) > 0 {
		return bounds[0].String()
	}
	return ""
}

// ParseVersion reads a version as npm does.
func ParseVersion(text string) (version.Version, error) { return version.NPM{}.Parse(text) }

// Name is the ecosystem's name and Package URL type.
const Name = "npm"

// everything is the range of all releases.
var Everything, _ = version.NPM{}.ParseRange("*")

// Shown writes a range for people; npm allows the empty one, and very long ones.
func Shown(rng string) string {
	const most = 120
	switch {
	case rng == "":
		return `""`
	case len(rng) > most:
		return strings.ToValidUTF8(rng[:most], "") + "…"
	}
	return rng
}

// IsGit tells whether a lock's "resolved" leads to a repository.
func IsGit(resolved string) bool { return strings.HasPrefix(resolved, "git") }

// specKind tells what a dependency's value refers to, after npm's
// package-spec documentation.
type specKind int

const (
	SpecRange specKind = iota
	SpecTag
	SpecFile
	SpecGit
	SpecURL
	SpecWorkspace // "workspace:^", which other npm-protocol clients write
	SpecCatalog   // "catalog:", likewise
)

// FixedBecause says why a requirement of some kind cannot be moved by version.
var FixedBecause = map[specKind]string{
	SpecTag:       "follows a tag",
	SpecFile:      "local folder or archive",
	SpecGit:       "git source",
	SpecURL:       "archive at a URL",
	SpecWorkspace: "workspace member",
	SpecCatalog:   "version in a catalog",
}

// Spec is the value of a dependency, taken apart.
type Spec struct {
	Kind   specKind
	Name   string // the package's name in the registry; an alias's target
	Text   string // range, tag, or the value itself
	Prefix int    // length of what stands before text in the value ("npm:left@")
	Glue   string // what a range is to be put behind, where there is none yet ("npm:left")
	Range  version.Range
}

var (
	// GitPrefixes are what values begin with that ask for a repository.
	GitPrefixes = []string{"git+", "git:", "git@", "github:", "gitlab:", "bitbucket:", "gist:"}
	// ownerRepo is the short form of a GitHub repository: "owner/repo#ref".
	ownerRepo = lazyregexp.New(`^[\w.-]+/[\w.-]+(#.*)?$`)
)

// ReadSpec reads the value that a manifest gives for the dependency name.
func ReadSpec(name, value string) Spec {
	s := Spec{Name: name, Text: strings.TrimSpace(value)}
	if rest, ok := strings.CutPrefix(s.Text, "npm:"); ok {
		at := strings.LastIndex(rest, "@")
		if at <= 0 {
			at = len(rest)
		}
		s.Name = rest[:at]
		s.Text = strings.TrimPrefix(rest[at:], "@")
		s.Prefix = strings.Index(value, "npm:") + len("npm:") + at
		if at < len(rest) {
			s.Prefix++
		} else {
			s.Glue = "@"
		}
	}
	switch {
	case strings.HasPrefix(s.Text, "workspace:"):
		s.Kind = SpecWorkspace
	case strings.HasPrefix(s.Text, "catalog:"):
		s.Kind = SpecCatalog
	case isFileSpec(s.Text):
		s.Kind = SpecFile
	case HasAnyPrefix(s.Text, GitPrefixes) || strings.Contains(s.Text, "://") && strings.HasSuffix(strings.SplitN(s.Text, "#", 2)[0], ".git"):
		s.Kind = SpecGit
	case strings.HasPrefix(s.Text, "http://") || strings.HasPrefix(s.Text, "https://"):
		s.Kind = SpecURL
	default:
		rng, err := version.NPM{}.ParseRange(s.Text)
		switch {
		case err == nil:
			s.Range = rng
		case ownerRepo.MatchString(s.Text):
			s.Kind = SpecGit
		default:
			s.Kind = SpecTag
		}
	}
	return s
}

func isFileSpec(text string) bool {
	return HasAnyPrefix(text, []string{"file:", "link:", "./", "../", "/", "~/"}) || text == "." || text == ".."
}

// HasAnyPrefix tells whether a text begins with one of the prefixes.
func HasAnyPrefix(text string, prefixes []string) bool {
	for _, p := range prefixes {
		if strings.HasPrefix(text, p) {
			return true
		}
	}
	return false
}

// FileTarget is the folder or archive of a file spec, relative to the project,
// for a manifest in dir. It fails if the path leaves the project.
func (s Spec) FileTarget(dir string) (string, error) {
	p := strings.TrimPrefix(strings.TrimPrefix(s.Text, "file:"), "link:")
	if strings.HasPrefix(p, "/") || strings.HasPrefix(p, "~") {
		return "", fmt.Errorf("%q is an absolute path; Bellwether reads nothing outside the project", s.Text)
	}
	target := path.Join(dir, p)
	if target == ".." || strings.HasPrefix(target, "../") {
		return "", fmt.Errorf("%q leads outside the project", s.Text)
	}
	return target, nil
}

// namePattern is what npm's registry takes as a name, old names with capital
// letters included.
var namePattern = lazyregexp.New(`^(@[A-Za-z0-9~*-][A-Za-z0-9._~*-]*/)?[A-Za-z0-9~*-][A-Za-z0-9._~*!'()-]*$`)

// CheckName refuses names that no registry takes, and with them all that would
// be a path or an object's inner name instead of a package.
func CheckName(name string) error {
	switch {
	case len(name) > 214:
		return fmt.Errorf("the package name %.40q… is longer than 214 characters", name)
	case !namePattern.MatchString(name) || name == "node_modules" || name == "favicon.ico":
		return fmt.Errorf("%q is not a package name", name)
	}
	return nil
}
