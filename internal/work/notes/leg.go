package notes

import (
	"context"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/core/notes"
	"bellwether/internal/core/version"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/tree"
)

// Noted is an entry of a release on a leg's way.
type Noted struct {
	Part  *tree.Part
	Entry notes.Entry
	Shown model.NoteEntry
	Of    string // the package
}

// On are what the releases say that a leg moves over, the gravest first. What cannot be read says nothing.
func On(ctx context.Context, d *desk.Desk, t *tree.Tree, leg *model.Leg) (all []Noted) {
	r := &reader{desk: d.Quiet(), tree: t, result: &model.NotesResult{}}
	part := t.Part(leg.Component)
	for _, m := range leg.Moves {
		if part == nil || m.Subject.IsPin() || m.From == "" || m.To == "" {
			continue
		}
		if err := r.read(ctx, target{part, m.Name, m.Key(), m.Subject, m.From, m.To}); err != nil {
			continue
		}
	}
	for _, f := range r.found {
		all = append(all, Noted{f.part, f.entry, f.shown, r.result.Packages[f.pkg].Name})
	}
	slices.SortStableFunc(all, func(a, b Noted) int { return kindRank(a.Shown) - kindRank(b.Shown) })
	return all
}

// Needs are the runtimes and tools that the notes of legs' major moves ask for, and that no
// registry states. What cannot be read states nothing.
func Needs(ctx context.Context, d *desk.Desk, t *tree.Tree, legs []model.Leg) []model.NotedNeed {
	r := &reader{desk: d.Quiet(), tree: t, result: &model.NotesResult{}}
	for i := range legs {
		part := t.Part(legs[i].Component)
		for _, m := range legs[i].Moves {
			if part == nil || m.Subject.IsPin() || m.From == "" || m.To == "" {
				continue
			}
			from, err := part.Version(m.From)
			to, terr := part.Version(m.To)
			if err != nil || terr != nil || part.Eco.Order().Step(from, to) != version.Major {
				continue
			}
			if err := r.read(ctx, target{part, m.Name, m.Key(), m.Subject, m.From, m.To}); err != nil && ctx.Err() != nil {
				return nil
			}
		}
	}
	return r.result.Needs
}
