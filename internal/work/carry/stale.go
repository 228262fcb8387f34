package carry

import (
	"fmt"
	"path"
	"slices"

	"bellwether/internal/core/finding"
)

// staleLocks are the fetch stages that left a lock behind its manifest, since the client that writes it is not installed: a commit of
// the one without the other fits nobody. A person who has brought the lock up to date is believed.
func (a *advance) staleLocks(v *finding.Verification, paths []string) (stages []finding.Stage, err error) {
	if a.repo == nil {
		return nil, nil
	}
	for _, part := range a.tree.Parts {
		for _, lock := range part.Locks {
			at := slices.IndexFunc(v.Stages, func(s finding.Stage) bool {
				return s.Component == part.ID && s.Name == "fetch" && s.Status == finding.Skipped && s.Command[0] == lock.Client
			})
			if lock.Client == "" || at < 0 {
				continue
			}
			names, err := a.repo.Paths(a.desk.Root, a.kept.Reals([]string{part.Manifest, lock.File}))
			if err != nil {
				return nil, err
			}
			if slices.Contains(paths, names[0]) && !slices.Contains(paths, names[1]) {
				stage := v.Stages[at]
				stage.Why = fmt.Sprintf(
					"%s still says what it said before, and %s, which writes it, is not installed here: bring it up to date, and run bellwether "+
						"advance again", path.Base(lock.File), lock.Client,
				)
				stages = append(stages, stage)
			}
		}
	}
	return stages, nil
}
