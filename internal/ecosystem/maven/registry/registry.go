// Package registry asks the repositories that settings and projects name for versions and families of packages.
package registry

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"sync"

	"bellwether/internal/core/model"
	"bellwether/internal/core/overlay"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/maven/pom"
	"bellwether/internal/ecosystem/maven/project"
	"bellwether/internal/ecosystem/mavenrepo"
)

// Registry answers from the repositories of a component.
type Registry struct {
	Around   ecosystem.Surroundings
	Client   *mavenrepo.Client
	settings *mavenrepo.Settings
	config   *pom.Config
	Central  bool // the central repository is asked, too
	// Repositories are those of the settings and those that the project declares, as it was when it connected.
	Repositories func() []mavenrepo.Repository
	parsed       sync.Map          // poms of repositories, see poms
	Presents     sync.Map          // by project, see presentOf
	inUse        map[string]string // the versions that the project states, as it was when it connected
}

// Connect gives the repositories that the settings and the project in dir name.
func Connect(ctx context.Context, s ecosystem.Surroundings, dir string) (*Registry, error) {
	config := pom.ReadConfig(s.Files, dir)
	config.Within(ctx, s)
	settings, err := mavenrepo.ReadSettings(s, config.Environment)
	if err != nil {
		return nil, err
	}
	if config.Settings != "" {
		if text, err := fs.ReadFile(s.Files, config.Settings); err == nil {
			if err := settings.TakeProject(config.Settings, text, s, config.Environment); err != nil {
				return nil, err
			}
		}
	}
	if err := settings.Reach(s.Client); err != nil {
		return nil, &model.Fault{Doing: "reading Maven's settings (proxies)", Wrong: err.Error()}
	}
	c, err := project.Read(s.Files, dir)
	if err != nil {
		return nil, err
	}
	r := &Registry{
		Around:   s,
		Client:   mavenrepo.New(s, settings),
		settings: settings,
		config:   config,
		Central:  true,
		inUse:    map[string]string{},
	}
	for _, q := range c.Requirements {
		if q.Locked != "" {
			r.inUse[q.Name] = q.Locked
		}
	}
	r.Repositories = sync.OnceValue(func() []mavenrepo.Repository { return r.declared(c.Detail.(*project.Project)) })
	return r, nil
}

// base are the repositories that are there for every project.
func (r *Registry) base() []mavenrepo.Repository {
	all := slices.Clone(r.settings.Repositories)
	if r.Central && !slices.ContainsFunc(all, func(o mavenrepo.Repository) bool { return o.ID == mavenrepo.Central.ID }) {
		all = append(all, mavenrepo.Central)
	}
	return all
}

// Finder finds files of projects for a component.
func (r *Registry) Finder(p *project.Project) *pom.Finder {
	texts := map[string][]byte{}
	for _, e := range p.Poms {
		for _, at := range e.Lineage {
			if at.Src != nil {
				texts[at.File] = at.Src
			}
		}
	}
	return &pom.Finder{
		Files:   overlay.New(r.Around.Files, texts),
		Ask:     r.Client.POM,
		Foreign: map[string]*pom.Effective{},
		Begun:   map[string]bool{},
		Own:     p.Own,
		Base:    r.base(),
		Config:  r.config,
		Parsed:  &r.parsed,
	}
}

// declared are those repositories, and those that a component's files declare within the project.
func (r *Registry) declared(p *project.Project) []mavenrepo.Repository {
	all := r.base()
	for _, e := range p.Poms {
		for _, one := range e.Repositories {
			all = mavenrepo.Declare(all, one)
		}
	}
	return all
}

// Versions are those of a package. Which of them are too young for --as-of cannot be told, since repositories state no
// dates.
func (r *Registry) Versions(ctx context.Context, name string) ([]string, error) {
	c, ok := mavenrepo.Read(name)
	if !ok {
		return nil, fmt.Errorf("%q is no name of a package (want group:artifact)", name)
	}
	list, err := r.Client.Versions(ctx, r.Repositories(), c)
	return fitting(list, r.inUse[name]), err
}

// Releases are all versions that repositories list.
func (r *Registry) Releases(ctx context.Context, s model.Subject) (all []model.Release, err error) {
	list, err := r.Versions(ctx, s.Name)
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
// but need not be asked for, unless it speaks of that and forgot to say where.
func (r *Registry) movedOn(ctx context.Context, name string, all []model.Release) error {
	c, ok := mavenrepo.Read(name)
	at := len(all) - 1
	for at > 0 && previewOf(all[at].Version) {
		at--
	}
	if !ok || at < 0 {
		return nil
	}
	for i := at; i >= 0 && at-i < mostForgetful; i-- {
		text, err := r.Client.POM(ctx, r.Repositories(), c, all[i].Version)
		if err != nil || !bytes.Contains(bytes.ToLower(text), []byte("relocation")) {
			return ctx.Err() // what cannot be had says nothing
		}
		p, err := pom.ReadPOM(name, text, false, r.config, nil)
		if err != nil {
			return nil
		}
		if to, moved := (&pom.Effective{Pom: p, Config: r.config}).Elsewhere(); moved {
			all[at].Replaced = to.String()
			return nil
		}
	}
	return nil
}

// mostForgetful bounds how many releases are asked that speak of another place and do not say which.
const mostForgetful = 4

// Families are requirements whose version stands in one place, and those of a group that are at one version and have
// the same newest one.
func (r *Registry) Families(ctx context.Context, c *model.Component) (families [][]string, err error) {
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
			if list, err := r.Versions(ctx, q.Name); err == nil && len(list) > 0 {
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
