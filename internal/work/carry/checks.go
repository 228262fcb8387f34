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
		branch, err := a.newBranch(ctx)
		if err != nil {
			return err
		}
		a.journey.From, a.journey.Branch = a.repo.Branch(ctx), branch
		if err := a.kept.WriteJourney(a.journey); err != nil {
			return err
		}
	}
	if a.repo.Branch(ctx) == a.journey.Branch {
		return nil
	}
	return a.repo.Switch(ctx, a.journey.Branch)
}

// newBranch is the branch that a journey begins on: the one that was asked for, or one named for the time. Neither is at another
// commit than what is checked out: the leg was made for that.
func (a *advance) newBranch(ctx context.Context) (string, error) {
	head, err := a.repo.Head(ctx)
	if err != nil {
		return "", err
	}
	free := func(branch string) bool { return slices.Contains([]string{"", head}, a.repo.Tip(ctx, branch)) }
	if branch := a.opt.Branch; branch != "" {
		if !free(branch) {
			return "", &model.Fault{
				Doing: "advancing", Wrong: fmt.Sprintf("the branch %s is there already, at another commit than what is checked out", branch),
				Next: "name another with --branch, or git switch " + branch + " and compute the route there",
			}
		}
		return branch, nil
	}
	named := "bellwether/" + a.desk.Clock.Format("2006-01-02-1504")
	branch := named
	for n := 2; !free(branch); n++ {
		branch = fmt.Sprintf("%s-%d", named, n)
	}
	return branch, nil
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
