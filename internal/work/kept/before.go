package kept

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/host/git"
	"bellwether/internal/host/keep"
)

func (s *Store) journal() *keep.Journal { return s.keep.Journal(s.files) }

// Write writes files of the project, all or none.
func (s *Store) Write(edits []model.FileEdit) error { return s.journal().Write(edits) }

// before is where the old bytes of one of a leg's files are kept.
func (l *LegRecord) before(i int) string { return fmt.Sprintf("before/%s/%03d", l.ID, i) }

// KeepOld keeps the old bytes of a leg's files for undo, of each the first ones.
func (s *Store) KeepOld(l *LegRecord, edits []model.FileEdit) error {
	for _, e := range edits {
		if slices.Contains(l.Files, e.File) {
			continue
		}
		i := len(l.Files)
		l.Files = append(l.Files, e.File)
		if e.Old == nil {
			l.Fresh, l.Sums = append(l.Fresh, e.File), append(l.Sums, "")
			continue
		}
		l.Sums = append(l.Sums, sumOf(e.Old))
		if err := s.keep.WriteText(l.before(i), e.Old); err != nil {
			return err
		}
	}
	return nil
}

func sumOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// old gives the old bytes of one of a leg's files.
func (s *Store) old(l *LegRecord, i int) ([]byte, error) {
	data, err := s.keep.ReadText(l.before(i))
	if err == nil && (i >= len(l.Sums) || sumOf(data) != l.Sums[i]) {
		err = foreign(l.before(i))
	}
	if err != nil {
		return nil, fmt.Errorf("reading what %s was before: %w", l.Files[i], err)
	}
	return data, nil
}

// Unwritten tells whether a leg's files are still as they were before it.
func (s *Store) Unwritten(l *LegRecord) bool {
	for i, f := range l.Files {
		now, err := s.files.ReadFile(f)
		if slices.Contains(l.Fresh, f) {
			if err == nil {
				return false
			}
			continue
		}
		before, berr := s.old(l, i)
		if err != nil || berr != nil || !bytes.Equal(now, before) {
			return false
		}
	}
	return true
}

// Restore puts the old bytes of a leg's files back.
func (s *Store) Restore(l *LegRecord) error {
	edits, err := s.Restoring(l)
	if err != nil {
		return err
	}
	return s.journal().Restore(edits)
}

// Restoring are the edits that put the old bytes of a leg's files back.
func (s *Store) Restoring(l *LegRecord) (edits []model.FileEdit, err error) {
	for i, f := range l.Files {
		now, err := s.files.ReadFile(f)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		e := model.FileEdit{File: f, Old: now, Kept: slices.Contains([]string{BridgesFile, ToDosFile}, f)}
		if !slices.Contains(l.Fresh, f) {
			if e.New, err = s.old(l, i); err != nil {
				return nil, err
			}
		}
		if e.Old != nil || e.New != nil {
			edits = append(edits, e)
		}
	}
	return edits, nil
}

// RestoreIgnored puts back what a leg removed although no commit has it, files that git ignores,
// and gives their names.
func (s *Store) RestoreIgnored(ctx context.Context, repo *git.Repo, l *LegRecord) (back []string, err error) {
	edits, err := s.Restoring(l)
	if err != nil {
		return nil, err
	}
	edits = slices.DeleteFunc(edits, func(e model.FileEdit) bool { return e.Old != nil })
	for _, e := range edits {
		back = append(back, e.File)
	}
	ignored, err := repo.Ignored(ctx, s.root, back)
	if err != nil {
		return nil, err
	}
	back = slices.DeleteFunc(back, func(name string) bool { return !ignored[name] })
	edits = slices.DeleteFunc(edits, func(e model.FileEdit) bool { return !ignored[e.File] })
	return back, s.journal().Restore(edits)
}

// Unstage lets version control forget a leg's files that a commit took up which was refused
// or interrupted.
func (s *Store) Unstage(ctx context.Context, repo *git.Repo, l *LegRecord) error {
	return repo.Unstage(ctx, s.root, s.Reals(l.Files))
}
