package keep

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"

	"bellwether/internal/core/model"
	"bellwether/internal/core/reserved"
	"bellwether/internal/host/within"
)

// Journal changes files of the project so that nothing is ever half done: a set of
// writes is journalled, and either all of it happens or nothing. A file that is a link
// within the project is changed where it leads.
type Journal struct {
	keep    *Keep
	project *within.Folder
}

// Journal is the project's.
func (k *Keep) Journal(project *within.Folder) *Journal { return &Journal{k, project} }

// set is the journal's list of a set of writes. It is written last, so that a set with a
// record is complete and can be finished; one without never began.
type set struct {
	Files []recorded `json:"files"`
}

type recorded struct {
	File   string      `json:"file"`   // relative to the project, no link
	Before string      `json:"before"` // SHA-256 of the old bytes, "" for a file that was not there
	After  string      `json:"after"`  // SHA-256 of the new bytes, "" for a file that goes away
	Mode   fs.FileMode `json:"mode"`
}

const (
	journal = "journal"
	record  = journal + "/record.json"
)

func newFile(i int) string { return at(fmt.Sprintf("%s/%03d", journal, i)) }

// Write makes all edits or none. It refuses if a file does not hold the old
// bytes that its edit was made for.
func (j *Journal) Write(edits []model.FileEdit) error { return j.write(edits, true) }

// Restore is Write for files that were there before, whatever stands beside them.
func (j *Journal) Restore(edits []model.FileEdit) error { return j.write(edits, false) }

func (j *Journal) write(edits []model.FileEdit, fresh bool) error {
	if len(edits) == 0 {
		return nil
	}
	r := set{}
	for _, e := range edits {
		name, err := j.real(e)
		if err != nil {
			return err
		}
		mode := fs.FileMode(0o644)
		if info, err := j.project.Stat(name); err == nil {
			mode = info.Mode().Perm()
		}
		found, err := j.project.ReadFile(name)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if sum(found, err == nil) != sum(e.Old, e.Old != nil) {
			return &model.Fault{Doing: "writing", File: e.File, Wrong: "the file has changed since it was read", Next: "run the command again"}
		}
		r.Files = append(r.Files, recorded{name, sum(e.Old, e.Old != nil), sum(e.New, e.New != nil), mode})
	}
	if fresh {
		if err := j.distinct(edits, r); err != nil {
			return err
		}
	}
	if err := j.keep.files.MakeFolder(at(journal)); err != nil {
		return unwritable(err)
	}
	for i, e := range edits {
		if e.New == nil {
			continue
		}
		if err := j.keep.files.Write(newFile(i), e.New, r.Files[i].Mode); err != nil {
			return errors.Join(unwritable(err), j.drop())
		}
	}
	data, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	if err := j.probe(r); err != nil {
		return errors.Join(err, j.drop())
	}
	if err := j.keep.Write(record, data); err != nil {
		return errors.Join(unwritable(err), j.drop())
	}
	_, err = j.Recover()
	return err
}

// real is where a file of the project lies, whatever links lead there. Of what is kept, only the
// program's own edits of what a project shares are let through.
func (j *Journal) real(e model.FileEdit) (string, error) {
	if e.Kept && (e.File == at(Bridges) || e.File == at(ToDos)) {
		return e.File, nil
	}
	name, err := j.project.Real(e.File)
	if err == nil && reserved.Of(name) == reserved.Bellwether {
		err = &fs.PathError{Op: "write", Path: name, Err: within.ErrKept}
	}
	if err != nil {
		return "", &model.Fault{Doing: "writing", File: e.File, Wrong: model.Reason(err), Next: "name a file of the project itself", Cause: err}
	}
	return name, nil
}

// files are those that a recorded file is written among.
func (j *Journal) files(f recorded) *within.Folder {
	if reserved.Of(f.File) == reserved.Bellwether {
		return j.keep.files
	}
	return j.project.WithoutLinks()
}

