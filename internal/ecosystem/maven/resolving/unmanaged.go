package resolving

import (
	"context"
	"fmt"
	"slices"

	"bellwether/internal/core/flat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/maven/pom"
	"bellwether/internal/ecosystem/maven/project"
	"bellwether/internal/ecosystem/maven/registry"
	"bellwether/internal/ecosystem/mavenrepo"
)

// unmanaged are needs that nothing can meet: the project takes a version from a parent or a list, and a release of that does not
// manage the package any more. Maven would not read the project then.
func (x index) unmanaged(ctx context.Context, k flat.Key, release string) (needs []flat.Need, err error) {
	present := x.managing(k)
	c, ok := mavenrepo.Read(k.Name)
	if present == "" || present == release || !ok {
		return nil, nil
	}
	is, err := x.managed(ctx, c, release)
	if err != nil || is == nil {
		return nil, err
	}
	was, err := x.managed(ctx, c, present)
	if err != nil {
		return nil, err
	}
	told := map[string]bool{}
	for _, q := range x.component.Requirements {
		if q.Role != model.Follows || was[q.Name] == nil || is[q.Name] != nil || told[q.Name] {
			continue
		}
		told[q.Name] = true
		others, err := x.managedBesides(ctx, k, q.Name)
		if err != nil {
			return nil, err
		}
		if !others {
			needs = append(needs, flat.Need{
				About: q.Name,
				Text:  fmt.Sprintf("a version of %s stated at %s, since it does not manage that package any more", q.Name, q.Site),
			})
		}
	}
	return needs, nil
}

// Managed is the version of a package that a parent or an imported list of the project states for it, "" for none.
func Managed(ctx context.Context, r *registry.Registry, c *model.Component, name string) (string, error) {
	p := c.Detail.(*project.Project)
	for _, q := range c.Requirements {
		at, ok := mavenrepo.Read(q.Name)
		if !ok || q.Locked == "" || q.Role != model.Imports {
			continue
		}
		e, err := r.Finder(p).Of(ctx, r.Repositories(), at, q.Locked, 0)
		if err != nil {
			return "", err
		}
		if e != nil && e.ByKey[name] != nil {
			return e.Expand(e.ByKey[name].Version.Text), nil
		}
	}
	return "", nil
}

// managing is the version of a parent or an imported list that the project has; empty for anything else.
func (x index) managing(k flat.Key) (present string) {
	for _, q := range x.component.Requirements {
		if x.key(q) == k && q.Role == model.Imports {
			present = q.Locked
		}
	}
	return present
}

// managed is what a release of a parent or a list manages; nil for what cannot be had.
func (x index) managed(ctx context.Context, c mavenrepo.Coordinates, release string) (map[string]*pom.Dependency, error) {
	e, err := x.Finder(x.component.Detail.(*project.Project)).Of(ctx, x.Repositories(), c, release, 0)
	if err != nil || e == nil {
		return nil, err
	}
	return e.ByKey, nil
}

// managedBesides tells whether another parent or list of the project manages a package as well.
func (x index) managedBesides(ctx context.Context, k flat.Key, name string) (bool, error) {
	for _, q := range x.component.Requirements {
		c, ok := mavenrepo.Read(q.Name)
		if !ok || x.key(q) == k || q.Locked == "" || q.Role != model.Imports {
			continue
		}
		all, err := x.managed(ctx, c, q.Locked)
		if err != nil || all[name] != nil {
			return err == nil, err
		}
	}
	return false, nil
}

// banned is a need that nothing can meet: the project forbids a release. What is there already does not count.
func (x index) banned(k flat.Key, release string) []flat.Need {
	c, named := mavenrepo.Read(k.Name)
	v, err := version.Maven{}.Parse(release)
	if _, present := x.beside(k); !named || err != nil || present == release {
		return nil
	}
	bans, excepted := x.component.Detail.(*project.Project).Bans()
	covers := func(b project.Ban) bool { return b.Covers(c, v) }
	at := slices.IndexFunc(bans, covers)
	if at < 0 || slices.ContainsFunc(excepted, covers) {
		return nil
	}
	return []flat.Need{{About: k.Name, Text: fmt.Sprintf("to be let in, and %s bans %s", bans[at].Site, bans[at].Text)}}
}
