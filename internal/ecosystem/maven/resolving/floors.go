package resolving

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"

	"bellwether/internal/core/flat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/maven/graph"
	"bellwether/internal/ecosystem/maven/pom"
	"bellwether/internal/ecosystem/maven/project"
	"bellwether/internal/ecosystem/maven/registry"
	"bellwether/internal/ecosystem/mavenrepo"
)

// floors are the versions that a release asks for of packages which the project itself states, or which come with
// one of those at its version: Maven gives it lower ones without a word. What is below already does not count.
func (x index) floors(ctx context.Context, k flat.Key, release string) (needs []flat.Need, err error) {
	stated, present := x.beside(k)
	if present == release || len(stated) == 0 {
		return nil, nil
	}
	now, err := x.asksFor(ctx, k, release)
	if err != nil {
		return nil, err
	}
	before, err := x.asksFor(ctx, k, present)
	if err != nil {
		return nil, err
	}
	for _, asked := range now.order {
		other := asked
		if _, itself := stated[asked]; !itself {
			other = x.present.with[asked]
		}
		was, before := before.wants[asked]
		floor, err := version.Maven{}.Parse(now.wants[asked])
		if err != nil {
			return nil, err
		}
		text := asked + " " + now.wants[asked] + " or newer"
		if other != asked {
			text += ", which comes with " + other
		}
		for _, q := range stated[other] {
			if before && mavenrepo.Compare(q.Locked, was) < 0 {
				continue
			}
			needs = append(needs, flat.Need{
				Sense:   flat.IfPresent,
				Options: []flat.Option{{Key: x.key(q), Allows: func(v version.Version) bool { return v.Compare(floor) >= 0 }}},
				Text:    text,
			})
		}
	}
	return needs, nil
}

// beside are the other packages that the project states where it states one, by name, and the version of that one. Of a
// package that is stated in several places at several versions those count that some project file sees together with it.
func (x index) beside(k flat.Key) (stated map[string][]model.Requirement, present string) {
	var files []string
	for _, q := range x.component.Requirements {
		if at := cmp.Or(q.Locked, x.present.gets[q.Name]); x.key(q) == k && q.Fixed == "" && at != "" { // a range gives it
			present = at
			files = append(files, q.Site.File)
		}
	}
	stated = map[string][]model.Requirement{}
	far := map[string][]model.Requirement{}
	for _, q := range x.component.Requirements {
		switch {
		case q.Fixed != "" || q.Locked == "" || q.Name == k.Name:
		case x.key(q).Place == "":
			stated[q.Name] = append(stated[q.Name][:0], q)
		case x.component.Detail.(*project.Project).Together(files, q.Site.File):
			stated[q.Name] = append(stated[q.Name], q)
		default:
			far[q.Name] = append(far[q.Name], q)
		}
	}
	for name, all := range far {
		if stated[name] == nil {
			stated[name] = all
		}
	}
	return stated, present
}

// present is what a project gets as it is.
type present struct {
	gets map[string]string // the versions of packages, by name
	// with tells of packages which the project does not state that they come with one which it does, of the same group and
	// at the same version: they are released together, so that the one can be moved by the other.
	with map[string]string
}

// presentOf is remembered, since a component is resolved many times.
func presentOf(ctx context.Context, r *registry.Registry, c *model.Component) (*present, error) {
	p := c.Detail.(*project.Project)
	if known, is := r.Presents.Load(p); is {
		return known.(*present), nil
	}
	trees, err := graph.Trees(ctx, r, p)
	if err != nil {
		return nil, err
	}
	at := &present{map[string]string{}, map[string]string{}}
	stated := map[string][]model.Requirement{}
	for _, q := range c.Requirements {
		stated[q.Name] = append(stated[q.Name], q)
	}
	for _, t := range trees {
		for _, w := range t.Won {
			name, way := w.Coords.String(), w.Statement.Way.Modules()
			at.gets[name] = w.Version
			if len(way) < 2 || len(stated[name]) > 0 {
				continue
			}
			for _, q := range stated[way[1].Name] {
				if by, ok := mavenrepo.Read(q.Name); ok && by.Group == w.Coords.Group && q.Locked == w.Version {
					at.with[name] = q.Name
				}
			}
		}
	}
	r.Presents.Store(p, at)
	return at, nil
}

// asked are the plain versions that a release asks for, in the order of its statements.
type asked struct {
	order []string
	wants map[string]string
}

