package ways

import (
	"context"
	"maps"
	"slices"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/contract"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/shelf"
	"bellwether/internal/work/world"
)

// branched is a branch that a compat book names, of something that is required.
type branched struct {
	name, branch string
	at           version.Version
}

// readBranches finds the branches that compat books name of the component's requirements,
// as far as they can be had.
func (f *finder) readBranches(ctx context.Context, s *shelf.Shelf) error {
	brancher, ok := f.world.Registry.(ecosystem.Brancher)
	if !ok {
		return nil
	}
	for _, r := range s.Rules {
		if r.Kind != compat.Branch || r.Foreign != "" {
			continue
		}
		for _, q := range f.part.Requirements {
			if q.Subject != r.Subjects[0] || q.Fixed != "" {
				continue
			}
			if text, err := brancher.Branch(ctx, q.Subject, r.Branch); err == nil {
				if at, err := f.order.Parse(text); err == nil {
					f.branches = append(f.branches, branched{q.Name, r.Branch, at})
				}
			}
		}
	}
	return ctx.Err()
}

// readSources finds the branches of repositories that compat books name of the component's
// requirements.
func (f *finder) readSources(s *shelf.Shelf) {
	eco, ok := f.part.Eco.(ecosystem.Sourced)
	if !ok {
		return
	}
	for _, q := range f.part.Requirements {
		if q.Fixed == "" && !slices.ContainsFunc(f.sources, func(o shelf.Source) bool { return o.Of == q.Name }) {
			f.sources = append(f.sources, s.Sources(eco, q)...)
		}
	}
}

// branch takes what is not released yet.
func (f *finder) branch(b branched, from string) relaxation {
	return relaxation{
		text: "take " + b.name + " from its branch " + b.branch + ", which is %s by now", option: "--to " + b.name + "@" + b.branch,
		cost: costBranch, about: b.name, from: from,
		risk: "a branch changes before it is released",
		relax: func(g *contract.Goal) {
			g.Also = maps.Clone(g.Also)
			if g.Also == nil {
				g.Also = map[string]string{}
			}
			g.Also[b.name] = b.at.String()
			g.Bounds[b.name] = contract.Bound{
				Allow: func(v version.Version) bool { return v.Compare(b.at) == 0 }, Newest: true,
				Why: b.name + " may come from its branch " + b.branch,
			}
		},
		take: func(o *world.Request, _ string) { o.To = append(o.To, b.name+"@"+b.branch) },
	}
}

// source takes what is not released yet from a repository.
func (f *finder) source(s shelf.Source) relaxation {
	return relaxation{
		text:   "take " + s.Of + " from the branch " + s.Name + " of its source, where it is %s by now",
		option: "--to " + s.Of + "@" + s.Name, cost: costBranch, about: s.Of, reads: true,
		risk: "a branch changes before it is released",
		relax: func(g *contract.Goal) {
			g.Changes = append(g.Changes, contract.Change{Old: s.Of, New: s.Of, Range: s.Value, Why: s.Rule.ID})
		},
		take: func(o *world.Request, _ string) { o.To = append(o.To, s.Of+"@"+s.Name) },
	}
}
