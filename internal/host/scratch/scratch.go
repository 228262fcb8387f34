// Package scratch makes copies of a project in which stages may run, so that the
// person's own tree stays as it is: with a repository of their own where the project is
// in one.
package scratch

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/model"
	"bellwether/internal/host/git"
	"bellwether/internal/host/run"
	"bellwether/internal/host/within"
)

// Project is what scratches are made of.
type Project struct {
	Root  string
	Repo  *git.Repo // nil for none
	Keep  string    // the name of folders that belong to no copy
	Notes string    // the folder, outside of the project, that remembers scratches in case of a crash
}

// Scratch is a copy of the project.
type Scratch struct {
	Dir   string // the project in the scratch
	tree  string // the checkout that the project lies in
	top   string // what is removed in the end
	below string // the project in the checkout, "." for all of it
	from  Project
	repo  *git.Repo       // the scratch's own, nil for none
	note  string          // the file that remembers the scratch
	files map[string]File // that are watched, relative to the project
}

// prefix begins the names of scratches.
const prefix = "bellwether-"

// made is a note of a scratch: two objects of JSON, one from before the folder is made, and one
// from before it is filled. By its identity, the folder is told from another one under its name.
type made struct {
	Top      string `json:"top,omitempty"`
	Identity string `json:"identity,omitempty"`
}

// New makes a scratch of the project as it is on disk, local changes included, with
// edits made to it.
func (p Project) New(ctx context.Context, edits []model.FileEdit) (*Scratch, error) {
	noRoom := func(err error) error {
		return &model.Fault{
			Doing: "making a scratch checkout", File: os.TempDir(), Wrong: model.Reason(err),
			Next: "make room, or set TMPDIR to a folder that has some", Cause: err,
		}
	}
	temp := os.TempDir()
	if real, err := filepath.EvalSymlinks(temp); err == nil {
		temp = real // as programs that run there tell it
	}
	top := filepath.Join(temp, prefix+strings.ToLower(rand.Text()))
	s := p.at(top)
	noNote := func(err error) error {
		return &model.Fault{
			Doing: "noting a scratch checkout", File: p.Notes, Wrong: model.Reason(err),
			Next: "make room there, or make the folder writable", Cause: err,
		}
	}
	if err := errors.Join(os.MkdirAll(p.Notes, 0o700), s.remember(made{Top: top})); err != nil {
		_ = os.Remove(s.note)
		return nil, noNote(err)
	}
	if err := os.Mkdir(top, 0o700); err != nil {
		_ = os.Remove(s.note)
		return nil, noRoom(err)
	}
	info, err := os.Lstat(top)
	if err == nil {
		err = s.remember(made{Identity: within.Identity(info)})
	}
	if err != nil {
		return nil, errors.Join(noNote(err), s.Drop())
	}
	if err := s.fill(ctx, edits); err != nil {
		err = errors.Join(err, s.Drop())
		if errors.Is(err, syscall.ENOSPC) {
			return nil, noRoom(syscall.ENOSPC)
		}
		return nil, fmt.Errorf("making a scratch checkout: %w", err)
	}
	return s, nil
}

