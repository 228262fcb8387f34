package kept

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"

	"bellwether/internal/core/model"
	"bellwether/internal/host/git"
)

const declinedName = "declined.json"

// Declined are the changes of templates that a person declined, by their keys.
func (s *Store) Declined() (map[string]bool, error) {
	all := map[string]bool{}
	data, err := s.read(declinedName)
	if errors.Is(err, fs.ErrNotExist) {
		return all, nil
	}
	if err == nil {
		_ = json.Unmarshal(data, &all) // what cannot be read is asked again
	}
	return all, err
}

// Decline remembers that a change is not wanted.
func (s *Store) Decline(key string) error {
	all, err := s.Declined()
	if err != nil {
		return err
	}
	all[key] = true
	return s.writeJSON(declinedName, all)
}

// WriteAside writes edits that no leg makes, so that undo takes them back: those of a leg that
// waits for a repair with the leg, others by themselves.
func (s *Store) WriteAside(ctx context.Context, repo *git.Repo, name, title string, edits []model.FileEdit) error {
	j, err := s.Journey()
	if err != nil || len(edits) == 0 {
		return err
	}
	if l := j.Last(); l != nil && l.Status == Repair {
		if err := errors.Join(s.KeepOld(l, edits), s.WriteJourney(j)); err != nil {
			return err
		}
		return s.Write(edits)
	}
	record := &LegRecord{Title: title, Status: Done, Aside: true}
	for n := 1; record.ID == "" || j.Find(record.ID) != nil; n++ {
		record.ID = fmt.Sprintf("%s-%d", name, n)
	}
	if repo != nil {
		if record.Before, err = repo.Head(ctx); err != nil {
			return err
		}
	}
	if err := s.KeepOld(record, edits); err != nil {
		return err
	}
	j.Legs = append(j.Legs, record)
	if err := s.WriteJourney(j); err != nil {
		return err
	}
	if err := s.Write(edits); err != nil {
		j.Drop()
		return errors.Join(err, s.WriteJourney(j))
	}
	return nil
}
