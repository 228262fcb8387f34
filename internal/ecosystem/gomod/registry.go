package gomod

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
)

// registry answers from the module proxies that GOPROXY names, or from the modules'
// repositories where it or GOPRIVATE says so, after the module cache on disk.
type registry struct {
	settings  *settings
	around    ecosystem.Surroundings
	disk      string // the go command's module cache
	goVersion string // of the go command at hand; empty if there is none
	mods      memo[version, *modInfo]
	indexes   memo[version, *index]
	histories memo[string, *history]
	places    memo[string, place]  // by module path
	origins   memo[place, *origin] // that modules are got from without a proxy

	checking sync.Mutex
	checked  map[version]string // hashes that the checksum database vouched for
}

// Connect reads the go command's settings.
func (Ecosystem) Connect(ctx context.Context, s ecosystem.Surroundings, _ string) (ecosystem.Registry, error) {
	g, err := readSettings(ctx, s)
	if err != nil {
		return nil, err
	}
	return s.Shared("", func() (ecosystem.Registry, error) { return connect(ctx, s, g), nil })
}

// connect opens the module proxies and the checksum database of some settings, which are
// the same for all modules of a call.
func connect(ctx context.Context, s ecosystem.Surroundings, g *settings) *registry {
	r := &registry{settings: g, around: s, disk: g.cacheDir(), checked: map[version]string{}}
	if text, err := s.Ask(ctx, "go", "env", "GOVERSION"); err == nil {
		r.goVersion, _, _ = strings.Cut(strings.TrimPrefix(text, "go"), " ")
	}
	return r
}

// Copies are the one version of a module that is selected, and who requires
// it.
func (r *registry) Copies(ctx context.Context, c *model.Component, name string) ([]model.LockedCopy, error) {
	p := c.Detail.(*project)
	if name == "go" {
		return []model.LockedCopy{{Version: p.goVersion(), Where: p.file, Askers: []string{p.path() + " states it"}}}, nil
	}
	g, err := newGraph(ctx, p.path(), p.roots(), prunes(p.goVersion()), r.summarizer(p))
	if err != nil {
		return nil, err
	}
	v := g.selected[name]
	if v == "" {
		return nil, nil
	}
	l := model.LockedCopy{Version: v, Where: "the build list"}
	if line := p.required(name); line != nil {
		l.Askers = append(l.Askers, p.place(line.Syntax)+" requires "+line.Mod.Version)
	}
	for _, m := range g.askers(name) {
		if g.selected[m.Path] != m.Version {
			continue
		}
		i := slices.IndexFunc(g.requires[m], func(q version) bool { return q.Path == name })
		l.Askers = append(l.Askers, m.Path+" "+m.Version+" requires "+g.requires[m][i].Version)
	}
	return []model.LockedCopy{l}, nil
}

// roots are what go.mod requires, Go among it.
func (p *project) roots() []version {
	roots := []version{{Path: "go", Version: p.goVersion()}}
	for _, r := range p.mod.Require {
		roots = append(roots, r.Mod)
	}
	return roots
}

// summarizer gives what a module requires as seen from this project: replaced
// modules are read from what replaces them, and excluded versions are not
// required.
func (r *registry) summarizer(p *project) summarizer {
	return func(ctx context.Context, m version) ([]version, bool, error) {
		i, err := r.infoOf(ctx, p, m)
		if err != nil {
			return nil, false, p.placed(m, err)
		}
		requires := i.requires
		if len(p.mod.Exclude) > 0 {
			requires = slices.DeleteFunc(slices.Clone(requires), func(q version) bool { return p.excluded(q) != nil })
		}
		if compareGo(i.goVersion, "1.21") >= 0 {
			requires = append(slices.Clone(requires), version{Path: "go", Version: i.goVersion})
		}
		return requires, prunes(i.goVersion), nil
	}
}

// placed gives an error the place where go.mod requires what it is about.
func (p *project) placed(m version, err error) error {
	var fault *model.Fault
	if line := p.required(m.Path); line != nil && line.Mod == m && !errors.As(err, &fault) {
		return fmt.Errorf("%s: %w", p.place(line.Syntax), err)
	}
	return err
}

// Families are requirements of which one requires the others at its own
// version: modules of one place that are released together. At least one of
// each is required directly.
func (r *registry) Families(ctx context.Context, c *model.Component) ([][]string, error) {
	together := map[string]string{} // a member's family, by its first member
	first := func(path string) string {
		for together[path] != "" && together[path] != path {
			path = together[path]
		}
		return path
	}
	required := map[string]string{}
	for _, q := range c.Requirements {
		if q.Subject.Kind == Name && q.Fixed == "" {
			required[q.Name] = q.Locked
		}
	}
	for _, q := range c.Requirements {
		if required[q.Name] == "" {
			continue
		}
		i, err := r.modInfo(ctx, version{Path: q.Name, Version: q.Locked})
		if err != nil {
			if isMissing(err) {
				continue
			}
			return nil, err
		}
		for _, m := range i.requires {
			if required[m.Path] != "" && m.Version == q.Locked && sameRepository(q.Name, m.Path) {
				if a, b := first(q.Name), first(m.Path); a != b {
					together[max(a, b)] = min(a, b)
				}
			}
		}
	}
	members, wanted := map[string][]string{}, map[string]bool{}
	for _, q := range c.Requirements {
		if required[q.Name] != "" {
			members[first(q.Name)] = append(members[first(q.Name)], q.Name)
			wanted[first(q.Name)] = wanted[first(q.Name)] || !q.Asked
		}
	}
	var families [][]string
	for of, list := range members {
		if len(list) > 1 && wanted[of] {
			slices.Sort(list)
			families = append(families, list)
		}
	}
	slices.SortFunc(families, slices.Compare)
	return families, nil
}

// sameRepository tells whether two modules look as if they came from one
// place: their paths share a repository, or a host of one project's own.
func sameRepository(a, b string) bool {
	x, y := strings.Split(a, "/"), strings.Split(b, "/")
	depth := hostDepth(a) + 1
	return len(x) >= depth && len(y) >= depth && slices.Equal(x[:depth], y[:depth])
}

// hostDepth is how many elements come before a repository's name at hosts of
// many repositories; elsewhere it is not known, and 0.
func hostDepth(path string) int {
	switch host, _, _ := strings.Cut(path, "/"); host {
	case "github.com", "gitlab.com", "bitbucket.org":
		return 2
	}
	return 0
}
