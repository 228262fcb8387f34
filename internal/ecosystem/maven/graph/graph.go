// Package graph finds what each module of a project gets in the end: Maven's tree of dependencies, with scopes and exclusions.
package graph

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/mediate"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/maven/pom"
	"bellwether/internal/ecosystem/maven/project"
	"bellwether/internal/ecosystem/maven/registry"
	"bellwether/internal/ecosystem/mavenrepo"
)

// Tree is what a module gets in the end.
type Tree struct {
	Of  *pom.Effective
	Own map[mavenrepo.Coordinates]*pom.Pom // the project's own
	Won []Won
	// Overruled is what modules ask for that the project's management overrules, by the module and what it is.
	Overruled map[Statement]string
}

// Statement is a module with a package that it asks for.
type Statement struct {
	By   mediate.Module
	Name string
}

// Won is a package that a module gets, with its scope.
type Won struct {
	*mediate.Won
	Coords mavenrepo.Coordinates
	Scope  string
}

// Trees are those of all modules.
func Trees(ctx context.Context, r *registry.Registry, p *project.Project) (all []Tree, err error) {
	s, plain := r.Finder(p), map[string]bool{}
	for _, within := range p.Poms {
		e, err := s.Effective(ctx, within.Pom, 0)
		if err != nil {
			return nil, err
		}
		g := &graph{poms: s, of: e, client: r.Client, parts: map[string]part{}, overruled: map[Statement]string{}, plain: plain}
		m, err := mediate.Nearest(ctx, g)
		if err != nil {
			return nil, err
		}
		t := Tree{Of: e, Own: p.Own, Overruled: g.overruled}
		in := scopes(m, g.uses)
		for _, w := range m.Won {
			t.Won = append(t.Won, Won{w, g.parts[w.Name].coords, in[w.Name]})
		}
		all = append(all, t)
	}
	return all, nil
}

// graph is what a module asks for, and what that asks for in turn (Maven: Introduction to the Dependency
// Mechanism).
type graph struct {
	poms   *pom.Finder
	of     *pom.Effective
	client *mavenrepo.Client
	parts  map[string]part // by the names that mediation uses
	// overruled is what modules ask for themselves, of what the project manages.
	overruled map[Statement]string
	uses      []use           // of what modules ask for
	plain     map[string]bool // wishes that are known to be versions that stand for themselves
}

// part is what mediation speaks of.
type part struct {
	coords mavenrepo.Coordinates
	system bool // it is a file on the machine, and asks for nothing
}

// Asks are what a module asks for; of what is below the project, not what is for its own tests, given
// elsewhere, or optional.
func (g *graph) Asks(ctx context.Context, m mediate.Module) (asks []mediate.Ask, err error) {
	e := g.of
	project := m == mediate.Module{}
	if !project {
		p := g.parts[m.Name]
		if p.system {
			return nil, nil
		}
		if e, err = g.poms.Of(ctx, g.of.Repositories, p.coords, m.Version, 0); err != nil {
			if errors.Is(err, mavenrepo.ErrMissing) {
				return nil, nil // Maven warns, and goes on without what it would ask for
			}
			return nil, err
		}
	}
	g.ahead(ctx, e)
	asks = make([]mediate.Ask, 0, len(e.Dependencies))
	for _, said := range e.Asks() {
		d, one := said.As, said.Dependency
		managed := g.of.ByKey[said.Key]
		// What the project manages comes too late here: it says in what a package is used, not whether it comes.
		if !project && !ComesAlong(said.Scope, said.Optional) {
			continue
		}
		scope, text := said.Scope, said.Version
		if managed != nil && (!project || !said.Stated) {
			if now := g.of.Expand(managed.Version.Text); now != "" {
				if !project && text != "" && !strings.ContainsAny(text, "[($") {
					g.overruled[Statement{m, said.Key}] = text
				}
				text = now
			}
		}
		if text == "" && project {
			return nil, &model.Fault{
				Doing: "reading what a project asks for", File: d.Of.File, Line: d.Line, Found: true,
				Wrong: fmt.Sprintf(
					"nothing states a version of %s",
					one.Coords,
				), Next: "state one, or have a parent or an imported list manage it",
			}
		}
		if text == "" {
			continue // Maven does not get it either
		}
		excludes := g.excludes(&one, managed)
		var was []string
		if scope != system {
			if text, was, err = g.relocated(ctx, &one, text, project); err != nil {
				return nil, err
			}
			if was != nil && !project && managed != nil && !ComesAlong(g.of.Expand(managed.Scope), g.of.Expand(managed.Optional)) {
				continue // what is elsewhere is asked for once more, as it is managed
			}
		}
		g.parts[one.Key()] = part{one.Coords, scope == system}
		asks = append(asks, mediate.Ask{
			Name: one.Key(), Was: was, Wants: text, Excludes: excludes, Hard: strings.ContainsAny(text, "[("),
			Mark: g.noteUse(project, scope, managed),
		})
	}
	return asks, nil
}

