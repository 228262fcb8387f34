// Package registry asks module proxies, repositories of modules and the checksum database, after the module cache on disk.
package registry

import (
	"context"
	"slices"
	"strings"
	"sync"

	"golang.org/x/mod/module"

	"bellwether/internal/core/memo"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gomod/goenv"
	"bellwether/internal/ecosystem/gomod/imports"
	"bellwether/internal/ecosystem/gomod/origin"
	"bellwether/internal/ecosystem/gomod/project"
	"bellwether/internal/ecosystem/gomod/protocol"
	"bellwether/internal/ecosystem/gomod/selection"
)

// Registry answers from the module proxies that GOPROXY names, or from the modules'
// repositories where it or GOPRIVATE says so, after the module cache on disk.
type Registry struct {
	Settings  *goenv.Settings
	around    ecosystem.Surroundings
	disk      string // the go command's module cache
	GoVersion string // of the go command at hand; empty if there is none
	mods      memo.Table[module.Version, *project.ModInfo]
	indexes   memo.Table[module.Version, *imports.Index]
	histories memo.Table[string, *history]
	places    memo.Table[string, protocol.Place]         // by module path
	origins   memo.Table[protocol.Place, *origin.Origin] // that modules are got from without a proxy

	checking sync.Mutex
	checked  map[module.Version]string // hashes that the checksum database vouched for
}

// Connect opens the module proxies and the checksum database of some settings, which are
// the same for all modules of a call.
func Connect(ctx context.Context, s ecosystem.Surroundings, g *goenv.Settings) *Registry {
	r := &Registry{Settings: g, around: s, disk: g.CacheDir(), checked: map[module.Version]string{}}
	if text, err := s.Ask(ctx, "go", "env", "GOVERSION"); err == nil {
		r.GoVersion, _, _ = strings.Cut(strings.TrimPrefix(text, "go"), " ")
	}
	return r
}

// Copies are the one version of a module that is selected, and who requires
// it.
func (r *Registry) Copies(ctx context.Context, c *model.Component, name string) ([]model.LockedCopy, error) {
	p := c.Detail.(*project.Project)
	if name == "go" {
		return []model.LockedCopy{{Version: p.GoVersion(), Where: p.File, Askers: []string{p.Path() + " states it"}}}, nil
	}
	g, err := selection.Load(ctx, p.Path(), p.Roots(), selection.Prunes(p.GoVersion()), r.Summarizer(p))
	if err != nil {
		return nil, err
	}
	v := g.Selected[name]
	if v == "" {
		return nil, nil
	}
	l := model.LockedCopy{Version: v, Where: "the build list"}
	if line := p.Required(name); line != nil {
		l.Askers = append(l.Askers, p.Place(line.Syntax)+" requires "+line.Mod.Version)
	}
	for _, m := range g.Askers(name) {
		if g.Selected[m.Path] != m.Version {
			continue
		}
		i := slices.IndexFunc(g.Requires[m], func(q module.Version) bool { return q.Path == name })
		l.Askers = append(l.Askers, m.Path+" "+m.Version+" requires "+g.Requires[m][i].Version)
	}
	return []model.LockedCopy{l}, nil
}

// Summarizer gives what a module requires as seen from this project: replaced
// modules are read from what replaces them, and excluded versions are not
// required.
func (r *Registry) Summarizer(p *project.Project) selection.Summarizer {
	return func(ctx context.Context, m module.Version) ([]module.Version, bool, error) {
		i, err := r.infoOf(ctx, p, m)
		if err != nil {
			return nil, false, p.Placed(m, err)
		}
		requires := i.Requires
		if len(p.Mod.Exclude) > 0 {
			requires = slices.DeleteFunc(slices.Clone(requires), func(q module.Version) bool { return p.Excluded(q) != nil })
		}
		if selection.CompareGo(i.GoVersion, "1.21") >= 0 {
			requires = append(slices.Clone(requires), module.Version{Path: "go", Version: i.GoVersion})
		}
		return requires, selection.Prunes(i.GoVersion), nil
	}
}

// Families are requirements of which one requires the others at its own
// version: modules of one place that are released together. At least one of
// each is required directly.
func (r *Registry) Families(ctx context.Context, c *model.Component) ([][]string, error) {
	together := map[string]string{} // a member's family, by its first member
	first := func(path string) string {
		for together[path] != "" && together[path] != path {
			path = together[path]
		}
		return path
	}
	required := map[string]string{}
	for _, q := range c.Requirements {
		if q.Subject.Kind == project.Name && q.Fixed == "" {
			required[q.Name] = q.Locked
		}
	}
	for _, q := range c.Requirements {
		if required[q.Name] == "" {
			continue
		}
		i, err := r.ModInfo(ctx, module.Version{Path: q.Name, Version: q.Locked})
		if err != nil {
			if protocol.IsMissing(err) {
				continue
			}
			return nil, err
		}
		for _, m := range i.Requires {
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
	depth := HostDepth(a) + 1
	return len(x) >= depth && len(y) >= depth && slices.Equal(x[:depth], y[:depth])
}

// HostDepth is how many elements come before a repository's name at hosts of
// many repositories; elsewhere it is not known, and 0.
func HostDepth(path string) int {
	switch host, _, _ := strings.Cut(path, "/"); host {
	case "github.com", "gitlab.com", "bitbucket.org":
		return 2
	}
	return 0
}
