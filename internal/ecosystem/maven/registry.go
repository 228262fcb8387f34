package maven

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"bellwether/internal/core/mediate"
	"bellwether/internal/core/model"
	"bellwether/internal/core/overlay"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/mavenrepo"
)

// registry answers from the repositories of a component.
type registry struct {
	around   ecosystem.Surroundings
	client   *mavenrepo.Client
	settings *mavenrepo.Settings
	config   *config
	central  bool // the central repository is asked, too
	// repositories are those of the settings and those that the project declares, as it was when it connected.
	repositories func() []mavenrepo.Repository
	parsed       sync.Map          // poms of repositories, see poms
	presents     sync.Map          // by project, see presentOf
	inUse        map[string]string // the versions that the project states, as it was when it connected
}

// base are the repositories that are there for every project.
func (r *registry) base() []mavenrepo.Repository {
	all := slices.Clone(r.settings.Repositories)
	if r.central && !slices.ContainsFunc(all, func(o mavenrepo.Repository) bool { return o.ID == mavenrepo.Central.ID }) {
		all = append(all, mavenrepo.Central)
	}
	return all
}

// poms finds files of projects for a component.
func (r *registry) poms(p *project) *poms {
	texts := map[string][]byte{}
	for _, e := range p.poms {
		for _, at := range e.lineage {
			if at.src != nil {
				texts[at.file] = at.src
			}
		}
	}
	return &poms{
		files:   overlay.New(r.around.Files, texts),
		ask:     r.client.POM,
		foreign: map[string]*effective{},
		begun:   map[string]bool{},
		own:     p.own,
		base:    r.base(),
		config:  r.config,
		parsed:  &r.parsed,
	}
}

// declared are those repositories, and those that a component's files declare within the project.
func (r *registry) declared(p *project) []mavenrepo.Repository {
	all := r.base()
	for _, e := range p.poms {
		for _, one := range e.repositories {
			all = mavenrepo.Declare(all, one)
		}
	}
	return all
}

// versions are those of a package. Which of them are too young for --as-of cannot be told, since repositories state no
// dates.
func (r *registry) versions(ctx context.Context, name string) ([]string, error) {
	c, ok := mavenrepo.Read(name)
	if !ok {
		return nil, fmt.Errorf("%q is no name of a package (want group:artifact)", name)
	}
	list, err := r.client.Versions(ctx, r.repositories(), c)
	return fitting(list, r.inUse[name]), err
}

// Releases are all versions that repositories list.
func (r *registry) Releases(ctx context.Context, s model.Subject) (all []model.Release, err error) {
	list, err := r.versions(ctx, s.Name)
	if errors.Is(err, mavenrepo.ErrMissing) {
		err = ecosystem.Unknown(err)
	}
	if err != nil {
		return nil, err
	}
	for _, v := range list {
		all = append(all, model.Release{Version: v})
	}
	return all, r.movedOn(ctx, s.Name, all)
}

// movedOn notes of the newest release whether it says that the package goes on elsewhere. Those before it may say so, too,
// but need not be asked for.
func (r *registry) movedOn(ctx context.Context, name string, all []model.Release) error {
	c, ok := mavenrepo.Read(name)
	at := len(all) - 1
	for at > 0 && previewOf(all[at].Version) {
		at--
	}
	if !ok || at < 0 {
		return nil
	}
	text, err := r.client.POM(ctx, r.repositories(), c, all[at].Version)
	if err != nil || !bytes.Contains(text, []byte("relocation")) {
		return ctx.Err() // what cannot be had says nothing
	}
	if p, err := readPOM(name, text, false, r.config, nil); err == nil {
		if to, moved := (&effective{pom: p, config: r.config}).elsewhere(); moved {
			all[at].Replaced = to.String()
		}
	}
	return nil
}

// Copies are the versions of a package in the modules' trees, with who asks for them.
func (r *registry) Copies(ctx context.Context, c *model.Component, name string) (all []model.LockedCopy, err error) {
	trees, err := r.trees(ctx, c.Detail.(*project))
	if err != nil {
		return nil, err
	}
	for _, t := range trees {
		for _, w := range t.won {
			if w.coords.String() != name {
				continue
			}
			copied := model.LockedCopy{
				Version: w.Version,
				Where:   t.of.file,
				Scope:   w.scope,
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

// Families are requirements whose version stands in one place, and those of a group that are at one version and have
// the same newest one.
func (r *registry) Families(ctx context.Context, c *model.Component) (families [][]string, err error) {
	by := map[string][]string{}
	var keys []string
	put := func(key, name string) {
		if by[key] == nil {
			keys = append(keys, key)
		}
		if !slices.Contains(by[key], name) {
			by[key] = append(by[key], name)
		}
	}
	for _, q := range c.Requirements {
		if q.Fixed != "" || q.Site.End == q.Site.Start {
			continue
		}
		put(fmt.Sprintf("%s:%d", q.Site.File, q.Site.Start), q.Name)
		if coords, ok := mavenrepo.Read(q.Name); ok && q.Locked != "" {
			if list, err := r.versions(ctx, q.Name); err == nil && len(list) > 0 {
				put(coords.Group+" "+q.Locked+" "+list[len(list)-1], q.Name)
			}
		}
	}
	for _, key := range keys {
		within := func(other string) bool { // a larger one, or an earlier one that is as large, says the same
			larger := len(by[other]) > len(by[key])
			earlier := len(by[other]) == len(by[key]) && slices.Index(keys, other) < slices.Index(keys, key)
			return (larger || earlier) &&
				!slices.ContainsFunc(by[key], func(name string) bool { return !slices.Contains(by[other], name) })
		}
		if len(by[key]) > 1 && !slices.ContainsFunc(keys, within) {
			families = append(families, by[key])
		}
	}
	return families, nil
}

// Effective are all packages in the trees of the modules.
func (e Ecosystem) Effective(ctx context.Context, reg ecosystem.Registry, c *model.Component) ([]model.Package, error) {
	r, ok := reg.(*registry)
	if !ok {
		return e.Packages(c), nil
	}
	trees, err := r.trees(ctx, c.Detail.(*project))
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
		for _, w := range t.won {
			one := copied{w.coords.String(), w.Version}
			if known[one] {
				continue
			}
			known[one] = true
			pkg := model.Package{Subject: model.Subject{Kind: mavenrepo.Type, Name: w.coords.String()}, Version: w.Version}
			for i, m := range w.Statement.Way.Modules()[1:] {
				pkg.Via = append(pkg.Via, m.Name+" "+m.Version)
				if site, asked := sites[m.Name]; i == 0 && asked {
					pkg.Site = site
				}
			}
			all = append(all, pkg)
		}
	}
	return all, r.java(ctx, r.poms(c.Detail.(*project)), r.repositories(), all)
}
