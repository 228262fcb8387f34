package kept

import (
	"context"
	"errors"
	"fmt"

	"bellwether/internal/core/model"
	"bellwether/internal/host/git"
	"bellwether/internal/host/keep"
)

// Hold takes the project for this call alone.
func (s *Store) Hold(ctx context.Context) (release func(), err error) {
	if err := s.prepare(); err != nil {
		return nil, err
	}
	if release, err = s.keep.Hold(); err != nil {
		return nil, err
	}
	mended, err := s.mend(ctx)
	if err == nil && mended != "" {
		err = &model.Fault{
			Doing: "starting", Wrong: "another call was interrupted just now " + mended,
			Next: "run the command again (bellwether status shows where you are)",
		}
	}
	if err != nil {
		release()
		return nil, err
	}
	return release, nil
}

// Begin takes the project for this call alone, and finds its repository (nil for
// none).
func (s *Store) Begin(ctx context.Context) (repo *git.Repo, release func(), err error) {
	if release, err = s.Hold(ctx); err != nil {
		return nil, nil, err
	}
	if repo, err = s.Repo(ctx); err != nil {
		release()
		return nil, nil, err
	}
	return repo, release, nil
}

// Recover puts right what an interrupted call left half done, so that whatever is read
// is whole, and removes its scratches. While another call is at work, they are that
// one's. Mended tells what the interrupted call was at, "" for none.
func (s *Store) Recover(ctx context.Context) (mended string, err error) {
	if names := s.keep.Foreign(); len(names) > 0 {
		s.say(fmt.Sprintf("%s is not acted on: this machine did not write it for this checkout (%s); "+
			"bellwether status --adopt makes it count, if it is yours", Dir, shortly(names)))
	}
	if !s.keep.GitNote().Exists() && !s.journal().Unfinished() && !s.Scratches(nil).Leftovers() {
		return "", nil
	}
	if !s.keep.Owned() {
		return "", s.Scratches(nil).DropLeftovers()
	}
	release, err := s.keep.Hold()
	if err != nil {
		return "", nil
	}
	defer release()
	if mended, err = s.mend(ctx); err != nil {
		return "", fmt.Errorf("putting right what an interrupted call left: %w", err)
	}
	return mended, s.Scratches(nil).DropLeftovers()
}

// mend finishes a set of writes that an interrupted call left half done, and puts right
// what a git left that was killed with it. It tells what the call was at, "" for none.
func (s *Store) mend(ctx context.Context) (was string, err error) {
	finished, err := s.journal().Recover()
	if errors.Is(err, keep.ErrForeign) {
		err = foreign("journal")
	}
	if err != nil {
		return "", err
	}
	if len(finished) > 0 {
		was = "while it wrote files; they are written now: " + shortly(finished)
	}
	if !s.keep.GitNote().Exists() {
		return was, nil
	}
	repo, err := s.OpenRepo(ctx)
	if repo == nil || err != nil {
		return was, err
	}
	err = repo.Mend(ctx, func(m git.Mended) error {
		j, err := s.Journey()
		if err != nil {
			return err
		}
		l := j.Last()
		switch {
		case m.Back && !m.Done:
			was = "while it took a leg back; the leg is whole again"
		case m.Back:
			was = "while it took a leg back; that is done now"
			if l != nil && l.Commit == m.From {
				j.Legs = j.Legs[:len(j.Legs)-1]
			}
		case m.Commit != "" && l != nil && l.Before == m.From:
			was = "while it committed leg " + l.ID + "; that is done now"
			l.Status, l.Commit = Done, m.Commit
		default:
			was = "while git was at work for it; what that left is put right"
		}
		return s.WriteJourney(j)
	})
	if errors.Is(err, keep.ErrForeign) {
		err = foreign("git.json")
	}
	return was, err
}
