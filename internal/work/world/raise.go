package world

import (
	"context"
	"fmt"
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/pin"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/tree"
)

// Raise gives the edits that take all places that state a subject, in a tree,
// to an aim. Manifests are settled again afterwards, so that their locks say the
// same as they do. Releases that this machine has are known. With others, what ecosystems move themselves is left out.
func Raise(ctx context.Context, d *desk.Desk, t *tree.Tree, subject model.Subject, aim pin.Aim, others bool) (*pin.Raised, error) {
	places, err := t.Places()
	if err != nil {
		return nil, err
	}
	r := &raiser{desk: d, tree: t, subject: subject, aim: aim, own: map[string]bool{}}
	var inFiles []model.Pin
	for _, q := range places.Of(subject) {
		if t.Moves(q) {
			r.own[q.Site.File] = !others
			continue
		}
		inFiles = append(inFiles, q)
	}
	for _, i := range d.Machine().Versions(ctx, subject) {
		if v, err := (version.Plain{}).Parse(i.Version); err == nil {
			aim.Known = append(aim.Known, v)
		}
	}
	raised, err := pin.Raise(t.Files.FS, inFiles, aim)
	if err != nil {
		return nil, err
	}
	if err := r.settle(ctx, raised); err != nil {
		return nil, err
	}
	if note := pin.Beside(t.Files, places.Of(subject), aim); note != "" && len(raised.Edits) > 0 {
		raised.Notes = append(raised.Notes, note)
	}
	return raised, nil
}

// raiser lets ecosystems follow where places were raised.
type raiser struct {
	desk    *desk.Desk
	tree    *tree.Tree
	subject model.Subject
	aim     pin.Aim
	own     map[string]bool // manifests whose ecosystem moves the subject itself
}

// settle lets ecosystems follow where manifests changed, and where they state
// the subject themselves.
func (r *raiser) settle(ctx context.Context, raised *pin.Raised) error {
	files := r.tree.Over(raised.Edits)
	for _, part := range r.tree.Parts {
		touched := slices.ContainsFunc(raised.Edits, func(e model.FileEdit) bool { return r.tree.PartWith(e.File) == part })
		if !touched && !r.own[part.Manifest] {
			continue
		}
		after, err := part.In(files)
		if err != nil {
			return err
		}
		edits, sites, err := r.restate(ctx, after, r.own[part.Manifest])
		if err != nil {
			return err
		}
		raised.Sites = append(raised.Sites, sites...)
		raised.Edits = MergeEdits(raised.Edits, edits)
		files = r.tree.Over(raised.Edits)
	}
	return nil
}

// restate lets a component's ecosystem write its files anew where they state the
// subject themselves, or where its manifest has changed, with every package where
// it is.
func (r *raiser) restate(ctx context.Context, part *tree.Part, own bool) ([]model.FileEdit, []model.Site, error) {
	if len(part.Locks) == 0 && !own {
		return nil, nil, nil
	}
	registry, err := r.desk.Registry(ctx, part)
	if err != nil {
		return nil, nil, err
	}
	goal := contract.Goal{Bounds: Staying(part, "a runtime moves and packages do not"), Previews: r.desk.Previews()}
	if own {
		least := r.aim.Low
		if least.String() == "0" { // nothing needs it: it goes where it is asked to
			least = r.aim.To
		}
		low, err := part.Eco.Order().Parse(least.String())
		if err != nil {
			return nil, nil, err
		}
		goal.Bounds[r.subject.Name] = contract.Bound{
			Allow: func(v version.Version) bool { return v.Compare(low) >= 0 },
			Why:   fmt.Sprintf("%s is to be %s at least", r.subject, least),
		}
	}
	state, err := registry.Resolve(ctx, ecosystem.Ask{Component: part.Component, Goal: goal})
	if err != nil {
		return nil, nil, err
	}
	var sites []model.Site
	for _, m := range state.Moves {
		sites = append(sites, m.Sites...)
	}
	return state.Edits, sites, nil
}
