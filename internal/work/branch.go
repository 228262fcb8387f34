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
