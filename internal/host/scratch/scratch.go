// Package scratch makes copies of a project in which stages may run, so that the
// person's own tree stays as it is: worktrees of git, or copies of the files where
// there is no git.
package scratch

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"bellwether/internal/core/model"
	"bellwether/internal/host/git"
	"bellwether/internal/host/run"
)

// Project is what scratches are made of.
type Project struct {
	Root  string
	Repo  *git.Repo // nil for none
	Keep  string    // the name of folders that belong to no copy
	Notes string    // the folder that remembers scratches in case of a crash
}

// Scratch is a copy of the project.
type Scratch struct {
	Dir   string // the project in the scratch
	tree  string // the checkout that the project lies in
	top   string // what is removed in the end
	from  Project
	note  string          // the file that remembers the scratch
	files map[string]File // that are watched, relative to the project
}

// prefix begins the names of scratches.
const prefix = "bellwether-"

// New makes a scratch of the project as it is on disk, local changes included, with
// edits made to it.
func (p Project) New(ctx context.Context, edits []model.FileEdit) (*Scratch, error) {
	noRoom := func(err error) error {
		return &model.Fault{Doing: "making a scratch checkout", File: os.TempDir(), Wrong: model.Reason(err), Next: "make room, or set TMPDIR to a folder that has some", Cause: err}
	}
	temp := os.TempDir()
	if real, err := filepath.EvalSymlinks(temp); err == nil {
		temp = real // as programs that run there tell it
	}
	// The note comes first, so that a scratch that is there can always be found.
	top := filepath.Join(temp, prefix+strings.ToLower(rand.Text()))
	s := p.at(top)
	if err := errors.Join(os.MkdirAll(p.Notes, 0o755), os.WriteFile(s.note, []byte(top), 0o644)); err != nil {
		return nil, fmt.Errorf("noting a scratch checkout: %w", err)
	}
	if err := os.Mkdir(top, 0o700); err != nil {
		return nil, errors.Join(noRoom(err), os.Remove(s.note))
	}
	if err := s.fill(ctx, edits); err != nil {
		s.Drop()
		if errors.Is(err, syscall.ENOSPC) {
			return nil, noRoom(syscall.ENOSPC)
		}
		return nil, fmt.Errorf("making a scratch checkout: %w", err)
	}
	return s, nil
}

// at is the scratch that lies, or is to lie, at top.
func (p Project) at(top string) *Scratch {
	tree := filepath.Join(top, "tree")
	return &Scratch{Dir: tree, tree: tree, top: top, from: p, note: filepath.Join(p.Notes, filepath.Base(top))}
}

func (s *Scratch) fill(ctx context.Context, edits []model.FileEdit) error {
	if s.from.Repo == nil {
		if err := s.copyTree(ctx, s.from.Root, s.Dir); err != nil {
			return err
		}
	} else {
		if err := s.from.Repo.Scratch(ctx, s.Dir); err != nil {
			return err
		}
		changes, err := s.from.Repo.Changes(ctx)
		if err != nil {
			return err
		}
		for _, c := range changes {
			from, to := filepath.Join(s.from.Repo.Top, filepath.FromSlash(c.Path)), filepath.Join(s.Dir, filepath.FromSlash(c.Path))
			if c.Gone {
				err = os.RemoveAll(to)
			} else {
				err = copyFile(from, to)
			}
			if err != nil {
				return err
			}
		}
		top, err := filepath.EvalSymlinks(s.from.Repo.Top)
		if err != nil {
			return err
		}
		root, err := filepath.EvalSymlinks(s.from.Root)
		if err != nil {
			return err
		}
		below, err := filepath.Rel(top, root)
		if err != nil {
			return err
		}
		s.Dir = filepath.Join(s.tree, below)
		if err := s.fillSubmodules(ctx); err != nil {
			return err
		}
	}
	for _, e := range edits {
		name := filepath.Join(s.Dir, filepath.FromSlash(e.File))
		if e.New == nil {
			if err := os.RemoveAll(name); err != nil {
				return err
			}
			continue
		}
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(name, e.New, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// fillSubmodules copies the files of submodules, of which a checkout has only
// empty folders.
func (s *Scratch) fillSubmodules(ctx context.Context) error {
	names, err := s.from.Repo.Submodules(ctx)
	if err != nil {
		return err
	}
	for _, name := range names {
		from, to := filepath.Join(s.from.Repo.Top, filepath.FromSlash(name)), filepath.Join(s.tree, filepath.FromSlash(name))
		if err := s.copyTree(ctx, from, to); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Name is what the programs that run in the scratch are known by.
func (s *Scratch) Name() string { return filepath.Base(s.top) }

// OfGit tells whether the scratch is a checkout of git.
func (s *Scratch) OfGit() bool { return s.from.Repo != nil }

// Drop removes the scratch. It works on after an interrupt.
func (s *Scratch) Drop() {
	if s.from.Repo != nil {
		_ = s.from.Repo.DropScratch(context.Background(), s.tree)
	}
	_ = os.RemoveAll(s.top)
	_ = os.Remove(s.note)
}

// Leftovers tells whether calls that crashed, or others that are at work, have
// scratches.
func (p Project) Leftovers() bool {
	notes, _ := os.ReadDir(p.Notes)
	return len(notes) > 0
}

// DropLeftovers removes the scratches of calls that crashed, and ends what still runs
// in them.
func (p Project) DropLeftovers() {
	notes, _ := os.ReadDir(p.Notes)
	for _, note := range notes {
		top, err := os.ReadFile(filepath.Join(p.Notes, note.Name()))
		if err != nil || filepath.Base(string(top)) != note.Name() || !strings.HasPrefix(note.Name(), prefix) {
			continue
		}
		s := p.at(string(top))
		run.EndAll(s.Name())
		s.Drop()
	}
}

// copyTree copies what belongs to a project: not what was installed into
// folders of packages, not what Bellwether keeps, and not the copy itself.
func (s *Scratch) copyTree(ctx context.Context, from, to string) error {
	return filepath.WalkDir(from, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if d.Name() == ".git" && !d.IsDir() {
			return nil // of a submodule, whose repository lies elsewhere
		}
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == s.from.Keep || d.Name() == ".git" || name == filepath.Dir(to)) {
			return fs.SkipDir
		}
		below, err := filepath.Rel(from, name)
		if err != nil {
			return err
		}
		if d.IsDir() {
			return os.MkdirAll(filepath.Join(to, below), 0o755)
		}
		return copyFile(name, filepath.Join(to, below))
	})
}

func copyFile(from, to string) error {
	info, err := os.Lstat(from)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		target, err := os.Readlink(from)
		if err != nil {
			return err
		}
		_ = os.Remove(to)
		return os.Symlink(target, to)
	}
	if !info.Mode().IsRegular() {
		return nil // sockets, devices and submodules stay where they are
	}
	data, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	return os.WriteFile(to, data, info.Mode().Perm())
}
