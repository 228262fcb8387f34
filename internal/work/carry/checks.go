package carry

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/work/kept"
)

func (a *advance) checkClean(ctx context.Context) (err error) {
	a.unknown, err = kept.CheckClean(ctx, a.repo, "advancing", "so that a leg's commit holds the leg and nothing else")
	return err
}

// checkUnknown refuses a leg that writes a file which is there and which git does not know.
func (a *advance) checkUnknown(ctx context.Context, moved *movedLeg) error {
	if len(a.unknown) == 0 {
		return nil
	}
	paths, err := a.paths(ctx, moved.edits)
	if err != nil {
		return err
	}
	for _, p := range paths {
		if slices.Contains(a.unknown, p) {
			return &model.Fault{
				Doing: "advancing to leg " + a.leg.ID, File: p, Wrong: "the leg writes it, and git does not know it yet",
				Next: "commit it first (git add " + p + "), or move it away",
			}
		}
	}
	return nil
}

// checkout goes to the journey's branch, and makes it for the first leg.
func (a *advance) checkout(ctx context.Context) error {
	if a.repo == nil {
		return nil
	}
	if a.journey.Branch == "" {
		a.journey.From = a.repo.Branch(ctx)
		a.journey.Branch = a.opt.Branch
		if a.journey.Branch == "" {
			a.journey.Branch = "bellwether/" + a.desk.Clock.Format("2006-01-02-1504")
		}
		if err := a.kept.WriteJourney(a.journey); err != nil {
			return err
		}
	}
	if a.repo.Branch(ctx) == a.journey.Branch {
		return nil
	}
	return a.repo.Switch(ctx, a.journey.Branch)
}

// checkBranch refuses to go on with a route on another branch than the one it
// was begun on.
func (a *advance) checkBranch(ctx context.Context) error {
	if a.repo == nil || !a.journey.Moved() {
		return nil
	}
	branch := a.repo.Branch(ctx)
	if branch == a.journey.Branch {
		return nil
	}
	return &model.Fault{
		Doing: "advancing", Wrong: fmt.Sprintf("the route is being carried out on the branch %s, but %s is checked "+
			"out", a.journey.Branch, cmp.Or(branch, "a single commit")),
		Next: "git switch " + a.journey.Branch,
	}
}
