package work

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
)

// atBranch is the range of a destination that names a branch of the source instead
// of versions. Where there is none of that name, the error is why it is no range.
func (p *Project) atBranch(ctx context.Context, part *Part, registry ecosystem.Registry, plan *route.Plan, d destination, noRange error) (version.Range, error) {
	fault := &model.Fault{Doing: "reading --to " + d.text, Wrong: noRange.Error()}
	brancher, ok := registry.(ecosystem.Brancher)
	if !ok {
		return nil, fault
	}
	at, err := brancher.Branch(ctx, part.Find(d.name)[0].Subject, d.rng)
	if err != nil {
		fault.Wrong += fmt.Sprintf("; and as a branch: %v", err)
		return nil, fault
	}
	if plan.Also == nil {
		plan.Also = map[string]string{}
	}
	plan.Also[d.name] = at
	return plan.Order.ParseRange(at)
}

// fromElsewhere is the change of a manifest that takes a requirement from a
// repository of its source, or from there back to releases; nil where a destination
// is about neither. A branch that a compat book names goes by its name alone.
func (p *Project) fromElsewhere(part *Part, s *shelf, d destination) *route.Change {
	eco, ok := part.eco.(ecosystem.Sourced)
	found := part.Find(d.name)
	if !ok || len(found) == 0 {
		return nil
	}
	c := &route.Change{Old: d.name, New: d.name, Range: d.rng, Why: "asked for", Title: d.name + " from its source", Asked: true}
	for _, r := range s.sources(eco, found[0]) {
		if r.name == d.rng {
			c.Range = r.value
		}
	}
	switch {
	case eco.IsSource(c.Range):
		return c
	case eco.IsSource(found[0].Range):
		if _, err := part.eco.Order().ParseRange(d.rng); err == nil {
			c.Title = d.name + " from its releases"
			return c
		}
	}
	return nil
}

// source is a branch of a repository that a compat book names.
type source struct {
	of    string // the requirement
	name  string // the branch's
	value string // what a manifest asks for to have it
	rule  *compat.Rule
}

// sources are the branches of repositories that compat books name of a requirement.
func (s *shelf) sources(eco ecosystem.Sourced, q model.Requirement) (all []source) {
	for _, r := range s.rules {
		if r.Kind == compat.Branch && r.Foreign == "" && r.Repository != "" && r.Subjects[0] == q.Subject {
			all = append(all, source{q.Name, r.Branch, eco.SourceRange(r.Repository, r.Branch), r})
		}
	}
	return all
}

// sources are the branches of repositories that compat books name of a component's
// requirements.
func (p *Project) sources(ctx context.Context, part *Part) (all []source, err error) {
	eco, ok := part.eco.(ecosystem.Sourced)
	s, err := p.shelf(ctx)
	if !ok || err != nil {
		return nil, err
	}
	for _, q := range part.Requirements {
		if q.Fixed == "" && !slices.ContainsFunc(all, func(o source) bool { return o.of == q.Name }) {
			all = append(all, s.sources(eco, q)...)
		}
	}
	return all, nil
}

// source takes what is not released yet from a repository.
func (f *wayFinder) source(s source) relaxation {
	return relaxation{
		text: "take " + s.of + " from the branch " + s.name + " of its source, where it is %s by now", option: "--to " + s.of + "@" + s.name, cost: costBranch, about: s.of,
		risk: "a branch changes before it is released",
		relax: func(g *route.Goal) {
			g.Changes = append(g.Changes, route.Change{Old: s.of, New: s.of, Range: s.value, Why: s.rule.ID})
		},
		take: func(_ *Project, o *RouteOptions, _ string) { o.To = append(o.To, s.of+"@"+s.name) },
	}
}

// addAlso puts versions that no list has among the releases of their subjects.
func addAlso(plan *route.Plan) {
	for _, name := range slices.Sorted(maps.Keys(plan.Also)) {
		v, err := plan.Order.Parse(plan.Also[name])
		if err != nil {
			continue
		}
		for _, s := range plan.Subjects {
			if s.Name == name && !slices.ContainsFunc(s.Releases, func(o version.Version) bool { return o.Compare(v) == 0 }) {
				s.Releases = append(s.Releases, v)
				slices.SortStableFunc(s.Releases, version.Version.Compare)
			}
		}
	}
}

// branched is a branch that a compat book names, of something that is required.
type branched struct {
	name, branch string
	at           version.Version
}

// branches are the branches that compat books name of a component's requirements,
// as far as they can be had.
func (p *Project) branches(ctx context.Context, part *Part, registry ecosystem.Registry) ([]branched, error) {
	brancher, ok := registry.(ecosystem.Brancher)
	s, err := p.shelf(ctx)
	if !ok || err != nil {
		return nil, err
	}
	var all []branched
	for _, r := range s.rules {
		if r.Kind != compat.Branch || r.Foreign != "" {
			continue
		}
		for _, q := range part.Requirements {
			if q.Subject != r.Subjects[0] || q.Fixed != "" {
				continue
			}
			if text, err := brancher.Branch(ctx, q.Subject, r.Branch); err == nil {
				if at, err := part.eco.Order().Parse(text); err == nil {
					all = append(all, branched{q.Name, r.Branch, at})
				}
			}
		}
	}
	return all, ctx.Err()
}

// branch takes what is not released yet.
func (f *wayFinder) branch(b branched, from string) relaxation {
	return relaxation{
		text: "take " + b.name + " from its branch " + b.branch + ", which is %s by now", option: "--to " + b.name + "@" + b.branch, cost: costBranch, about: b.name, from: from,
		risk: "a branch changes before it is released",
		relax: func(g *route.Goal) {
			g.Also = maps.Clone(g.Also)
			if g.Also == nil {
				g.Also = map[string]string{}
			}
			g.Also[b.name] = b.at.String()
			g.Bounds[b.name] = route.Bound{Allow: func(v version.Version) bool { return v.Compare(b.at) == 0 }, Newest: true, Why: b.name + " may come from its branch " + b.branch}
		},
		take: func(_ *Project, o *RouteOptions, _ string) { o.To = append(o.To, b.name+"@"+b.branch) },
	}
}
