package gomod

import (
	"context"
	"fmt"
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/overlay"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gomod/project"
	"bellwether/internal/ecosystem/gomod/registry"
	"bellwether/internal/ecosystem/gomod/resolving"
)

// registries answers from where the settings say modules are got from, and resolves with what they say.
type registries struct{ *registry.Registry }

// Resolve finds versions for the whole component within the bounds of ask.
// Modules of the project that build with it in a folder, by a replace line,
// follow in the same outcome.
func (r *registries) Resolve(ctx context.Context, ask ecosystem.Ask) (*contract.State, error) {
	o, err := resolving.Resolve(ctx, r.Registry, ask)
	if err != nil || len(o.Edits) == 0 {
		return o, err
	}
	return o, r.follow(ctx, ask.Component.Detail.(*project.Project), o)
}

// follow brings the modules of the project up to date that a replace line leads
// to the module in p, or to one that followed: what it requires now, they must
// require, too.
func (r *registries) follow(ctx context.Context, p *project.Project, o *contract.State) error {
	dirs, err := Ecosystem{}.Detect(p.Files)
	if err != nil {
		return err
	}
	moved := []string{p.Dir}
	for again := true; again; {
		again = false
		for _, dir := range dirs {
			if slices.Contains(moved, dir) {
				continue
			}
			c, err := Ecosystem{}.Read(p.Files.Over(overlay.With(p.Fsys, o.Edits)), dir)
			if err != nil {
				continue // it is told where it is resolved for itself
			}
			other := c.Detail.(*project.Project)
			if !slices.ContainsFunc(moved, other.BuildsWith) {
				continue
			}
			after, err := resolving.Resolve(ctx, r.Registry, ecosystem.Ask{Component: c})
			if err != nil {
				return fmt.Errorf("%s builds with the module in %s, and cannot follow it: %w", other.File, p.Dir, err)
			}
			moved, again = append(moved, dir), true
			if len(after.Edits) > 0 {
				o.Notices = append(o.Notices, fmt.Sprintf("%s follows, since it builds with the module in %s", other.File, p.Dir))
			}
			o.Edits = resolving.Overlaid(o.Edits, after.Edits)
		}
	}
	return nil
}
