package maven

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
	"bellwether/internal/ecosystem/mavenrepo"
)

// tree is what a module gets in the end.
type tree struct {
	of  *effective
	own map[mavenrepo.Coordinates]*pom // the project's own
	won []won
	// overruled is what modules ask for that the project's management overrules, by the module and what it is.
	overruled map[statement]string
}

// statement is a module with a package that it asks for.
type statement struct {
	by   mediate.Module
	name string
}

type won struct {
	*mediate.Won
	coords mavenrepo.Coordinates
	scope  string
}

// trees are those of all modules.
func (r *registry) trees(ctx context.Context, p *project) (all []tree, err error) {
	s, plain := r.poms(p), map[string]bool{}
	for _, within := range p.poms {
		e, err := s.effective(ctx, within.pom, 0)
		if err != nil {
			return nil, err
		}
		g := &graph{poms: s, of: e, client: r.client, parts: map[string]part{}, overruled: map[statement]string{}, plain: plain}
		m, err := mediate.Nearest(ctx, g)
		if err != nil {
			return nil, err
		}
		t := tree{of: e, own: p.own, overruled: g.overruled}
		in := scopes(m, g.uses)
		for _, w := range m.Won {
			t.won = append(t.won, won{w, g.parts[w.Name].coords, in[w.Name]})
		}
		all = append(all, t)
	}
	return all, nil
}

// graph is what a module asks for, and what that asks for in turn (Maven: Introduction to the Dependency
// Mechanism).
type graph struct {
	poms   *poms
	of     *effective
	client *mavenrepo.Client
	parts  map[string]part // by the names that mediation uses
	// overruled is what modules ask for themselves, of what the project manages.
	overruled map[statement]string
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
		if e, err = g.poms.of(ctx, g.of.repositories, p.coords, m.Version, 0); err != nil {
			if errors.Is(err, mavenrepo.ErrMissing) {
				return nil, nil // Maven warns, and goes on without what it would ask for
			}
			return nil, err
		}
	}
	g.ahead(ctx, e)
	asks = make([]mediate.Ask, 0, len(e.dependencies))
	for _, said := range e.asks() {
		d, one := said.as, said.dependency
		managed := g.of.byKey[said.key]
		// What the project manages comes too late here: it says in what a package is used, not whether it comes.
		if !project && !comesAlong(said.scope, said.optional) {
			continue
		}
		scope, text := said.scope, said.version
		if managed != nil && (!project || !said.stated) {
			if now := g.of.expand(managed.version.text); now != "" {
				if !project && text != "" && !strings.ContainsAny(text, "[($") {
					g.overruled[statement{m, said.key}] = text
				}
				text = now
			}
		}
		if text == "" && project {
			return nil, &model.Fault{
				Doing: "reading what a project asks for", File: d.of.file, Line: d.line, Found: true,
				Wrong: fmt.Sprintf(
					"nothing states a version of %s",
					one.coords,
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
			if was != nil && !project && managed != nil && !comesAlong(g.of.expand(managed.scope), g.of.expand(managed.optional)) {
				continue // what is elsewhere is asked for once more, as it is managed
			}
		}
		g.parts[one.key()] = part{one.coords, scope == system}
		asks = append(asks, mediate.Ask{
			Name: one.key(), Was: was, Wants: text, Excludes: excludes, Hard: strings.ContainsAny(text, "[("),
			Mark: g.noteUse(project, scope, managed),
		})
	}
	return asks, nil
}

// asking is a dependency in its own project's words: with what its properties, and its management, say.
type asking struct {
	dependency
	as       *dependency // as it is written
	key      string
	stated   bool // its version stands with it
	version  string
	scope    string
	optional string
}

// asks are the dependencies of a project, put into words once.
func (e *effective) asks() []asking {
	if e.asking != nil {
		return e.asking
	}
	e.asking = make([]asking, 0, len(e.dependencies))
	for _, d := range e.dependencies {
		a := asking{dependency: *d, as: d, version: e.expand(d.version.text), scope: e.expand(d.scope), optional: e.expand(d.optional)}
		a.coords = e.coordsOf(d)
		a.key, a.stated = a.dependency.key(), a.version != ""
		if own := e.byKey[a.key]; own != nil {
			if a.scope == "" {
				a.scope = e.expand(own.scope)
			}
			if !a.stated {
				a.version = e.expand(own.version.text)
			}
		}
		e.asking = append(e.asking, a)
	}
	return e.asking
}

// noteUse notes in what scope what is asked for is used, which the project may manage, and gives the mark of the note.
func (g *graph) noteUse(project bool, scope string, managed *dependency) (mark int) {
	u := use{scope: scope}
	if managed != nil && (!project || scope == "") {
		if over := g.of.expand(managed.scope); over != "" {
			u.scope, u.managed = over, !project
		}
	}
	u.scope = cmp.Or(u.scope, compile)
	g.uses = append(g.uses, u)
	return len(g.uses) - 1
}

// comesAlong tells whether what a module asks for comes by way of it.
func comesAlong(scope, optional string) bool {
	return scope != forTests && scope != provided && scope != system && optional != "true"
}

// ahead asks at once for the descriptions of what a module asks for, as far as its versions are plain.
func (g *graph) ahead(ctx context.Context, e *effective) {
	var all []release
	for _, d := range e.asks() {
		text := d.version
		if managed := g.of.byKey[d.key]; managed != nil {
			text = g.of.expand(managed.version.text)
		}
		if d.scope != forTests || e == g.of {
			all = append(all, release{d.coords, text})
		}
	}
	g.poms.ahead(ctx, g.of.repositories, all)
}

// maxRelocations bounds how often a package may say that it moved on.
const maxRelocations = 8

// relocated follows a package that says in its description that it is elsewhere by now, and gives the names by which it
// was asked for on the way.
func (g *graph) relocated(ctx context.Context, d *dependency, version string, project bool) (at string, was []string, err error) {
	for range maxRelocations {
		g.parts[d.key()] = part{coords: d.coords}
		at, err := g.Choose(ctx, d.key(), []string{version})
		if err != nil || at == "" {
			return version, was, err
		}
		e, err := g.poms.of(ctx, g.of.repositories, d.coords, at, 0)
		if errors.Is(err, mavenrepo.ErrMissing) || err == nil && e == nil {
			return version, was, nil
		}
		if err != nil {
			return version, was, err
		}
		to := e.root.At("distributionManagement", "relocation")
		if to == nil {
			return version, was, nil
		}
		was = append(was, d.key())
		d.coords.Group = cmp.Or(e.expand(to.Value("groupId")), d.coords.Group)
		d.coords.Artifact = cmp.Or(e.expand(to.Value("artifactId")), d.coords.Artifact)
		version = cmp.Or(e.expand(to.Value("version")), at)
		if managed := g.of.byKey[d.key()]; managed != nil && !project && d.key() != was[len(was)-1] {
			version = cmp.Or(g.of.expand(managed.version.text), version)
		}
	}
	return version, was, nil
}

// excludes tells what is not to come by way of a dependency: what it excludes, and what its management does.
func (g *graph) excludes(d, managed *dependency) func(name string) bool {
	all := slices.Clone(d.exclusions)
	if managed != nil {
		all = append(all, managed.exclusions...)
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
	list, err := g.client.Versions(ctx, g.of.repositories, g.parts[name].coords)
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
