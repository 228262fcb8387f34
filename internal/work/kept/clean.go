package kept

import (
	"context"
	"fmt"

	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
	"bellwether/internal/host/git"
)

// CheckClean refuses a working tree with changes that are not committed; repo is nil for none.
// It gives the paths that git does not know, which do not count. Why says what it is for.
func CheckClean(ctx context.Context, repo *git.Repo, doing, why string) (unknown []string, err error) {
	if repo == nil {
		return nil, nil
	}
	middle, err := repo.InProgress(ctx)
	if err != nil {
		return nil, err
	}
	if middle != "" {
		return nil, &model.Fault{Doing: doing, Wrong: "git is in the middle of " + middle, Next: "finish it or give it up; git status tells how"}
	}
	changes, err := repo.Changes(ctx)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, c := range changes {
		if c.Unknown() {
			unknown = append(unknown, c.Path)
		} else {
			names = append(names, c.Path)
		}
	}
	if len(names) == 0 {
		return unknown, nil
	}
	return nil, &model.Fault{
		Doing: doing, Wrong: fmt.Sprintf("the working tree has changes that are not committed: %s", spelling.Few(names, 5)),
		Next: "commit them or git stash them, " + why,
	}
}
