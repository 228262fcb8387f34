package verify

import (
	"context"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/tree"
)

// Deprecations verifies the project, and gives what is said to be deprecated,
// grouped by cause. Of packages it tells the release that may cure it, as far as
// registries can be asked.
func Deprecations(ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store) (*finding.Result, error) {
	r, err := Project(ctx, d, t, k)
	if err != nil {
		return nil, err
	}
	r.Deprecations = finding.Causes(r.Findings(), finding.Deprecation)
	if r.Deprecations == nil {
		r.Deprecations = []finding.Cause{}
	}
	var reached []source // that can tell cures
	for _, part := range t.Parts {
		if registry, err := d.Registry(ctx, part); err == nil {
			reached = append(reached, source{part, registry})
		}
	}
	var g errgroup.Group
	g.SetLimit(desk.AskAtOnce)
	for i := range r.Deprecations {
		if c := &r.Deprecations[i]; !c.Own() {
			g.Go(func() error {
				c.Cure = cure(ctx, reached, c.Finding)
				return nil
			})
		}
	}
	_ = g.Wait()
	return r, ctx.Err()
}

// source is a component with the registry that its packages come from.
type source struct {
	part     *tree.Part
	registry ecosystem.Registry
}

// cure is the release from which on a package may no longer be what a finding says:
// where its release is deprecated, the lowest later one that is not, else the newest.
// It is "" if there is none, or nothing is known.
func cure(ctx context.Context, sources []source, f finding.Finding) string {
	for _, from := range sources {
		order := from.part.Eco.Order()
		at, err := order.Parse(f.Version)
		if err != nil {
			continue
		}
		releases, err := from.registry.Releases(ctx, model.Subject{Kind: from.part.Type, Name: f.Package})
		if err != nil {
			continue
		}
		deprecated, newest, lowest := false, "", ""
		for _, r := range releases {
			v, err := order.Parse(r.Version)
			if err != nil || v.Preview() && !at.Preview() {
				continue
			}
			deprecated = deprecated || r.Version == f.Version && r.Deprecated != ""
			if v.Compare(at) > 0 && r.Deprecated == "" && !r.Retracted {
				newest = r.Version
				if lowest == "" {
					lowest = r.Version
				}
			}
		}
		if deprecated {
			return lowest
		}
		return newest
	}
	return ""
}
