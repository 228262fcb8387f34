// Package carry carries legs out, takes them back, and tells where a project is on its route.
package carry

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/host/git"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/hints"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/verify"
)

// Options say how legs are carried out.
type Options struct {
	FromRed bool   // go on although the baseline fails, and compare with it
	Branch  string // to commit to; empty for a name made from the date
	Whole   bool   // verify every component, also those in which nothing changed
	// Unverified lets legs be carried out although what runs here cannot show that they work.
	Unverified bool
	// Commands are rules whose command may run, SkipRules those that are not applied.
	Commands, SkipRules []string
}

// ErrArrived means that there is no leg left.
var ErrArrived = errors.New("the route is complete")

// Advance carries the next leg out: it writes manifests and lock, verifies
// from clean, compares with the baseline, and commits. A leg that makes
// something worse is left in the tree for the person to repair; the next call
// verifies it again.
func Advance(ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store, opt Options) (*finding.LegResult, error) {
	repo, release, err := k.Begin(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	file, err := k.Route(ctx, t)
	if err != nil {
		return nil, err
	}
	if file == nil {
		return nil, &model.Fault{
			Doing: "advancing", Wrong: "there is no route yet", Next: "compute one with bellwether route --to NAME@RANGE or --reach minor",
		}
	}
	asOf, err := file.Time()
	if err != nil {
		return nil, err
	}
	j, err := k.Journey()
	if err != nil {
		return nil, err
	}
	a := &advance{desk: d.As(asOf, file.Preview), tree: t, kept: k, opt: opt, repo: repo, file: file, journey: j}
	if a.leg, err = a.passSteps(ctx); err != nil {
		return nil, err
	}
	if a.leg == nil {
		return nil, ErrArrived
	}
	return a.carryOut(ctx)
}

type advance struct {
	desk    *desk.Desk
	tree    *tree.Tree
	kept    *kept.Store
	opt     Options
	repo    *git.Repo // nil for none
	file    *kept.Route
	journey *kept.Journey
	leg     *model.Leg
	unknown []string // paths that git does not know, which no leg touches
}

// last tells whether no leg comes after this one: then everything is verified once more.
func (a *advance) last() bool { return a.file.Legs[len(a.file.Legs)-1].ID == a.leg.ID }

// job is a verification of the leg.
func (a *advance) job(edits []model.FileEdit, before *finding.Verification) verify.Job {
	return verify.Job{
		Desk: a.desk, Tree: a.tree, Kept: a.kept, Repo: a.repo, Edits: edits, Label: a.leg.ID, Before: before,
		Whole: a.opt.Whole || a.last(),
	}
}

func (a *advance) carryOut(ctx context.Context) (*finding.LegResult, error) {
	if err := a.checkBranch(ctx); err != nil {
		return nil, err
	}
	record := a.journey.Find(a.leg.ID)
	if record != nil && record.Status == kept.Begun && a.kept.Unwritten(record) {
		// An earlier call was killed before it wrote anything.
		a.journey.Legs = slices.DeleteFunc(a.journey.Legs, func(l *kept.LegRecord) bool { return l == record })
		record = nil
	}
	if record != nil {
		return a.repaired(ctx, record)
	}
	if err := a.checkClean(ctx); err != nil {
		return nil, err
	}
	baseline, err := a.ensureBaseline(ctx)
	if err != nil {
		return nil, err
	}
	moved, err := a.solve(ctx)
	if err != nil {
		return nil, err
	}
	if err := a.checkUnknown(ctx, moved); err != nil {
		return nil, err
	}
	if err := a.runnable(ctx, moved); err != nil {
		return nil, err
	}
	if err := a.checkout(ctx); err != nil {
		return nil, err
	}
	v, refreshed, err := a.job(moved.edits, baseline).Run(ctx)
	if err != nil {
		return nil, err
	}
	moved.edits = append(moved.edits, refreshed...)
	for _, s := range v.Stages {
		// Without its packages nothing can be verified, and there is nothing
		// that a person could repair in the sources: the tree stays as it is.
		if s.Name == "fetch" && s.Red() {
			return nil, &FailedStage{
				Stage: s, What: fmt.Sprintf("leg %s cannot be fetched, and the tree stays as it was", a.leg.ID),
				Next: "see what the package client says",
			}
		}
	}
	result := &finding.LegResult{Leg: output.OfLeg(moved.leg), Verification: v, Comparison: finding.Compare(baseline, v)}
	record = &kept.LegRecord{ID: a.leg.ID, Title: a.leg.Title, Status: kept.Begun, Unknown: a.unknown}
	if a.repo != nil {
		if record.Before, err = a.repo.Head(ctx); err != nil {
			return nil, err
		}
	}
	if err := a.kept.KeepOld(record, moved.edits); err != nil {
		return nil, err
	}
	a.journey.Legs = append(a.journey.Legs, record)
	if err := a.kept.WriteJourney(a.journey); err != nil {
		return nil, err
	}
	if err := a.kept.Write(moved.edits); err != nil {
		a.journey.Drop()
		return nil, errors.Join(err, a.kept.WriteJourney(a.journey))
	}
	record.Status = kept.Repair
	if err := a.kept.WriteJourney(a.journey); err != nil {
		return nil, err
	}
	paths, err := a.paths(ctx, moved.edits)
	if err != nil {
		return nil, err
	}
	return result, a.finish(ctx, record, result, paths)
}

// repaired verifies a leg that the person has worked on.
func (a *advance) repaired(ctx context.Context, record *kept.LegRecord) (*finding.LegResult, error) {
	baseline := a.kept.Baseline()
	if baseline == nil {
		baseline = &finding.Verification{}
	}
	v, refreshed, err := a.job(nil, baseline).Run(ctx)
	if err != nil {
		return nil, err
	}
	leg := model.Leg{ID: a.leg.ID, Title: a.leg.Title, Component: a.leg.Component, Moves: a.leg.Moves}
	result := &finding.LegResult{Leg: output.OfLeg(leg), Verification: v, Comparison: finding.Compare(baseline, v)}
	if len(refreshed) > 0 {
		if err := a.kept.Write(refreshed); err != nil {
			return nil, err
		}
	}
	var paths []string
	if a.repo != nil {
		changes, err := a.repo.Changes(ctx)
		if err != nil {
			return nil, err
		}
		for _, c := range changes {
			if !c.Unknown() || !slices.Contains(record.Unknown, c.Path) {
				paths = append(paths, c.Path)
			}
		}
	}
	return result, a.finish(ctx, record, result, paths)
}

// finish commits a leg that is no worse than the baseline.
func (a *advance) finish(ctx context.Context, record *kept.LegRecord, result *finding.LegResult, paths []string) (err error) {
	result.Left = a.left(record)
	if err := a.kept.KeepResult(record.ID, result.Verification); err != nil {
		return err
	}
	stale, err := a.staleLocks(result.Verification, paths)
	if err != nil {
		return err
	}
	result.Comparison.BrokenStages = append(result.Comparison.BrokenStages, stale...)
	result.Comparison.Differences = verify.Differences(a.tree, a.file, a.journey, result.Verification)
	if result.Comparison.Worse() || !a.opt.FromRed && !result.Verification.Green() {
		result.Hints = hints.Of(ctx, a.desk, a.tree, a.kept, a.leg, &result.Comparison)
		return errors.Join(a.kept.KeepLeg(result, time.Now()), ctx.Err())
	}
	result.Leg.Unverified = a.unverified(result.Verification)
	result.Pause = len(result.Leg.Unverified) > 0 && !a.opt.Unverified &&
		!slices.ContainsFunc(a.journey.Legs, func(l *kept.LegRecord) bool { return l != record && len(l.Unverified) > 0 })
	done := func(commit string) error {
		record.Status, record.Commit, record.Unverified = kept.Done, commit, result.Leg.Unverified
		return a.kept.WriteJourney(a.journey)
	}
	if a.repo != nil && len(paths) > 0 {
		if _, err := a.repo.Commit(ctx, paths, a.message(result), done); err != nil {
			return fmt.Errorf(
				"committing leg %s: %w\n  next: the leg is verified and lies in the working tree; make the commit possible and run "+
					"bellwether advance again",
				record.ID, err,
			)
		}
	} else if err := done(record.Commit); err != nil {
		return err
	}
	result.Done, result.Commit = true, record.Commit
	result.Left = a.left(record)
	return a.kept.KeepLeg(result, time.Now())
}

func (a *advance) left(current *kept.LegRecord) int {
	n := 0
	for _, l := range a.file.Legs {
		if r := a.journey.Find(l.ID); (r == nil || r.Status != kept.Done) && l.ID != current.ID {
			n++
		}
	}
	return n
}

// paths are the edits' files as the repository names them, but for those that it is told
// to ignore.
func (a *advance) paths(ctx context.Context, edits []model.FileEdit) ([]string, error) {
	if a.repo == nil {
		return nil, nil
	}
	var files []string
	for _, e := range edits {
		files = append(files, e.File)
	}
	paths, err := a.repo.Paths(a.desk.Root, a.kept.Reals(files))
	if err != nil {
		return nil, err
	}
	ignored, err := a.repo.Ignored(ctx, a.repo.Top, paths)
	return slices.DeleteFunc(paths, func(path string) bool { return ignored[path] }), err
}
