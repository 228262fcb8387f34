package plan

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/world"
)

// atBranch is the range of a destination that names a branch of the source instead
// of versions. Where there is none of that name, the error is why it is no range.
func atBranch(
	ctx context.Context, part *tree.Part, registry ecosystem.Registry, plan *route.Plan, d world.Destination, noRange error,
) (version.Range, error) {
	fault := &model.Fault{Doing: "reading --to " + d.Text, Wrong: noRange.Error()}
	brancher, ok := registry.(ecosystem.Brancher)
	if !ok {
		return nil, fault
	}
	subject, _ := part.SubjectOf(d.Name)
	at, err := brancher.Branch(ctx, subject, d.Range)
	if err != nil {
		fault.Wrong += fmt.Sprintf("; and as a branch: %v", err)
		return nil, fault
	}
	if plan.Also == nil {
		plan.Also = map[string]string{}
	}
	plan.Also[d.Name] = at
	return plan.Order.ParseRange(at)
}

// fromElsewhere is the change of a manifest that takes a requirement from a
// repository of its source, or from there back to releases; nil where a destination
// is about neither. A branch that a compat book names goes by its name alone.
func (p *planner) fromElsewhere(part *tree.Part, d world.Destination) *contract.Change {
	eco, ok := part.Eco.(ecosystem.Sourced)
	if place, _ := model.Parted(d.Name); !ok || place != "" { // a source is asked for in all places
		return nil
	}
	c := &contract.Change{Old: d.Name, New: d.Name, Range: d.Range, Why: "asked for", Title: d.Name + " from its source", Asked: true}
	fromSource := false
	for _, q := range part.Find(d.Name) {
		fromSource = fromSource || eco.IsSource(q.Range)
		for _, r := range p.shelf.Sources(eco, q) {
			if r.Name == d.Range {
				c.Range = r.Value
			}
		}
	}
	switch {
	case eco.IsSource(c.Range):
		return c
	case fromSource:
		if _, err := part.Eco.Order().ParseRange(d.Range); err == nil {
			c.Title = d.Name + " from its releases"
			return c
		}
	}
	return nil
}

// addAlso puts versions that no list has among the releases of their subjects.
func addAlso(plan *route.Plan) {
	for _, name := range slices.Sorted(maps.Keys(plan.Also)) {
		v, err := plan.Order.Parse(plan.Also[name])
		if err != nil {
			continue
		}
		for _, s := range plan.Subjects {
			_, own := model.Parted(s.Name)
			known := slices.ContainsFunc(s.Releases, func(o version.Version) bool { return o.Compare(v) == 0 })
			if (s.Name == name || own == name) && !known {
				s.Releases = append(s.Releases, v)
				slices.SortStableFunc(s.Releases, version.Version.Compare)
			}
		}
	}
}