// noteUse notes in what scope what is asked for is used, which the project may manage, and gives the mark of the note.
func (g *graph) noteUse(project bool, scope string, managed *pom.Dependency) (mark int) {
	u := use{scope: scope}
	if managed != nil && (!project || scope == "") {
		if over := g.of.Expand(managed.Scope); over != "" {
			u.scope, u.managed = over, !project
		}
	}
	u.scope = cmp.Or(u.scope, compile)
	g.uses = append(g.uses, u)
	return len(g.uses) - 1
}

// ComesAlong tells whether what a module asks for comes by way of it.
func ComesAlong(scope, optional string) bool {
	return scope != forTests && scope != provided && scope != system && optional != "true"
}

// ahead asks at once for the descriptions of what a module asks for, as far as its versions are plain.
func (g *graph) ahead(ctx context.Context, e *pom.Effective) {
	var all []pom.Release
	for _, d := range e.Asks() {
		text := d.Version
		if managed := g.of.ByKey[d.Key]; managed != nil {
			text = g.of.Expand(managed.Version.Text)
		}
		if d.Scope != forTests || e == g.of {
			all = append(all, pom.Release{Coords: d.Coords, Version: text})
		}
	}
	g.poms.Ahead(ctx, g.of.Repositories, all)
}

// maxRelocations bounds how often a package may say that it moved on.
const maxRelocations = 8

// relocated follows a package that says in its description that it is elsewhere by now, and gives the names by which it
// was asked for on the way.
func (g *graph) relocated(ctx context.Context, d *pom.Dependency, version string, project bool) (at string, was []string, err error) {
	for range maxRelocations {
		g.parts[d.Key()] = part{coords: d.Coords}
		at, err := g.Choose(ctx, d.Key(), []string{version})
		if err != nil || at == "" {
			return version, was, err
		}
		e, err := g.poms.Of(ctx, g.of.Repositories, d.Coords, at, 0)
		if errors.Is(err, mavenrepo.ErrMissing) || err == nil && e == nil {
			return version, was, nil
		}
		if err != nil {
			return version, was, err
		}
		to := e.Root.At("distributionManagement", "relocation")
		if to == nil {
			return version, was, nil
		}
		was = append(was, d.Key())
		d.Coords.Group = cmp.Or(e.Expand(to.Value("groupId")), d.Coords.Group)
		d.Coords.Artifact = cmp.Or(e.Expand(to.Value("artifactId")), d.Coords.Artifact)
		version = cmp.Or(e.Expand(to.Value("version")), at)
		if managed := g.of.ByKey[d.Key()]; managed != nil && !project && d.Key() != was[len(was)-1] {
			version = cmp.Or(g.of.Expand(managed.Version.Text), version)
		}
	}
	return version, was, nil
}

// excludes tells what is not to come by way of a dependency: what it excludes, and what its management does.
func (g *graph) excludes(d, managed *pom.Dependency) func(name string) bool {
	all := slices.Clone(d.Exclusions)
	if managed != nil {
		all = append(all, managed.Exclusions...)
	}
	if len(all) == 0 {
		return nil
	}
	return func(name string) bool {
		c := g.parts[name].coords
		return slices.ContainsFunc(all, func(x mavenrepo.Coordinates) bool {
			return (x.Group == "*" || x.Group == c.Group) && (x.Artifact == "*" || x.Artifact == c.Artifact)
		})
	}
}

// Choose is the version that the first wish stands for: itself, or of a range the newest in it. The ranges among
// the others have to allow it.
func (g *graph) Choose(ctx context.Context, name string, wants []string) (string, error) {
	if len(wants) == 1 && g.plain[wants[0]] {
		return wants[0], nil
	}
	var ranges []*version.MavenRange
	for _, text := range wants {
		rng, err := version.Maven{}.ParseRange(text)
		if err != nil {
			return "", err
		}
		ranges = append(ranges, rng.(*version.MavenRange))
	}
	allowed := func(text string) bool {
		v, err := version.Maven{}.Parse(text)
		return err == nil && !slices.ContainsFunc(ranges, func(r *version.MavenRange) bool { return !r.Soft && !r.Contains(v) })
	}
	if ranges[0].Soft {
		if !allowed(wants[0]) {
			return "", nil
		}
		if len(wants) == 1 {
			g.plain[wants[0]] = true
		}
		return wants[0], nil
	}
	list, err := g.client.Versions(ctx, g.of.Repositories, g.parts[name].coords)
	if err != nil {
		return "", err
	}
	for _, v := range slices.Backward(list) {
		if allowed(v) {
			return v, nil
		}
	}
	return "", nil
}

// Compare orders versions.
func (g *graph) Compare(a, b string) int { return mavenrepo.Compare(a, b) }
