package npm

import (
	"fmt"
	"path"
	"strings"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/version"
)

// specKind tells what a dependency's value refers to, after npm's
// package-spec documentation.
type specKind int

const (
	specRange specKind = iota
	specTag
	specFile
	specGit
	specURL
	specWorkspace // "workspace:^", which other npm-protocol clients write
	specCatalog   // "catalog:", likewise
)

// fixedBecause says why a requirement of some kind cannot be moved by version.
var fixedBecause = map[specKind]string{
	specTag:       "follows a tag",
	specFile:      "local folder or archive",
	specGit:       "git source",
	specURL:       "archive at a URL",
	specWorkspace: "workspace member",
	specCatalog:   "version in a catalog",
}

// spec is the value of a dependency, taken apart.
type spec struct {
	kind   specKind
	name   string // the package's name in the registry; an alias's target
	text   string // range, tag, or the value itself
	prefix int    // length of what stands before text in the value ("npm:left@")
	glue   string // what a range is to be put behind, where there is none yet ("npm:left")
	rng    version.Range
}

var (
	gitPrefixes = []string{"git+", "git:", "git@", "github:", "gitlab:", "bitbucket:", "gist:"}
	// ownerRepo is the short form of a GitHub repository: "owner/repo#ref".
	ownerRepo = lazyregexp.New(`^[\w.-]+/[\w.-]+(#.*)?$`)
)

// readSpec reads the value that a manifest gives for the dependency name.
func readSpec(name, value string) spec {
	s := spec{name: name, text: strings.TrimSpace(value)}
	if rest, ok := strings.CutPrefix(s.text, "npm:"); ok {
		at := strings.LastIndex(rest, "@")
		if at <= 0 {
			at = len(rest)
		}
		s.name = rest[:at]
		s.text = strings.TrimPrefix(rest[at:], "@")
		s.prefix = strings.Index(value, "npm:") + len("npm:") + at
		if at < len(rest) {
			s.prefix++
		} else {
			s.glue = "@"
		}
	}
	switch {
	case strings.HasPrefix(s.text, "workspace:"):
		s.kind = specWorkspace
	case strings.HasPrefix(s.text, "catalog:"):
		s.kind = specCatalog
	case isFileSpec(s.text):
		s.kind = specFile
	case hasAnyPrefix(s.text, gitPrefixes) || strings.Contains(s.text, "://") && strings.HasSuffix(strings.SplitN(s.text, "#", 2)[0], ".git"):
		s.kind = specGit
	case strings.HasPrefix(s.text, "http://") || strings.HasPrefix(s.text, "https://"):
		s.kind = specURL
	default:
		rng, err := version.NPM{}.ParseRange(s.text)
		switch {
		case err == nil:
			s.rng = rng
		case ownerRepo.MatchString(s.text):
			s.kind = specGit
		default:
			s.kind = specTag
		}
	}
	return s
}

func isFileSpec(text string) bool {
	return hasAnyPrefix(text, []string{"file:", "link:", "./", "../", "/", "~/"}) || text == "." || text == ".."
}

func hasAnyPrefix(text string, prefixes []string) bool {
	for _, p := range prefixes {
		if strings.HasPrefix(text, p) {
			return true
		}
	}
	return false
}

// fileTarget is the folder or archive of a file spec, relative to the project,
// for a manifest in dir. It fails if the path leaves the project.
func (s spec) fileTarget(dir string) (string, error) {
	p := strings.TrimPrefix(strings.TrimPrefix(s.text, "file:"), "link:")
	if strings.HasPrefix(p, "/") || strings.HasPrefix(p, "~") {
		return "", fmt.Errorf("%q is an absolute path; Bellwether reads nothing outside the project", s.text)
	}
	target := path.Join(dir, p)
	if target == ".." || strings.HasPrefix(target, "../") {
		return "", fmt.Errorf("%q leads outside the project", s.text)
	}
	return target, nil
}

// namePattern is what npm's registry takes as a name, old names with capital
// letters included.
var namePattern = lazyregexp.New(`^(@[A-Za-z0-9~*-][A-Za-z0-9._~*-]*/)?[A-Za-z0-9~*-][A-Za-z0-9._~*!'()-]*$`)

// checkName refuses names that no registry takes, and with them all that would
// be a path or an object's inner name instead of a package.
func checkName(name string) error {
	switch {
	case len(name) > 214:
		return fmt.Errorf("the package name %.40q… is longer than 214 characters", name)
	case !namePattern.MatchString(name) || name == "node_modules" || name == "favicon.ico":
		return fmt.Errorf("%q is not a package name", name)
	}
	return nil
}
