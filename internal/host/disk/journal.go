// Package disk changes files so that nothing is ever half done: a set of
// writes is journalled, and either all of it happens or nothing.
package disk

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"github.com/google/renameio/v2"

	"bellwether/internal/core/model"
)

// Journal keeps sets of writes below a folder of its own until they are done.
type Journal struct {
	Root string // the project
	Dir  string // where the journal keeps its files
}

// record is the journal's list of a set. It is written last, so that a set
// with a record is complete and can be finished; one without never began.
type record struct {
	Files []recorded
}

type recorded struct {
	File   string // relative to the project
	Before string // SHA-256 of the old bytes, "" for a file that was not there
	After  string // SHA-256 of the new bytes, "" for a file that goes away
	Mode   fs.FileMode
}

func (j *Journal) recordFile() string { return filepath.Join(j.Dir, "record.json") }
func (j *Journal) newFile(i int) string {
	return filepath.Join(j.Dir, fmt.Sprintf("%03d", i))
}

// Write makes all edits or none. It refuses if a file does not hold the old
// bytes that its edit was made for.
func (j *Journal) Write(edits []model.FileEdit) error {
	if len(edits) == 0 {
		return nil
	}
	r := record{}
	for _, e := range edits {
		name, err := j.path(e.File)
		if err != nil {
			return err
		}
		mode := fs.FileMode(0o644)
		if info, err := os.Stat(name); err == nil {
			mode = info.Mode().Perm()
		}
		found, err := os.ReadFile(name)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if sum(found, err == nil) != sum(e.Old, e.Old != nil) {
			return &model.Fault{Doing: "writing", File: e.File, Wrong: "the file has changed since it was read", Next: "run the command again"}
		}
		r.Files = append(r.Files, recorded{e.File, sum(e.Old, e.Old != nil), sum(e.New, e.New != nil), mode})
	}
	if err := os.MkdirAll(j.Dir, 0o755); err != nil {
		return unwritable(err)
	}
	for i, e := range edits {
		if e.New == nil {
			continue
		}
		if err := renameio.WriteFile(j.newFile(i), e.New, r.Files[i].Mode); err != nil {
			return errors.Join(unwritable(err), os.RemoveAll(j.Dir))
		}
	}
	data, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	if err := j.probe(r); err != nil {
		return errors.Join(err, os.RemoveAll(j.Dir))
	}
	if err := renameio.WriteFile(j.recordFile(), data, 0o644); err != nil {
		return errors.Join(unwritable(err), os.RemoveAll(j.Dir))
	}
	_, err = j.Recover()
	return err
}

// Unfinished tells whether a set was interrupted, or is being written.
func (j *Journal) Unfinished() bool { return exists(j.Dir) }

// probe sees, before anything is recorded, that every folder can be written.
func (j *Journal) probe(r record) error {
	for _, f := range r.Files {
		name, err := j.path(f.File)
		if err != nil {
			return err
		}
		dir := filepath.Dir(name)
		for !exists(dir) && dir != j.Root {
			dir = filepath.Dir(dir) // the folder is made when the file is
		}
		if err := mayWrite(dir); err != nil {
			return unwritable(&fs.PathError{Op: "write", Path: dir, Err: err})
		}
	}
	return nil
}

func exists(name string) bool {
	_, err := os.Lstat(name)
	return err == nil
}

// Recover finishes a set that was interrupted, and forgets one that never
// began. It gives the files of a set that it finished.
func (j *Journal) Recover() ([]string, error) {
	data, err := os.ReadFile(j.recordFile())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, os.RemoveAll(j.Dir)
	}
	if err != nil {
		return nil, err
	}
	var r record
	if err := json.Unmarshal(data, &r); err != nil {
		return nil, fmt.Errorf("the journal %s cannot be read: %w", j.recordFile(), err)
	}
	var files []string
	for i, f := range r.Files {
		name, err := j.path(f.File)
		if err != nil {
			return nil, err
		}
		files = append(files, f.File)
		found, err := os.ReadFile(name)
		switch sum(found, err == nil) {
		case f.After:
			continue // done before the interruption
		case f.Before:
		default:
			return nil, &model.Fault{
				Doing: "finishing an interrupted change", File: f.File, Wrong: "somebody has changed the file since",
				Next: fmt.Sprintf("see that the file is as you want it, and remove %s to forget the change", j.Dir),
			}
		}
		if f.After == "" {
			if err := os.Remove(name); err != nil {
				return nil, err
			}
			continue
		}
		text, err := os.ReadFile(j.newFile(i))
		if err != nil {
			return nil, fmt.Errorf("finishing an interrupted change of %s: %w", f.File, err)
		}
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return nil, unwritable(err)
		}
		if err := j.replace(name, text, f.Mode); err != nil {
			return nil, unwritable(err)
		}
	}
	return files, j.forget()
}

// replace puts new bytes in the place of a file's. What is begun lies in the journal's
// folder, where a kill leaves nothing that anybody sees.
func (j *Journal) replace(name string, text []byte, mode fs.FileMode) error {
	err := renameio.WriteFile(name, text, mode, renameio.WithTempDir(j.Dir))
	if errors.Is(err, syscall.EXDEV) { // the file lies on another disk than the project
		return renameio.WriteFile(name, text, mode)
	}
	return err
}

// forget removes the journal, the record first: without it nothing is to be done.
func (j *Journal) forget() error {
	return errors.Join(os.Remove(j.recordFile()), os.RemoveAll(j.Dir))
}

// path is where a file of the project lies; it must not leave the project.
func (j *Journal) path(file string) (string, error) {
	if !fs.ValidPath(file) {
		return "", fmt.Errorf("%q is not a path inside the project", file)
	}
	return filepath.Join(j.Root, filepath.FromSlash(file)), nil
}

func sum(data []byte, exists bool) string {
	if !exists {
		return ""
	}
	s := sha256.Sum256(data)
	return hex.EncodeToString(s[:])
}

func unwritable(err error) error {
	var path *fs.PathError
	if errors.As(err, &path) {
		return &model.Fault{Doing: "writing", File: path.Path, Wrong: path.Err.Error(), Next: "make room, or make the folder writable; nothing was changed", Cause: path.Err}
	}
	return err
}