// asksFor is what a release asks for besides for its own tests; of a parent or a list of versions, what those packages ask
// for that take their versions from it.
func (x index) asksFor(ctx context.Context, k flat.Key, release string) (asked, error) {
	a := asked{wants: map[string]string{}}
	c, ok := mavenrepo.Read(k.Name)
	if !ok || release == "" {
		return a, nil
	}
	if err := x.askWithParts(ctx, c, release, &a); err != nil {
		return a, err
	}
	follow, err := x.followers(ctx, k, release)
	if err != nil {
		return a, err
	}
	x.Finder(x.component.Detail.(*project.Project)).Ahead(ctx, x.Repositories(), follow)
	for _, f := range follow {
		if err := x.askWithParts(ctx, f.Coords, f.Version, &a); err != nil {
			return a, err
		}
	}
	return a, nil
}

// followers are the packages that the project asks for without a version, with that which a release of a parent or of a list
// states for them.
func (x index) followers(ctx context.Context, k flat.Key, to string) (all []pom.Release, err error) {
	present := x.managing(k)
	c, ok := mavenrepo.Read(k.Name)
	if present == "" || !ok {
		return nil, nil
	}
	poms := x.Finder(x.component.Detail.(*project.Project))
	was, err := poms.Of(ctx, x.Repositories(), c, present, 0)
	if err != nil || was == nil {
		return nil, err
	}
	is, err := poms.Of(ctx, x.Repositories(), c, to, 0)
	if err != nil || is == nil {
		return nil, err
	}
	for _, q := range x.component.Requirements {
		then, now := was.ByKey[q.Name], is.ByKey[q.Name]
		if q.Fixed == "" || then == nil || now == nil || was.Expand(then.Version.Text) != x.present.gets[q.Name] {
			continue
		}
		coords, ok := mavenrepo.Read(q.Name)
		if text := is.Expand(now.Version.Text); ok && text != "" && !strings.ContainsAny(text, "[($") {
			all = append(all, pom.Release{Coords: coords, Version: text})
		}
	}
	return all, nil
}

// askWithParts adds what one package asks for, and what its parts ask for: what it needs of its own group at its own version.
func (x index) askWithParts(ctx context.Context, c mavenrepo.Coordinates, version string, a *asked) error {
	own := asked{wants: map[string]string{}}
	if err := x.ask(ctx, c, version, &own); err != nil {
		return err
	}
	var parts []pom.Release
	for _, name := range own.order {
		if other, _ := mavenrepo.Read(name); other.Group == c.Group && own.wants[name] == version {
			parts = append(parts, pom.Release{Coords: other, Version: version})
		}
	}
	x.Finder(x.component.Detail.(*project.Project)).Ahead(ctx, x.Repositories(), parts)
	for _, part := range parts {
		if !x.mayMatter(ctx, part.Coords, version) {
			continue
		}
		if err := x.ask(ctx, part.Coords, version, &own); err != nil {
			return err
		}
	}
	for _, name := range own.order {
		a.add(name, own.wants[name])
	}
	return nil
}

// mayMatter tells whether a package's own description asks for something that the project states, or that comes with that:
// what it inherits and imports need not be had then.
func (x index) mayMatter(ctx context.Context, c mavenrepo.Coordinates, release string) bool {
	own, err := x.Finder(x.component.Detail.(*project.Project)).Fetched(ctx, x.Repositories(), c, release)
	return err != nil || own == nil || slices.ContainsFunc(own.Dependencies, func(d *pom.Dependency) bool {
		if strings.Contains(d.Coords.String(), "${") {
			return true
		}
		return x.component.Declares(d.Coords.String()) || x.present.with[d.Coords.String()] != ""
	})
}

// add adds a version that is asked for; of several the newest counts.
func (a *asked) add(name, version string) {
	switch known, twice := a.wants[name]; {
	case !twice:
		a.order = append(a.order, name)
		a.wants[name] = version
	case mavenrepo.Compare(version, known) > 0:
		a.wants[name] = version
	}
}

// ask adds what one package asks for itself.
func (x index) ask(ctx context.Context, c mavenrepo.Coordinates, release string, a *asked) error {
	e, err := x.Finder(x.component.Detail.(*project.Project)).Of(ctx, x.Repositories(), c, release, 0)
	if errors.Is(err, mavenrepo.ErrMissing) || err == nil && e == nil {
		return nil
	}
	if err != nil {
		return err
	}
	for _, one := range graph.Asks(e) {
		a.add(one.Coords.String(), one.Version)
	}
	return nil
}
