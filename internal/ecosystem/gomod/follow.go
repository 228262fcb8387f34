package gomod

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"golang.org/x/mod/semver"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/overlay"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gomod/project"
	"bellwether/internal/ecosystem/gomod/registry"
	"bellwether/internal/ecosystem/gomod/resolving"
)

// registries answers from where the settings say modules are got from, and resolves with what they say.
type registries struct{ *registry.Registry }

// Resolve finds versions for the whole component within the bounds of ask.
// Modules of the project that build with it in a folder, by a replace line,
// follow in the same outcome, and so do those of its workspace in what they
// require themselves.
func (r *registries) Resolve(ctx context.Context, ask ecosystem.Ask) (*contract.State, error) {
	o, err := resolving.Resolve(ctx, r.Registry, ask)
	if err != nil || len(o.Edits) == 0 {
		return o, err
	}
	return o, r.follow(ctx, ask, o)
}

// follow brings the modules of the project up to date that a replace line leads
// to the module of ask, or to one that followed: what it requires now, they must
// require, too. Modules of one workspace share what moves.
func (r *registries) follow(ctx context.Context, ask ecosystem.Ask, o *contract.State) error {
	p := ask.Component.Detail.(*project.Project)
	dirs, err := Ecosystem{}.Detect(p.Files)
	if err != nil {
		return err
	}
	shared := map[string]bool{} // folders of modules that moved what they share
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
			if p.SharesWorkspace(other) && !shared[dir] && !slices.Contains(ask.LeftOut, dir) && !slices.Contains(ask.LeftOut, other.File) {
				shared[dir] = true
				changed, err := r.share(ctx, ask, c, o)
				if err != nil {
					return err
				}
				if changed {
					again = true
					break // what was read is not what is there any more
				}
			}
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

// share moves what another module of the workspace requires itself to where the outcome has it, if that is
// newer and of the same major: a build of the workspace takes the newer one for both. What cannot move stays, and that is told.
func (r *registries) share(ctx context.Context, ask ecosystem.Ask, c *model.Component, o *contract.State) (bool, error) {
	other, changed := c.Detail.(*project.Project), false
	for _, m := range o.Moves {
		if m.Subject.Kind != project.Name || m.Becomes != "" {
			continue
		}
		at := slices.IndexFunc(c.Requirements, func(q model.Requirement) bool {
			return q.Name == m.Name && !q.Asked && q.Fixed == "" &&
				semver.Major(q.Locked) == semver.Major(m.To) && semver.Compare(q.Locked, m.To) < 0
		})
		if at < 0 {
			continue
		}
		q := c.Requirements[at]
		to := contract.Bound{
			Allow: func(v version.Version) bool { return v.String() == m.To },
			Why:   fmt.Sprintf("%s is at %s in %s, of the same workspace", m.Name, m.To, ask.Component.Detail.(*project.Project).File),
		}
		after, err := resolving.Resolve(ctx, r.Registry, ecosystem.Ask{
			Component: c, Goal: contract.Goal{Bounds: map[string]contract.Bound{m.Name: to}, Also: map[string]string{m.Name: m.To}},
		})
		var conflict *solve.Conflict
		if errors.As(err, &conflict) {
			o.Notices = append(o.Notices, fmt.Sprintf("%s stays at %s %s: it cannot go along to %s", q.Site, m.Name, q.Locked, m.To))
			continue
		}
		if err != nil {
			return false, err
		}
		o.Edits, changed = resolving.Overlaid(o.Edits, after.Edits), true
		o.Carried = append(o.Carried, model.Move{Subject: m.Subject, Name: m.Name, Place: other.File, From: q.Locked, To: m.To})
		o.Notices = append(
			o.Notices, fmt.Sprintf("%s goes along: %s %s to %s, since %s builds both", q.Site, m.Name, q.Locked, m.To, other.Work.File),
		)
		if c, err = (Ecosystem{}).Read(other.Files.Over(overlay.With(other.Fsys, o.Edits)), other.Dir); err != nil {
			return false, err
		}
	}
	return changed, nil
}
