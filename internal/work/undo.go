package work

import (
	"context"
	"fmt"

	"bellwether/internal/core/model"
)

// Undo takes the last leg back, or all of them: to the commit before it, or
// where there is no git or no commit, to the files as they were. It gives the
// legs taken back.
func (p *Project) Undo(ctx context.Context, all bool) ([]string, error) {
	repo, release, err := p.begin(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	j, err := p.readJourney()
	if err != nil {
		return nil, err
	}
	if j.last() == nil {
		return nil, &model.Fault{Doing: "undoing", Wrong: "no leg has been carried out"}
	}
	var undone []string
	for l := j.last(); l != nil; l = j.last() {
		forget := func() error {
			j.Legs = j.Legs[:len(j.Legs)-1]
			return p.writeJourney(j)
		}
		switch {
		case l.Commit != "" && repo == nil:
			err = &model.Fault{Doing: "undoing leg " + l.ID, Wrong: "it was committed, but this is no git working tree now"}
		case l.Commit != "":
			err = repo.Back(ctx, l.Commit, l.Before, forget)
		default:
			if err = p.restoreLeg(l); err == nil && repo != nil {
				err = repo.Unstage(ctx, p.Root, p.reals(l.Files)) // by a commit that was refused or interrupted
			}
			if err == nil {
				err = forget()
			}
		}
		if err != nil {
			return undone, fmt.Errorf("undoing leg %s: %w", l.ID, err)
		}
		undone = append(undone, l.ID)
		if !all {
			break
		}
	}
	return undone, nil
}
