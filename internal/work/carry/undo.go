package carry

import (
	"context"
	"errors"
	"fmt"

	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
	"bellwether/internal/host/git"
	"bellwether/internal/work/kept"
)

// Undo takes the last leg back, or all of them: to the commit before it, or
// where there is no git or no commit, to the files as they were. It tells what was
// taken back.
func Undo(ctx context.Context, k *kept.Store, all bool) ([]string, error) {
	repo, release, err := k.Begin(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	j, err := k.Journey()
	if err != nil {
		return nil, err
	}
	if j.Last() == nil {
		return nil, &model.Fault{Doing: "undoing", Wrong: "no leg has been carried out"}
	}
	var undone []string
	for l := j.Last(); l != nil; l = j.Last() {
		forget := func() error {
			j.Drop()
			return errors.Join(k.ForgetLeg(l.ID), k.WriteJourney(j))
		}
		if l.Aside && repo != nil {
			if head, err := repo.Head(ctx); err == nil && head != l.Before {
				// It is part of the person's own commits by now, but for what no commit has.
				back, err := k.RestoreIgnored(ctx, repo, l)
				if err = errors.Join(err, forget()); err != nil {
					return undone, err
				}
				if len(back) > 0 {
					undone = append(undone, l.ID+" ("+spelling.Few(back, 3)+" back in place)")
				}
				continue
			}
		}
		switch {
		case l.Commit != "" && repo == nil:
			err = &model.Fault{Doing: "undoing leg " + l.ID, Wrong: "it was committed, but this is no git working tree now"}
		case l.Commit != "":
			err = repo.Back(ctx, l.Commit, l.Before, func() error {
				_, err := k.RestoreIgnored(ctx, repo, l)
				return errors.Join(err, forget())
			})
		default:
			if err = sameCommit(ctx, repo, l); err == nil {
				err = k.Restore(l)
			}
			if err == nil && repo != nil {
				err = k.Unstage(ctx, repo, l) // by a commit that was refused or interrupted
			}
			if err == nil {
				err = forget()
			}
		}
		if err != nil {
			return undone, fmt.Errorf("undoing leg %s: %w", l.ID, err)
		}
		if l.Aside {
			undone = append(undone, l.ID)
		} else {
			undone = append(undone, "leg "+l.ID)
		}
		if !all {
			break
		}
	}
	if repo != nil && j.Last() == nil && j.From != "" && j.From != j.Branch && repo.Branch(ctx) == j.Branch {
		if err := repo.Switch(ctx, j.From); err != nil {
			return undone, fmt.Errorf("going back to the branch %s: %w", j.From, err)
		}
		j.Branch, j.From = "", ""
		return undone, k.WriteJourney(j)
	}
	return undone, nil
}

// sameCommit refuses to put files back where commits were made since the leg began: they
// hold what is to be taken back.
func sameCommit(ctx context.Context, repo *git.Repo, l *kept.LegRecord) error {
	if repo == nil || l.Before == "" {
		return nil
	}
	head, err := repo.Head(ctx)
	if err != nil || head == l.Before {
		return err
	}
	return &model.Fault{
		Doing: "putting its files back", Wrong: fmt.Sprintf("something was committed since the leg began (%.10s, and it was "+
			"%.10s)", head, l.Before),
		Next: fmt.Sprintf("take your own commits back first (git reset --keep %.10s), or keep them and compute the route again", l.Before),
	}
}
