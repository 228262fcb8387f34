package maven

import (
	"context"
	"fmt"
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/mediate"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/maven/graph"
	"bellwether/internal/ecosystem/maven/project"
	"bellwether/internal/ecosystem/maven/registry"
	"bellwether/internal/ecosystem/maven/resolving"
	"bellwether/internal/ecosystem/mavenrepo"
)

// registries answers from the repositories of a project, and resolves with what they say.
type registries struct{ *registry.Registry }

// Resolve finds versions for the whole component within the bounds of ask.
func (r *registries) Resolve(ctx context.Context, ask ecosystem.Ask) (*contract.State, error) {
	return resolving.Resolve(ctx, r.Registry, ask)
}

// Copies are the versions of a package in the modules' trees, with who asks for them.
func (r *registries) Copies(ctx context.Context, c *model.Component, name string) (all []model.LockedCopy, err error) {
	trees, err := graph.Trees(ctx, r.Registry, c.Detail.(*project.Project))
	if err != nil {
		return nil, err
	}
	for _, t := range trees {
		for _, w := range t.Won {
			if w.Coords.String() != name {
				continue
			}
			copied := model.LockedCopy{
				Version: w.Version,
				Where:   t.Of.File,
				Scope:   w.Scope,
				Askers:  []string{w.Statement.By() + " asks for " + w.Statement.Version},
			}
			for _, also := range w.Also {
				by := mediate.Statement{Way: also.Way}.By()
				copied.Askers = append(copied.Askers, by+" asks for "+w.Version+", too")
			}
			for _, l := range w.Lost {
				copied.Askers = append(copied.Askers, fmt.Sprintf("%s asks for %s, in vain: %s", l.By(), l.Version, l.Because))
			}
			if !slices.ContainsFunc(all, func(o model.LockedCopy) bool {
				return o.Version == copied.Version && slices.Equal(o.Askers, copied.Askers)
			}) {
				all = append(all, copied)
			}
		}
	}
	return all, nil
}

// Stated is the version of a package that a parent or an imported list states for the project.
func (r *registries) Stated(ctx context.Context, c *model.Component, name string) (version, goesOn string, err error) {
	elsewhere := func(q model.Requirement) bool { return q.Role == model.Follows }
	at, named := mavenrepo.Read(name)
	found := c.Find(name)
	if !named || len(found) == 0 || slices.ContainsFunc(found, func(q model.Requirement) bool { return !elsewhere(q) }) {
		return "", "", nil
	}
	if version, err = resolving.Managed(ctx, r.Registry, c, name); err != nil || version == "" {
		return "", "", err
	}
	e, err := r.Finder(c.Detail.(*project.Project)).Of(ctx, r.Repositories(), at, version, 0)
	if err != nil || e == nil {
		return version, "", err
	}
	if to, moved := e.Elsewhere(); moved {
		goesOn = to.String()
	}
	return version, goesOn, nil
}

// Effective are all packages in the trees of the modules.
func (e Ecosystem) Effective(ctx context.Context, reg ecosystem.Registry, c *model.Component) ([]model.Package, error) {
	r, ok := reg.(*registries)
	if !ok {
		return e.Packages(c), nil
	}
	trees, err := graph.Trees(ctx, r.Registry, c.Detail.(*project.Project))
	if err != nil {
		return nil, err
	}
	all := e.Packages(c)
	type copied struct{ name, version string }
	known := map[copied]bool{}
	for _, pkg := range all {
		known[copied{pkg.Subject.Name, pkg.Version}] = true
	}
	sites := map[string]model.Site{} // of what is asked for, the first place
	for _, q := range slices.Backward(c.Requirements) {
		sites[q.Name] = q.Site
	}
	for _, t := range trees {
		for _, w := range t.Won {
			one := copied{w.Coords.String(), w.Version}
			if known[one] {
				continue
			}
			known[one] = true
			pkg := model.Package{Subject: model.Subject{Kind: mavenrepo.Type, Name: w.Coords.String()}, Version: w.Version}
			for i, m := range w.Statement.Way.Modules()[1:] {
				pkg.Via = append(pkg.Via, m.Name+" "+m.Version)
				if site, asked := sites[m.Name]; i == 0 && asked {
					pkg.Site = site
				}
			}
			all = append(all, pkg)
		}
	}
	return all, graph.Java(ctx, r.Registry, r.Finder(c.Detail.(*project.Project)), r.Repositories(), all)
}
