package graph

import (
	"context"
	"strings"

	"bellwether/internal/ecosystem/maven/pom"
	"bellwether/internal/ecosystem/maven/project"
	"bellwether/internal/ecosystem/maven/registry"
	"bellwether/internal/ecosystem/mavenrepo"
)

// AsksOf are the plain versions that another release would ask for here; none where that cannot be had.
func (t Tree) AsksOf(ctx context.Context, r *registry.Registry, c mavenrepo.Coordinates, release string) []pom.Release {
	finder := r.Finder(&project.Project{Poms: []*pom.Effective{t.Of}, Own: t.Own})
	e, err := finder.Of(ctx, t.Of.Repositories, c, release, 0)
	if err != nil || e == nil {
		return nil
	}
	return Asks(e)
}

// Asks are the plain versions that a release asks for, for those who use it, in its order.
func Asks(e *pom.Effective) (all []pom.Release) {
	for _, d := range e.Dependencies {
		one := *d
		one.Coords = e.CoordsOf(d)
		scope, text := e.Expand(d.Scope), e.Expand(d.Version.Text)
		if own := e.ByKey[one.Key()]; own != nil {
			if text == "" {
				text = e.Expand(own.Version.Text)
			}
			if scope == "" {
				scope = e.Expand(own.Scope)
			}
		}
		if one.Key() != one.Coords.String() || text == "" || strings.ContainsAny(text, "[($") || !ComesAlong(scope, e.Expand(d.Optional)) {
			continue
		}
		all = append(all, pom.Release{Coords: one.Coords, Version: text})
	}
	return all
}
