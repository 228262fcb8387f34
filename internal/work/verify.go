package work

import (
	"context"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/core/overlay"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/git"
	"bellwether/internal/host/run"
	"bellwether/internal/host/scratch"
	"bellwether/internal/host/within"
)

// Verify builds and tests the project as it is, from clean, in a scratch
// checkout. Before a route is started, the result becomes the baseline.
func (p *Project) Verify(ctx context.Context) (*finding.Result, error) {
	repo, release, err := p.begin(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	j, err := p.readJourney()
	if err != nil {
		return nil, err
	}
	var before *finding.Verification
	if j.moved() {
		before = p.baseline()
	}
	v, _, err := p.verify(ctx, verifying{repo: repo, label: "verify", before: before})
	if err != nil {
		return nil, err
	}
	r := &finding.Result{Verification: v, Limit: p.Settings.Deprecations}
	if !j.moved() {
		r.IsBaseline = true
		return r, p.keepBaseline(v)
	}
	if before != nil {
		c := finding.Compare(before, v)
		if c.Differences, err = p.differences(ctx, j, v); err != nil {
			return nil, err
		}
		r.Comparison = &c
	}
	return r, nil
}

// repo is the repository that the project is in, nil for none.
func (p *Project) repo(ctx context.Context) (*git.Repo, error) {
	repo, err := p.openRepo(ctx)
	if repo == nil || err != nil {
		return nil, err
	}
	if _, err := repo.Head(ctx); err != nil {
		return nil, &model.Fault{Doing: "looking at the repository", File: p.Root, Wrong: "it has no commit yet", Next: "commit the project as it is, so that there is something to come back to"}
	}
	return repo, nil
}

// verifying is what a verification is of.
type verifying struct {
	repo  *git.Repo        // nil for none
	edits []model.FileEdit // that are made first
	label string           // of its logs, and of what is told of its progress
	// before is what failures are compared with: a test that fails as it did then is
	// not run once more.
	before *finding.Verification
	// until is the last stage that matters, "" for all; only are the components that
	// matter, nil for all.
	until string
	only  map[string]bool
}

// verify runs all stages of the components that matter. Files that stages wrote anew,
// and that belong to the project, come back as edits.
func (p *Project) verify(ctx context.Context, of verifying) (*finding.Verification, []model.FileEdit, error) {
	var parts []*Part
	for _, part := range p.Components {
		if of.only == nil || of.only[part.Dir] {
			parts = append(parts, part)
		}
	}
	if p.Settings.AtOnce <= 1 || len(parts) <= 1 {
		return p.verifyIn(ctx, of, parts)
	}
	// Each component has a scratch of its own, so that what one writes is not there
	// for another by chance.
	verified := make([]*finding.Verification, len(parts))
	edits := make([][]model.FileEdit, len(parts))
	group, each := errgroup.WithContext(ctx)
	group.SetLimit(p.Settings.AtOnce)
	for i, part := range parts {
		group.Go(func() (err error) {
			verified[i], edits[i], err = p.verifyIn(each, of, []*Part{part})
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, nil, err
	}
	whole := verified[0]
	for _, v := range verified[1:] {
		whole.Stages, whole.Effect = append(whole.Stages, v.Stages...), append(whole.Effect, v.Effect...)
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

// verifyIn verifies components one after the other in a scratch.
func (p *Project) verifyIn(ctx context.Context, of verifying, parts []*Part) (*finding.Verification, []model.FileEdit, error) {
	s, err := p.scratches(of.repo).New(ctx, of.edits)
	if err != nil {
		return nil, nil, err
	}
	defer p.drop(s)
	files, err := s.Files()
	if err != nil {
		return nil, nil, err
	}
	key := p.contentKey(files)
	if err := s.Watch(ctx, files); err != nil {
		return nil, nil, err
	}
	v := &finding.Verification{Key: key, At: p.clock, Tools: p.tools(ctx)}
	var refreshed []model.FileEdit
	for _, part := range parts {
		edits, err := p.verifyPart(ctx, of, s, v, part)
		if err != nil {
			return nil, nil, err
		}
		refreshed = append(refreshed, edits...)
	}
	return v, lastOf(refreshed), nil
}

// verifyPart runs the stages of a component.
func (p *Project) verifyPart(ctx context.Context, of verifying, s *scratch.Scratch, v *finding.Verification, part *Part) (refreshed []model.FileEdit, err error) {
	if len(of.edits) > 0 {
		if part, err = part.after(overlay.With(p.fsys, of.edits)); err != nil {
			return nil, err
		}
	}
	failed := false
	for _, stage := range p.stages(part) {
		st := &stageRun{Project: p, scratch: s, part: part, stage: stage, label: of.label}
		result, err := st.run(ctx, failed)
		if err != nil {
			return nil, err
		}
		if st.hasTests(result) && result.Status == finding.Failed && finding.NewlyRed(of.before, result) {
			if result, err = st.again(ctx, result); err != nil {
				return nil, err
			}
		}
		failed = failed || result.Red()
		v.Stages, v.Effect = append(v.Stages, result), append(v.Effect, st.effect...)
		if stage.Name == of.until {
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
			edits, err := s.Changed(p.Root, folder)
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
func installed(s *scratch.Scratch, part *Part) (all []finding.Effect, err error) {
	eco, ok := part.eco.(ecosystem.Installer)
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
		all = append(all, finding.Effect{Component: part.Dir, Name: name, Version: version, Where: "as it is installed"})
	}
	slices.SortFunc(all, finding.Effect.Compare)
	return all, nil
}

func (p *Project) tools(ctx context.Context) map[string]string {
	tools := map[string]string{}
	for _, part := range p.Components {
		for _, command := range part.eco.Tools() {
			if _, known := tools[command[0]]; known {
				continue
			}
			out, err := run.Output(ctx, command...)
			if err != nil {
				out = "missing"
			}
			tools[command[0]] = out
		}
	}
	return tools
}
