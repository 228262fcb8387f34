package scratch

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/model"
	"bellwether/internal/host/within"
)

// File is a file as it was when it was last looked at.
type File struct {
	size    int64
	changed time.Time
	Sum     string // SHA-256 of its content
}

// Files are the regular files of the scratch as they are, relative to the project.
func (s *Scratch) Files() (map[string]File, error) {
	files := map[string]File{}
	err := filepath.WalkDir(s.Dir, func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.Name() == ".git" && d.IsDir():
			return fs.SkipDir
		case d.Name() == ".git" || !d.Type().IsRegular():
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		sum, err := sumOf(name)
		if err != nil {
			return err
		}
		below, err := filepath.Rel(s.Dir, name)
		files[filepath.ToSlash(below)] = File{info.Size(), info.ModTime(), sum}
		return err
	})
	return files, err
}

// sumOf is the SHA-256 of a file's content.
func sumOf(name string) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// Tracked are the files in the scratch that are under version control, relative
// to the project.
func (s *Scratch) Tracked(ctx context.Context) (map[string]bool, error) {
	if s.repo == nil {
		return nil, nil
	}
	names, err := s.repo.Tracked(ctx, s.below)
	if err != nil {
		return nil, err
	}
	tracked := map[string]bool{}
	for _, name := range names {
		tracked[name] = true
	}
	return tracked, nil
}

// Watch remembers how files are, so that Touched can tell what stages change: those
// under version control, or without git all that were copied.
func (s *Scratch) Watch(ctx context.Context, files map[string]File) error {
	tracked, err := s.Tracked(ctx)
	if err != nil {
		return err
	}
	s.files = files
	if s.from.Repo != nil {
		maps.DeleteFunc(s.files, func(name string, _ File) bool { return !tracked[name] })
	}
	return nil
}

// Touched are the watched files that changed since it was last asked, but those that
// are to be written anew. Only a file whose time or size changed is read.
func (s *Scratch) Touched(refreshes []string) (names []string, err error) {
	for _, name := range slices.Sorted(maps.Keys(s.files)) {
		at := filepath.Join(s.Dir, filepath.FromSlash(name))
		was := s.files[name]
		now := File{}
		info, err := os.Lstat(at)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			delete(s.files, name)
		case err != nil:
			return nil, err
		case info.Size() == was.size && info.ModTime().Equal(was.changed):
			continue
		case info.Mode().IsRegular():
			now = File{size: info.Size(), changed: info.ModTime()}
			if now.Sum, err = sumOf(at); err != nil {
				return nil, err
			}
			s.files[name] = now
		}
		if now.Sum != was.Sum && !slices.ContainsFunc(refreshes, func(r string) bool { return name == r || strings.HasPrefix(name, r+"/") }) {
			names = append(names, name)
		}
	}
	return names, nil
}

// Changed are the files below a folder that are not in the scratch as they are
// in the project at root.
func (s *Scratch) Changed(root, folder string) ([]model.FileEdit, error) {
	names := map[string]bool{}
	var folders [2]*within.Folder
	for i, dir := range []string{root, s.Dir} {
		files, err := within.Open(dir, nil)
		if err != nil {
			return nil, err
		}
		defer files.Close()
		folders[i] = files.WithoutLinks()
		err = fs.WalkDir(folders[i], path.Clean(folder), func(name string, d fs.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() {
				names[name] = true
			}
			return err
		})
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	read := func(files *within.Folder, name string) ([]byte, error) {
		data, err := files.ReadFile(name)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, nil
		}
		return data, err
	}
	var edits []model.FileEdit
	for _, name := range slices.Sorted(maps.Keys(names)) {
		before, err := read(folders[0], name)
		if err != nil {
			return nil, err
		}
		after, err := read(folders[1], name)
		if err != nil {
			return nil, err
		}
		if !bytes.Equal(before, after) || (before == nil) != (after == nil) {
			edits = append(edits, model.FileEdit{File: name, Old: before, New: after})
		}
	}
	return edits, nil
}
