package work

import (
	"context"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/overlay"
	"bellwether/internal/core/route"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/pin"
)

// raisePins gives the edits that take all places that state a subject, in a tree,
// to an aim. Manifests are settled again afterwards, so that their locks say the
// same as they do. With others, what ecosystems move themselves is left out.
func (p *Project) raisePins(ctx context.Context, st *state, subject model.Subject, aim pin.Aim, others bool) (*pin.Raised, error) {
	pins := st.pinsOf(subject)
	own := map[string]bool{} // manifests whose ecosystem moves the subject itself
	var inFiles []model.Pin
	for _, q := range pins {
		part := partWith(st.parts, q.Site.File)
		if part != nil && slices.ContainsFunc(part.Requirements, func(r model.Requirement) bool { return r.Subject == subject }) {
			own[q.Site.File] = !others
			continue
		}
		inFiles = append(inFiles, q)
	}
	raised, err := pin.Raise(st.fsys, inFiles, aim)
	if err != nil {
		return nil, err
	}
	return raised, p.settle(ctx, st, raised, subject, aim, own)
}

// partWith is the component that a manifest belongs to: its own, or that of the
// innermost folder around it, whose workspace it is a member of.
func partWith(parts []*Part, manifest string) *Part {
	var around *Part
	for _, part := range parts {
		if part.Manifest == manifest {
			return part
		}
		inside := part.Dir == "." || strings.HasPrefix(manifest, part.Dir+"/")
		if inside && path.Base(manifest) == part.eco.Manifest() && (around == nil || len(part.Dir) > len(around.Dir)) {
			around = part
		}
	}
	return around
}

// settle lets ecosystems follow where manifests changed, and where they state
// the subject themselves.
func (p *Project) settle(ctx context.Context, st *state, raised *pin.Raised, subject model.Subject, aim pin.Aim, own map[string]bool) error {
	fsys := overlay.With(st.fsys, raised.Edits)
	for _, part := range st.parts {
		touched := slices.ContainsFunc(raised.Edits, func(e model.FileEdit) bool { return partWith(st.parts, e.File) == part })
		if !touched && !own[part.Manifest] {
			continue
		}
		edits, sites, err := p.restate(ctx, part, fsys, subject, aim, own[part.Manifest])
		if err != nil {
			return err
		}
		raised.Sites = append(raised.Sites, sites...)
		raised.Edits = mergeEdits(raised.Edits, edits)
		fsys = overlay.With(st.fsys, raised.Edits)
	}
	return nil
}

// mergeEdits puts later edits behind earlier ones of the same files.
func mergeEdits(first, then []model.FileEdit) []model.FileEdit {
	all := slices.Clone(first)
	for _, e := range then {
		at := slices.IndexFunc(all, func(o model.FileEdit) bool { return o.File == e.File })
		if at < 0 {
			all = append(all, e)
		} else {
			all[at].New = e.New
		}
	}
	return all
}

// restate lets a component's ecosystem write its files anew where they state the
// subject themselves, or where its manifest has changed, with every package where
// it is.
func (p *Project) restate(ctx context.Context, part *Part, fsys fs.FS, subject model.Subject, aim pin.Aim, own bool) ([]model.FileEdit, []model.Site, error) {
	after, err := part.after(fsys)
	if err != nil || after.Lock == "" && !own {
		return nil, nil, err
	}
	registry, err := p.connect(ctx, p.partIn(part.Dir))
	if err != nil {
		return nil, nil, err
	}
	goal := route.Goal{Bounds: staying(after, "a runtime moves and packages do not"), Previews: p.previews()}
	if own {
		low, err := after.eco.Order().Parse(aim.Low.String())
		if err != nil {
			return nil, nil, err
		}
		goal.Bounds[subject.Name] = route.Bound{
			Allow: func(v version.Version) bool { return v.Compare(low) >= 0 },
			Why:   fmt.Sprintf("%s is to be %s at least", subject, aim.Low),
		}
	}
	o, err := registry.Resolve(ctx, ecosystem.Ask{Component: after.Component, Goal: goal})
	if err != nil {
		return nil, nil, err
	}
	var sites []model.Site
	for _, m := range o.Moves {
		sites = append(sites, m.Sites...)
	}
	return o.Edits, sites, nil
}

// partIn is the component in a folder.
func (p *Project) partIn(dir string) *Part {
	for _, part := range p.Components {
		if part.Dir == dir {
			return part
		}
	}
	return nil
}

// staying are bounds that leave every requirement where it is locked.
func staying(part *Part, why string) map[string]route.Bound {
	order := part.eco.Order()
	bounds := map[string]route.Bound{}
	for _, r := range part.Requirements {
		if r.Fixed != "" || r.Locked == "" || r.Asked && r.Subject.Kind == part.Ecosystem {
			continue
		}
		at, err := order.Parse(r.Locked)
		if err != nil {
			continue
		}
		bounds[r.Name] = route.Bound{
			Allow: func(v version.Version) bool { return v.Compare(at) == 0 },
			Why:   fmt.Sprintf("%s stays at %s, since %s", r.Name, r.Locked, why),
		}
	}
	return bounds
}
