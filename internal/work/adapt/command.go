package adapt

import (
	"context"
	"fmt"
	"path"
	"path/filepath"
	"time"

	"bellwether/internal/core/model"
	"bellwether/internal/core/rewrite"
	"bellwether/internal/host/run"
	"bellwether/internal/host/scratch"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/verify"
)

// logLimit bounds what is kept of what a command prints, in bytes.
const logLimit = 16 << 20

// runs fetches the packages of the component that a rule is for, and runs its command there.
func (j *job) runs(ctx context.Context, s *scratch.Scratch, r *rewrite.Rule, b *rewrite.Command) (err error) {
	file, err := j.kept.CreateLog(logOf(r))
	if err != nil {
		return fmt.Errorf("writing the log of a rule: %w", err)
	}
	log := run.NewLog(file, logLimit)
	defer func() {
		if cerr := log.Close(); err == nil {
			err = cerr
		}
	}()
	dir := "."
	for _, part := range j.tree.Parts {
		if r.Within == nil || !r.Within(part.Manifest) {
			continue
		}
		dir = part.Dir
		for _, stage := range verify.Stages(j.desk, j.tree, part) {
			if stage.Name == "fetch" {
				if err := j.execute(ctx, s, r, path.Join(dir, stage.Dir), stage.Command, stage.Env, 10*time.Minute, log); err != nil {
					return err
				}
			}
		}
		break
	}
	return j.execute(ctx, s, r, dir, b.Run, nil, time.Duration(b.Minutes)*time.Minute, log)
}

func (j *job) execute(
	ctx context.Context, s *scratch.Scratch, r *rewrite.Rule, dir string, command, env []string, timeout time.Duration, log *run.Log,
) error {
	title := "rule " + r.ID + ": " + command[0]
	j.desk.Tell(desk.Event{Text: title})
	end, err := run.Run(ctx, run.Command{
		Dir: filepath.Join(
			s.Dir,
			filepath.FromSlash(dir),
		), Args: command, Env: append(s.Env(), env...), Timeout: timeout, Log: log, Owner: s.Name(),
	})
	j.desk.Tell(desk.Event{Text: title, Done: true, Good: err == nil && end.Exit == 0, Note: end.Duration.Round(time.Millisecond).String()})
	fault := &model.Fault{Doing: "applying the rule " + r.ID, File: r.Place, Next: "see " + path.Join(kept.Dir, logOf(r)), Found: true}
	switch {
	case err != nil:
		return err
	case end.TimedOut:
		fault.Wrong = fmt.Sprintf("%s was not done after %s", command[0], timeout)
		return fault
	case end.Exit != 0:
		fault.Wrong = fmt.Sprintf("%s ended with exit status %d, and nothing of it counts", command[0], end.Exit)
		return fault
	}
	return nil
}