// remember notes something of the scratch, so that it is found after a crash.
func (s *Scratch) remember(m made) error {
	data, err := json.Marshal(m)
	if err != nil {
		return err
	}
	note, err := os.OpenFile(s.note, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = note.Write(data)
	return errors.Join(err, note.Close())
}

// noted reads a note as far as it was written. A field that is missing is empty.
func noted(data []byte) (m made) {
	objects := json.NewDecoder(bytes.NewReader(data))
	for objects.Decode(&m) == nil {
	}
	return m
}

// at is the scratch that lies, or is to lie, at top.
func (p Project) at(top string) *Scratch {
	tree := filepath.Join(top, "tree")
	return &Scratch{Dir: tree, tree: tree, top: top, below: ".", from: p, note: filepath.Join(p.Notes, filepath.Base(top))}
}

func (s *Scratch) fill(ctx context.Context, edits []model.FileEdit) error {
	if err := os.Mkdir(s.tree, 0o755); err != nil {
		return err
	}
	if s.from.Repo == nil {
		if err := s.copyTree(ctx, s.from.Root, s.Dir); err != nil {
			return err
		}
	} else if err := s.copyRepo(ctx); err != nil {
		return err
	}
	to, err := within.Open(s.Dir, nil)
	if err != nil {
		return err
	}
	defer to.Close()
	for _, e := range edits {
		if e.Kept {
			continue // no stage reads what is kept
		}
		name, err := to.Real(e.File)
		switch {
		case err != nil:
		case e.New == nil:
			err = to.RemoveAll(name)
		default:
			err = errors.Join(to.MakeFolder(path.Dir(name)), to.Write(name, e.New, 0o644))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// copyRepo copies the files that belong to the repository, as they lie in the working
// tree: so no filter and no hook of the repository has to run. What git is told to
// ignore stays behind, as in a fresh checkout.
func (s *Scratch) copyRepo(ctx context.Context) (err error) {
	if s.repo, err = s.from.Repo.Twin(ctx, s.tree); err != nil {
		return err
	}
	names, err := s.from.Repo.Present(ctx)
	if err != nil {
		return err
	}
	if err := s.makeFolders(names); err != nil {
		return err
	}
	group, copying := errgroup.WithContext(ctx)
	group.SetLimit(copiesAtOnce)
	for _, name := range names {
		group.Go(func() error {
			from := filepath.Join(s.from.Repo.Top, filepath.FromSlash(name))
			if err := s.copyFile(from, filepath.Join(s.tree, filepath.FromSlash(name)), nil); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			return copying.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	root, err := filepath.EvalSymlinks(s.from.Root)
	if err != nil {
		return err
	}
	if s.below, err = filepath.Rel(s.from.Repo.Top, root); err != nil {
		return err
	}
	s.Dir = filepath.Join(s.tree, s.below)
	s.below = filepath.ToSlash(s.below)
	return s.fillSubmodules(ctx)
}

// copiesAtOnce is how many files are copied at a time.
const copiesAtOnce = 8

// makeFolders makes the folders that files lie in.
func (s *Scratch) makeFolders(names []string) error {
	made := map[string]bool{}
	for _, name := range names {
		dir := path.Dir(name)
		if made[dir] {
			continue
		}
		made[dir] = true
		if err := os.MkdirAll(filepath.Join(s.tree, filepath.FromSlash(dir)), 0o755); err != nil {
			return err
		}
	}
	return nil
}

// fillSubmodules copies the files of submodules, whose repositories know them.
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

// Env keeps a git that runs in the scratch from looking for a repository above it.
func (s *Scratch) Env() []string { return []string{"GIT_CEILING_DIRECTORIES=" + s.top} }

// OfGit tells whether the scratch has a repository of its own.
func (s *Scratch) OfGit() bool { return s.from.Repo != nil }

// Drop removes the scratch. It works on after an interrupt. A git that outlived a killed call
// may fill it for a moment longer. Where something cannot be removed, the scratch stays noted,
// and the next call tries again.
func (s *Scratch) Drop() error {
	above, err := within.Open(filepath.Dir(s.top), nil)
	if err == nil {
		err = above.RemoveAll(filepath.Base(s.top))
		for wait := 10 * time.Millisecond; errors.Is(err, syscall.ENOTEMPTY) && wait < time.Second; wait *= 2 {
			time.Sleep(wait)
			err = above.RemoveAll(filepath.Base(s.top))
		}
		err = errors.Join(err, above.Close())
	}
	if err == nil {
		err = os.Remove(s.note)
	}
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return &model.Fault{
		Doing: "removing a scratch checkout", File: s.top, Wrong: model.Reason(err),
		Next: "remove the folder by hand, or run the command again", Cause: err,
	}
}

// Leftovers tells whether calls that crashed, or others that are at work, have
// scratches.
func (p Project) Leftovers() bool {
	notes, _ := os.ReadDir(p.Notes)
	return len(notes) > 0
}

// DropLeftovers removes the scratches of calls that crashed, and ends what still runs
// in them. A folder is removed only if it is the very one that was made; one that was not
// known yet, only if it is empty.
func (p Project) DropLeftovers() (err error) {
	notes, _ := os.ReadDir(p.Notes)
	for _, note := range notes {
		name := filepath.Join(p.Notes, note.Name())
		data, rerr := within.Plain(name, 1<<16)
		m := noted(data)
		if rerr != nil || !strings.HasPrefix(note.Name(), prefix) || m.Top != "" && filepath.Base(m.Top) != note.Name() {
			continue
		}
		info, lerr := os.Lstat(m.Top)
		there := lerr == nil && info.IsDir()
		if there && within.Identity(info) == m.Identity {
			s := p.at(m.Top)
			run.EndAll(s.Name())
			err = errors.Join(err, s.Drop())
			continue
		}
		if there && m.Identity == "" {
			_ = os.Remove(m.Top) // the call crashed before anything was in it
		}
		err = errors.Join(err, os.Remove(name))
	}
	return err
}

// copyTree copies what belongs to a project: not what was installed into
// folders of packages, not what Bellwether keeps, and not the copy itself.
func (s *Scratch) copyTree(ctx context.Context, from, to string) error {
	folders := map[string]bool{}
	return filepath.WalkDir(from, func(name string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrPermission) && name != from {
			return nil // nobody's build reads it either
		}
		if err != nil {
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if d.Name() == ".git" && !d.IsDir() {
			return nil // of a submodule, whose repository lies elsewhere
		}
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == s.from.Keep || d.Name() == ".git" || name == s.top) {
			return fs.SkipDir
		}
		below, err := filepath.Rel(from, name)
		if err != nil {
			return err
		}
		if d.IsDir() {
			return os.MkdirAll(filepath.Join(to, below), 0o755)
		}
		return s.copyFile(name, filepath.Join(to, below), folders)
	})
}

// copyFile copies a plain file or a link. folders are those that are known to be there,
// nil for all.
func (s *Scratch) copyFile(from, to string, folders map[string]bool) error {
	info, err := os.Lstat(from)
	if err != nil {
		return err
	}
	if dir := filepath.Dir(to); folders != nil && !folders[dir] {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		folders[dir] = true
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		target, err := os.Readlink(from)
		if err != nil {
			return err
		}
		return os.Symlink(s.retargeted(target, to), to)
	}
	if !info.Mode().IsRegular() {
		return nil // sockets, devices and submodules stay where they are
	}
	in, err := os.OpenFile(from, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, info.Mode().Perm())
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// retargeted is where a link leads in the scratch: one that names a place in the project
// by its whole path would lead back into the project.
func (s *Scratch) retargeted(target, link string) string {
	top := s.from.Root
	if s.from.Repo != nil {
		top = s.from.Repo.Top
	}
	below, err := filepath.Rel(top, target)
	if !filepath.IsAbs(target) || err != nil || !filepath.IsLocal(below) {
		return target
	}
	relative, err := filepath.Rel(filepath.Dir(link), filepath.Join(s.tree, below))
	if err != nil {
		return target
	}
	return relative
}
