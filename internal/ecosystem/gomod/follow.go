package gomod

import (
	"context"
	"fmt"
	"path"
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/overlay"
	"bellwether/internal/ecosystem"
)

// follow brings the modules of the project up to date that a replace line leads
// to the module in p, or to one that followed: what it requires now, they must
// require, too.
func (r *registry) follow(ctx context.Context, p *project, o *contract.State) error {
	dirs, err := Ecosystem{}.Detect(p.files)
	if err != nil {
		return err
	}
	moved := []string{p.dir}
	for again := true; again; {
		again = false
		for _, dir := range dirs {
			if slices.Contains(moved, dir) {
				continue
			}
			c, err := Ecosystem{}.Read(p.files.Over(overlay.With(p.fsys, o.Edits)), dir)
			if err != nil {
				continue // it is told where it is resolved for itself
			}
			other := c.Detail.(*project)
			if !slices.ContainsFunc(moved, other.buildsWith) {
				continue
			}
			after, err := r.resolve(ctx, ecosystem.Ask{Component: c})
			if err != nil {
				return fmt.Errorf("%s builds with the module in %s, and cannot follow it: %w", other.file, p.dir, err)
			}
			moved, again = append(moved, dir), true
			if len(after.Edits) > 0 {
				o.Notices = append(o.Notices, fmt.Sprintf("%s follows, since it builds with the module in %s", other.file, p.dir))
			}
			o.Edits = overlaid(o.Edits, after.Edits)
		}
	}
	return nil
}

// buildsWith tells whether a required module is replaced by a folder.
func (p *project) buildsWith(dir string) bool {
	for _, q := range p.mod.Require {
		if line := p.replacement(q.Mod); line != nil && line.New.Version == "" && path.Join(p.dir, line.New.Path) == dir {
			return true
		}
	}
	return false
}

// overlaid are edits with later ones made to their outcome.
func overlaid(edits, more []model.FileEdit) []model.FileEdit {
	for _, e := range more {
		at := slices.IndexFunc(edits, func(o model.FileEdit) bool { return o.File == e.File })
		if at < 0 {
			edits = append(edits, e)
		} else {
			edits[at].New = e.New
		}
	}
	return edits
}
