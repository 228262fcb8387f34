package work

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"bellwether/internal/core/model"
	"bellwether/internal/host/git"
	"bellwether/internal/host/run"
)

// scratch is a copy of the project in which stages may run, so that the
// person's own tree stays as it is.
type scratch struct {
	dir   string // the project in the scratch
	tree  string // the checkout that the project lies in
	top   string // what is removed in the end
	repo  *git.Repo
	note  string               // the file that remembers the scratch in case of a crash
	files map[string]fileState // that are watched, relative to the project
}

// scratchPrefix begins the names of scratches.
const scratchPrefix = "bellwether-"

// newScratch makes a scratch of the project as it is on disk, local changes
// included, with edits made to it.
func (p *Project) newScratch(ctx context.Context, repo *git.Repo, edits []model.FileEdit) (*scratch, error) {
	if err := p.prepareKeep(); err != nil {
		return nil, err
	}
	noRoom := func(err error) error {
		return &model.Fault{Doing: "making a scratch checkout", File: os.TempDir(), Wrong: bareError(err), Next: "make room, or set TMPDIR to a folder that has some", Cause: err}
	}
	temp := os.TempDir()
	if real, err := filepath.EvalSymlinks(temp); err == nil {
		temp = real // as programs that run there tell it
	}
	// The note comes first, so that a scratch that is there can always be found.
	base := filepath.Join(temp, scratchPrefix+strings.ToLower(rand.Text()))
	s := &scratch{top: base, tree: filepath.Join(base, "tree"), repo: repo, note: p.keep("scratch", filepath.Base(base))}
	s.dir = s.tree
	if err := errors.Join(os.MkdirAll(filepath.Dir(s.note), 0o755), os.WriteFile(s.note, []byte(base), 0o644)); err != nil {
		return nil, fmt.Errorf("noting a scratch checkout: %w", err)
	}
	if err := os.Mkdir(base, 0o700); err != nil {
		return nil, errors.Join(noRoom(err), os.Remove(s.note))
	}
	if err := s.fill(ctx, p, edits); err != nil {
		s.drop()
		if errors.Is(err, syscall.ENOSPC) {
			return nil, noRoom(syscall.ENOSPC)
		}
		return nil, fmt.Errorf("making a scratch checkout: %w", err)
	}
	return s, nil
}

