package gem

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/harmless"
	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/git"
)

// repository is where a gem line takes its gem from, if not from a gem server.
type repository struct {
	address string
	key     string // "branch", "tag" or "ref"; empty for the main branch
	at      string // which one
}

// sourceMark begins a range that asks for a repository.
const sourceMark = "git+"

// String is the repository as a range: "git+https://git.example/rope.git#main".
func (r repository) String() string {
	if r.at == "" {
		return sourceMark + r.address
	}
	return sourceMark + r.address + "#" + r.at
}

// readSource reads a range that asks for a repository. What looks like a commit is one, and what
// looks like a version is a tag.
func readSource(rng string) repository {
	address, at, _ := strings.Cut(strings.TrimPrefix(rng, sourceMark), "#")
	r := repository{address: address, at: at}
	switch {
	case at == "":
	case commitName.MatchString(at):
		r.key = "ref"
	case tagName.MatchString(at):
		r.key = "tag"
	default:
		r.key = "branch"
	}
	return r
}

var (
	commitName = lazyregexp.New(`^[0-9a-f]{7,40}$`)
	tagName    = lazyregexp.New(`^v?[0-9]+(\.[0-9A-Za-z]+)+$`)
)

// IsSource tells whether a range asks for a repository.
func (Ecosystem) IsSource(rng string) bool { return strings.HasPrefix(rng, sourceMark) }

// SourceRange is the range that asks for a ref of a repository.
func (Ecosystem) SourceRange(address, ref string) string {
	return repository{address: strings.TrimPrefix(address, sourceMark), at: ref}.String()
}

// forges are the short forms of addresses that Bundler knows.
var forges = map[string]string{"github": "https://github.com/%s.git", "gitlab": "https://gitlab.com/%s.git"}

// repository notes a repository that an option or a block names.
func (d *declared) repository(kind, value string, options map[string]string) {
	if form := forges[kind]; form != "" {
		if !strings.Contains(value, "/") {
			value += "/" + value
		}
		value = fmt.Sprintf(form, value)
	}
	d.git = repository{address: value}
	for _, key := range []string{"branch", "tag", "ref"} {
		if at := options[key]; at != "" {
			d.git.key, d.git.at = key, at
		}
	}
}

// origin notes where a gem comes from, if not from the global source.
func (d *declared) origin(a args) {
	for _, kind := range []string{"git", "github", "gitlab", "bitbucket", "gist"} {
		if v := a.options[kind]; v != "" {
			d.repository(kind, v, a.options)
		}
	}
	if v := a.options["path"]; v != "" {
		d.path = v
	}
	if v := a.options["source"]; v != "" {
		d.source = v
	}
	switch {
	case d.git.address != "":
		d.fixed = "git source"
	case d.path != "":
		d.fixed = "path source"
	}
}

// inEffectAt tells whether a section GIT is what the Gemfile asks for. Of a Gemfile that computes
// every one may be.
func (p *project) inEffectAt(s *section) bool {
	if p.gemfile.computes.File != "" {
		return true
	}
	return slices.ContainsFunc(p.gemfile.gems, func(d declared) bool { return d.git.address != "" && d.git.meets(s) })
}

// meets tells whether a section GIT is of a repository and of the branch, tag or ref that is asked for.
func (r repository) meets(s *section) bool {
	key, at := "", ""
	for _, line := range s.head {
		if k, v, ok := strings.Cut(line, ": "); ok && slices.Contains([]string{"branch", "tag", "ref"}, k) {
			key, at = k, v
		}
	}
	return slices.Contains(s.remotes(), r.address) && key == r.key && at == r.at
}

// sourcedAnew reads the repositories that the lock does not have as the Gemfile asks for them, and
// those that a change asks for. Each is a section with all gems that it holds.
func (r *registry) sourcedAnew(ctx context.Context, p *project, changes []contract.Change) (all []*section, err error) {
	for _, d := range p.gemfile.gems {
		if d.git.address == "" || d.fixed != "git source" {
			continue
		}
		has := func(s *section) bool { return s.kind == "GIT" && d.git.meets(s) }
		asked := slices.ContainsFunc(changes, func(c contract.Change) bool { return c.New == d.name })
		if slices.ContainsFunc(p.lock.sections, has) && !asked || slices.ContainsFunc(all, has) {
			continue
		}
		s, err := r.source(ctx, d)
		if err != nil {
			return nil, err
		}
		all = append(all, s)
	}
	return all, nil
}

// source reads the gems of a repository.
func (r *registry) source(ctx context.Context, d declared) (*section, error) {
	if r.around.Client.Offline() {
		return nil, fmt.Errorf("%s:%d: %s: %w", d.file, d.line, harmless.Address(d.git.address), fetch.ErrNotCached)
	}
	commit, files, err := git.SourceFiles(ctx, d.git.address, d.git.at, tellsVersion)
	if err != nil {
		return nil, fmt.Errorf("%s:%d: %w", d.file, d.line, err)
	}
	s := &section{kind: "GIT", head: []string{"remote: " + d.git.address, "revision: " + commit}}
	if d.git.key != "" {
		s.head = append(s.head, d.git.key+": "+d.git.at)
	}
	s.head = append(s.head, "specs:")
	fault := func(wrong string) error {
		return &model.Fault{
			Doing: "reading the source of " + d.name, File: d.file, Line: d.line, Wrong: wrong,
			Next: "choose another branch, tag or commit, or put it into the lock with bundle lock",
		}
	}
	for _, one := range readSpecFiles(files) {
		if placeable(one) {
			s.specs = append(s.specs, one)
		} else if one.name == d.name {
			return nil, fault(fmt.Sprintf("its gemspec at %.10s computes its version, which is not read here", commit))
		}
	}
	if !slices.ContainsFunc(s.specs, func(one *spec) bool { return one.name == d.name }) {
		return nil, fault(fmt.Sprintf("there is no %s.gemspec at %.10s", d.name, commit))
	}
	return s, nil
}

func newDep(name, rng string) dep { return dep{name, lockRange(rng)} }

// withSources puts new sections GIT among those of a lock: they come first, by their addresses.
func withSources(sections, fresh []*section) []*section {
	sections = slices.Clone(sections)
	for _, s := range fresh {
		at := slices.IndexFunc(sections, func(o *section) bool {
			return o.kind != "GIT" || strings.Compare(strings.Join(o.remotes(), " "), strings.Join(s.remotes(), " ")) > 0
		})
		sections = slices.Insert(sections, max(at, 0), s)
	}
	return sections
}

var _ ecosystem.Sourced = Ecosystem{}
