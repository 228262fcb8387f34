// Package verify builds and tests a project from clean, in a scratch checkout.
package verify

import (
	"context"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/git"
	"bellwether/internal/host/scratch"
	"bellwether/internal/host/within"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/tree"
)

// Job is a verification that is to be made.
type Job struct {
	Desk  *desk.Desk
	Tree  *tree.Tree // the project as it lies on disk
	Kept  *kept.Store
	Repo  *git.Repo        // nil for none
	Edits []model.FileEdit // that are made first
	Label string           // of its logs, and of what is told of its progress
	// Before is what failures are compared with: a test that fails as it did then is
	// not run once more.
	Before *finding.Verification
	// Until is the last stage that matters, "" for all; Only are the components that
	// matter, nil for all.
	Until string
	Only  map[string]bool
	// Whole verifies every component, also those that were verified before as they are now.
	Whole bool
}

// Run runs all stages of the components that matter. Files that stages wrote anew,
// and that belong to the project, come back as edits.
func (j Job) Run(ctx context.Context) (*finding.Verification, []model.FileEdit, error) {
	var parts []*tree.Part
	for _, part := range j.Tree.Parts {
		if j.Only == nil || j.Only[part.ID] {
			parts = append(parts, part)
		}
	}
	if j.Desk.Settings.AtOnce <= 1 || len(parts) <= 1 {
		return j.in(ctx, parts)
	}
	// Each component has a scratch of its own, so that what one writes is not there
	// for another by chance.
	verified := make([]*finding.Verification, len(parts))
	edits := make([][]model.FileEdit, len(parts))
	group, each := errgroup.WithContext(ctx)
	group.SetLimit(j.Desk.Settings.AtOnce)
	for i, part := range parts {
		group.Go(func() (err error) {
			verified[i], edits[i], err = j.in(each, []*tree.Part{part})
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, nil, err
	}
	whole := verified[0]
	for _, v := range verified[1:] {
		whole.Stages, whole.Effect = append(whole.Stages, v.Stages...), append(whole.Effect, v.Effect...)
		whole.Runtimes = append(whole.Runtimes, v.Runtimes...)
	}
	return whole, lastOf(slices.Concat(edits...)), nil
}

// lastOf are edits with one for each file: several components may write the same, each
// on what the one before it wrote.
func lastOf(edits []model.FileEdit) (last []model.FileEdit) {
	for i, e := range edits {
		if !slices.ContainsFunc(edits[i+1:], func(o model.FileEdit) bool { return o.File == e.File }) {
			last = append(last, e)
		}
	}
	return last
}

// in verifies components one after the other in a scratch.
func (j Job) in(ctx context.Context, parts []*tree.Part) (*finding.Verification, []model.FileEdit, error) {
	s, err := j.Kept.Scratches(j.Repo).New(ctx, j.Edits)
	if err != nil {
		return nil, nil, err
	}
	defer drop(j.Desk, s)
	files, err := s.Files()
	if err != nil {
		return nil, nil, err
	}
	key := contentKey(j.Desk, j.Tree, files)
	if err := s.Watch(ctx, files); err != nil {
		return nil, nil, err
	}
	v := &finding.Verification{Key: key, At: j.Desk.Clock, Tools: tools(ctx, j.Desk, j.Tree)}
	after, err := j.Tree.With(j.Edits)
	if err != nil {
		return nil, nil, err
	}
	var refreshed []model.FileEdit
	for _, part := range parts {
		if is := after.Part(part.ID); is != nil {
			part = is
		}
		with, err := runWith(ctx, j.Desk, after, part)
		if err != nil {
			return nil, nil, err
		}
		v.Runtimes = append(v.Runtimes, with.runtimes...)
		partKey := j.partKey(ctx, part, with, files)
		if known := j.known(partKey); known != nil {
			j.Desk.Tell(desk.Event{Text: part.ID, Done: true, Good: true, Note: "nothing that it reads has changed since " + known.Since()})
			v.Stages, v.Effect = append(v.Stages, known.Again()...), append(v.Effect, known.Effect...)
			continue
		}
		stages, effects := len(v.Stages), len(v.Effect)
		edits, err := j.part(ctx, s, v, part, with)
		if err != nil {
			return nil, nil, err
		}
		refreshed = append(refreshed, edits...)
		if err := j.remember(partKey, v.Stages[stages:], v.Effect[effects:]); err != nil {
			return nil, nil, err
		}
	}
	return v, lastOf(refreshed), nil
}

// part runs the stages of a component.
func (j Job) part(
	ctx context.Context, s *scratch.Scratch, v *finding.Verification, part *tree.Part, with *running,
) (refreshed []model.FileEdit, err error) {
	failed := false
	for _, stage := range Stages(j.Desk, j.Tree, part) {
		st := &stageRun{desk: j.Desk, kept: j.Kept, scratch: s, part: part, stage: stage, with: with, label: j.Label}
		result, err := st.run(ctx, failed)
		if err != nil {
			return nil, err
		}
		if st.hasTests(result) && result.Status == finding.Failed && finding.NewlyRed(j.Before, result) {
			if result, err = st.again(ctx, result); err != nil {
				return nil, err
			}
		}
		if note := j.untested(part, result); note != "" {
			result.Notes = append(result.Notes, note)
		}
		failed = failed || result.Red()
		v.Stages, v.Effect = append(v.Stages, result), append(v.Effect, st.effect...)
		if stage.Name == j.Until {
			break
		}
		if result.Status != finding.Passed {
			continue
		}
		if stage.Name == "fetch" {
			effect, err := installed(s, part)
			if err != nil {
				return nil, err
			}
			v.Effect = append(v.Effect, effect...)
		}
		for _, folder := range stage.Refreshes {
			edits, err := s.Changed(j.Desk.Root, folder)
			if err != nil {
				return nil, fmt.Errorf("taking back what the stage %s wrote: %w", stage.Name, err)
			}
			refreshed = append(refreshed, edits...)
		}
	}
	return refreshed, nil
}

// installed are the versions of a component's requirements in the tree that the
// fetch stage installed.
func installed(s *scratch.Scratch, part *tree.Part) (all []finding.Effect, err error) {
	eco, ok := part.Eco.(ecosystem.Installer)
	if !ok {
		return nil, nil
	}
	files, err := within.Open(s.Dir, nil)
	if err != nil {
		return nil, err
	}
	defer files.Close()
	versions, err := eco.Installed(files, part.Component)
	if err != nil {
		return nil, fmt.Errorf("looking at what is installed: %w", err)
	}
	for name, version := range versions {
		all = append(all, finding.Effect{Component: part.ID, Name: name, Version: version, Where: "as it is installed"})
	}
	slices.SortFunc(all, finding.Effect.Compare)
	return all, nil
}

// tools are the versions of the programs that a verification depends on.
func tools(ctx context.Context, d *desk.Desk, t *tree.Tree) map[string]string {
	tools := map[string]string{}
	for _, part := range t.Parts {
		for _, command := range part.Eco.Tools() {
			if _, known := tools[command[0]]; known {
				continue
			}
			out, err := d.Ask(ctx, command...)
			if err != nil {
				out = "missing"
			}
			tools[command[0]] = out
		}
	}
	return tools
}