// distinct refuses new files whose names some system takes for those of other files.
func (j *Journal) distinct(edits []model.FileEdit, r set) error {
	going := map[string]bool{}
	for i, e := range edits {
		going[r.Files[i].File] = e.New == nil
	}
	spelled := map[string]string{}  // by its key, how a name is spelled
	listed := map[string]struct{}{} // the folders whose names are in spelled
	for i, e := range edits {
		name := r.Files[i].File
		if e.Old != nil || e.New == nil {
			continue
		}
		for dir := path.Dir(name); ; dir = path.Dir(dir) {
			if _, known := listed[dir]; known {
				break
			}
			listed[dir] = struct{}{}
			entries, err := j.project.ReadDir(dir)
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			for _, entry := range entries {
				if there := path.Join(dir, entry.Name()); !going[there] {
					spelled[reserved.Key(there)] = there
				}
			}
			if dir == "." {
				break
			}
		}
		for at := name; at != "."; at = path.Dir(at) {
			key := reserved.Key(at)
			if other, known := spelled[key]; known && other != at {
				return &model.Fault{
					Doing: "writing", File: e.File,
					Wrong: fmt.Sprintf("some systems take %s and %s for one and the same name; nothing was changed", at, other),
					Next:  "give one of them another name",
				}
			}
			spelled[key] = at
		}
	}
	return nil
}

// Unfinished tells whether a set was interrupted, or is being written.
func (j *Journal) Unfinished() bool { return j.keep.Exists(journal) }

// probe sees, before anything is recorded, that every folder can be written.
func (j *Journal) probe(r set) error {
	for _, f := range r.Files {
		dir := path.Dir(f.File)
		for dir != "." && !j.project.Exists(dir) {
			dir = path.Dir(dir) // the folder is made when the file is
		}
		full := filepath.Join(j.project.Dir, filepath.FromSlash(dir))
		if err := mayWrite(full); err != nil {
			return unwritable(&fs.PathError{Op: "write", Path: dir, Err: err})
		}
	}
	return nil
}

// Recover finishes a set that was interrupted, and forgets one that never
// began. It gives the files of a set that it finished. The error is ErrForeign, and
// nothing is done, where the set is not ours.
func (j *Journal) Recover() ([]string, error) {
	data, err := j.keep.Read(record)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, j.drop()
	}
	if err != nil {
		return nil, err
	}
	var r set
	if err := json.Unmarshal(data, &r); err != nil {
		return nil, fmt.Errorf("the journal %s cannot be read: %w", at(record), err)
	}
	var done []string
	for i, f := range r.Files {
		files := j.files(f)
		done = append(done, f.File)
		found, err := files.ReadFile(f.File)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		switch sum(found, err == nil) {
		case f.After:
			continue // done before the interruption
		case f.Before:
		default:
			return nil, &model.Fault{
				Doing: "finishing an interrupted change", File: f.File, Wrong: "somebody has changed the file since",
				Next: fmt.Sprintf("see that the file is as you want it, and remove %s to forget the change", at(journal)),
			}
		}
		if f.After == "" {
			if err := files.Remove(f.File); err != nil {
				return nil, err
			}
			continue
		}
		text, err := j.keep.files.ReadFile(newFile(i))
		if err == nil && sum(text, true) != f.After {
			err = ErrForeign
		}
		if err != nil {
			return nil, fmt.Errorf("finishing an interrupted change of %s: %w", f.File, err)
		}
		if err := files.MakeFolder(path.Dir(f.File)); err != nil {
			return nil, unwritable(err)
		}
		// What is begun lies in the journal's folder, where a kill leaves nothing that
		// anybody sees.
		if err := files.WriteBy(f.File, at(journal), text, f.Mode); err != nil {
			return nil, unwritable(err)
		}
	}
	// The record first: without it nothing is to be done.
	return done, errors.Join(j.keep.files.Remove(at(record)), j.drop())
}

func (j *Journal) drop() error { return j.keep.files.RemoveAll(at(journal)) }

func sum(data []byte, exists bool) string {
	if !exists {
		return ""
	}
	s := sha256.Sum256(data)
	return hex.EncodeToString(s[:])
}

func unwritable(err error) error {
	var at *fs.PathError
	if errors.As(err, &at) {
		return &model.Fault{
			Doing: "writing", File: at.Path, Wrong: at.Err.Error(), Next: "make room, or make the folder writable; nothing was changed",
			Cause: at.Err,
		}
	}
	return err
}
