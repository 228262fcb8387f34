package carry

import (
	"cmp"
	"context"
	"slices"
	"time"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/tree"
)

// noteBridges gives the edit that follows what a leg's moves take and drop, none
// where nothing changes.
func (a *advance) noteBridges(ctx context.Context, moved *movedLeg) ([]model.FileEdit, error) {
	part := a.tree.Part(a.leg.Component)
	var registry ecosystem.Registry
	if part != nil {
		var err error
		if registry, err = a.desk.Registry(ctx, part); err != nil {
			return nil, err
		}
	}
	return kept.RewriteBridges(a.tree.Files.FS, func(after []kept.Bridge) []kept.Bridge {
		return a.bridges(moved, part, registry, after)
	})
}

// bridges are those that there are after a leg.
func (a *advance) bridges(moved *movedLeg, part *tree.Part, registry ecosystem.Registry, after []kept.Bridge) []kept.Bridge {
	for _, m := range moved.leg.Moves {
		if part == nil || m.Subject.IsPin() {
			continue
		}
		after = slices.DeleteFunc(after, func(b kept.Bridge) bool {
			return b.Component == part.ID && b.Name == m.Name && b.Kind != kept.BridgeOverride
		})
		b := kept.Bridge{Component: part.ID, Name: m.Name, At: m.To, Because: m.Because, Since: a.desk.Today().Format(time.DateOnly)}
		v, err := part.Eco.Order().Parse(m.To)
		switch {
		case err == nil && v.Preview():
			b.Kind = kept.BridgePreview
		case ofBranch(registry, m.To) && !ofBranch(registry, m.From):
			b.Kind = kept.BridgeBranch
		case m.Becomes == m.Name && part.IsSource(m.Range):
			b.Kind = kept.BridgeBranch
		case m.From == "" && m.Range != "":
			b.Kind = kept.BridgeRestored
		default:
			continue
		}
		after = append(after, b)
	}
	for _, o := range moved.leg.Overrides {
		after = slices.DeleteFunc(after, func(b kept.Bridge) bool {
			return b.Component == part.ID && b.Kind == kept.BridgeOverride && b.Of == o.Of && b.Name == o.Name
		})
		if !o.Drop {
			after = append(
				after,
				kept.Bridge{
					Component: part.ID, Name: o.Name, Of: o.Of, Kind: kept.BridgeOverride, At: cmp.Or(o.Range, "the project's own"),
					Because: o.Because, Since: a.desk.Today().Format(time.DateOnly),
				},
			)
		}
	}
	return after
}

// ofBranch tells whether a version of a registry's packages is not released.
func ofBranch(registry ecosystem.Registry, version string) bool {
	brancher, ok := registry.(ecosystem.Brancher)
	return ok && version != "" && brancher.OfBranch(version)
}