func (s *scratch) fill(ctx context.Context, p *Project, edits []model.FileEdit) error {
	if s.repo == nil {
		if err := copyTree(ctx, p.Root, s.dir); err != nil {
			return err
		}
	} else {
		if err := s.repo.Scratch(ctx, s.dir); err != nil {
			return err
		}
		changes, err := s.repo.Changes(ctx)
		if err != nil {
			return err
		}
		for _, c := range changes {
			from, to := filepath.Join(s.repo.Top, filepath.FromSlash(c.Path)), filepath.Join(s.dir, filepath.FromSlash(c.Path))
			if c.Gone {
				err = os.RemoveAll(to)
			} else {
				err = copyFile(from, to)
			}
			if err != nil {
				return err
			}
		}
		top, err := filepath.EvalSymlinks(s.repo.Top)
		if err != nil {
			return err
		}
		root, err := filepath.EvalSymlinks(p.Root)
		if err != nil {
			return err
		}
		below, err := filepath.Rel(top, root)
		if err != nil {
			return err
		}
		s.dir = filepath.Join(s.tree, below)
		if err := s.fillSubmodules(ctx); err != nil {
			return err
		}
	}
	for _, e := range edits {
		name := filepath.Join(s.dir, filepath.FromSlash(e.File))
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
func (s *scratch) fillSubmodules(ctx context.Context) error {
	names, err := s.repo.Submodules(ctx)
	if err != nil {
		return err
	}
	for _, name := range names {
		from, to := filepath.Join(s.repo.Top, filepath.FromSlash(name)), filepath.Join(s.tree, filepath.FromSlash(name))
		if err := copyTree(ctx, from, to); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// folder is where a stage runs in the scratch.
func (s *scratch) folder(stage model.Stage) string {
	return filepath.Join(s.dir, filepath.FromSlash(stage.Dir))
}

// name is what the programs that run in the scratch are known by.
func (s *scratch) name() string { return filepath.Base(s.top) }

// drop removes the scratch. It works on after an interrupt.
func (s *scratch) drop() {
	if s.repo != nil {
		_ = s.repo.DropScratch(context.Background(), s.tree)
	}
	_ = os.RemoveAll(s.top)
	_ = os.Remove(s.note)
}

// dropLeftovers removes the scratches of calls that crashed, and ends what still runs
// in them.
func (p *Project) dropLeftovers(repo *git.Repo) {
	notes, err := os.ReadDir(p.keep("scratch"))
	if err != nil {
		return
	}
	for _, note := range notes {
		base, err := os.ReadFile(p.keep("scratch", note.Name()))
		if err != nil || filepath.Base(string(base)) != note.Name() || !strings.HasPrefix(note.Name(), scratchPrefix) {
			continue
		}
		s := &scratch{top: string(base), tree: filepath.Join(string(base), "tree"), repo: repo, note: p.keep("scratch", note.Name())}
		run.EndAll(s.name())
		s.drop()
	}
}

// tracked are the files in the scratch that are under version control, relative
// to the project.
func (s *scratch) tracked(ctx context.Context) (map[string]bool, error) {
	if s.repo == nil {
		return nil, nil
	}
	names, err := s.repo.At(s.dir).Tracked(ctx)
	if err != nil {
		return nil, err
	}
	tracked := map[string]bool{}
	for _, name := range names {
		tracked[name] = true
	}
	return tracked, nil
}

// fileState is a file as it was when it was last looked at.
type fileState struct {
	size    int64
	changed time.Time
	sum     string // SHA-256 of its content
}

// watch remembers how files are, so that touched can tell what stages change: those
// under version control, or without git all that were copied.
func (s *scratch) watch(ctx context.Context, files map[string]fileState) error {
	tracked, err := s.tracked(ctx)
	if err != nil {
		return err
	}
	s.files = files
	if s.repo != nil {
		maps.DeleteFunc(s.files, func(name string, _ fileState) bool { return !tracked[name] })
	}
	return nil
}

// touched are the watched files that changed since it was last asked, but those that
// are to be written anew. Only a file whose time or size changed is read.
func (s *scratch) touched(refreshes []string) (names []string, err error) {
	for _, name := range slices.Sorted(maps.Keys(s.files)) {
		at := filepath.Join(s.dir, filepath.FromSlash(name))
		was := s.files[name]
		now := fileState{}
		info, err := os.Lstat(at)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			delete(s.files, name)
		case err != nil:
			return nil, err
		case info.Size() == was.size && info.ModTime().Equal(was.changed):
			continue
		case info.Mode().IsRegular():
			now = fileState{size: info.Size(), changed: info.ModTime()}
			if now.sum, err = fileSum(at); err != nil {
				return nil, err
			}
			s.files[name] = now
		}
		if now.sum != was.sum && !slices.ContainsFunc(refreshes, func(r string) bool { return name == r || strings.HasPrefix(name, r+"/") }) {
			names = append(names, name)
		}
	}
	return names, nil
}

// changed are the files below a folder that are not in the scratch as they are
// in the project at root.
func (s *scratch) changed(root, folder string) ([]model.FileEdit, error) {
	names := map[string]bool{}
	for _, base := range []string{s.dir, root} {
		err := filepath.WalkDir(filepath.Join(base, filepath.FromSlash(folder)), func(name string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return err
			}
			below, err := filepath.Rel(base, name)
			names[filepath.ToSlash(below)] = true
			return err
		})
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	read := func(base, name string) ([]byte, error) {
		data, err := os.ReadFile(filepath.Join(base, filepath.FromSlash(name)))
		if errors.Is(err, fs.ErrNotExist) {
			return nil, nil
		}
		if data == nil {
			data = []byte{}
		}
		return data, err
	}
	var edits []model.FileEdit
	for _, name := range slices.Sorted(maps.Keys(names)) {
		before, err := read(root, name)
		if err != nil {
			return nil, err
		}
		after, err := read(s.dir, name)
		if err != nil {
			return nil, err
		}
		if !bytes.Equal(before, after) || (before == nil) != (after == nil) {
			edits = append(edits, model.FileEdit{File: name, Old: before, New: after})
		}
	}
	return edits, nil
}

// copyTree copies what belongs to a project: not what was installed into
// folders of packages, not what Bellwether keeps, and not the copy itself.
func copyTree(ctx context.Context, from, to string) error {
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
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == keepDir || d.Name() == ".git" || name == filepath.Dir(to)) {
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
