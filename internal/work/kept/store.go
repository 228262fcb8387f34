// Package kept is what Bellwether keeps in a project: the route, how far it has come, what was
// verified and tried, and what it takes to put a leg back.
package kept

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"sync"

	"github.com/adrg/xdg"

	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
	"bellwether/internal/host/git"
	"bellwether/internal/host/keep"
	"bellwether/internal/host/scratch"
	"bellwether/internal/host/within"
)

// Dir is the folder in a project that Bellwether keeps its own files in.
const Dir = keep.Dir

// Store is what is kept in one project.
type Store struct {
	root  string // the project's folder
	files *within.Folder
	keep  *keep.Keep
	say   func(text string)
	mu    sync.Mutex // of what several components keep at the same time
	found sync.Once  // the repository is looked for once a call
	repo  *git.Repo
	wrong error
}

// In gives what is kept in a project. Say tells the person something to know.
func In(root string, files *within.Folder, say func(text string)) *Store {
	return &Store{root: root, files: files, keep: keep.In(files, stateFolder()), say: say}
}

// stateFolder is the person's folder for what programs keep between calls. Where the
// home cannot be written, it is one among temporary files, if that is theirs alone.
func stateFolder() string {
	home := filepath.Join(xdg.StateHome, "bellwether")
	temporary := filepath.Join(os.TempDir(), fmt.Sprintf("bellwether-state-%d", os.Getuid()))
	if os.MkdirAll(home, 0o700) != nil && within.MakeOwn(temporary) == nil {
		return temporary
	}
	return home
}

// Adopt makes what is kept count as this checkout's own, because a person says so. It gives
// the names of the files.
func (s *Store) Adopt() ([]string, error) {
	names, err := s.keep.Adopt()
	if err != nil {
		return nil, err
	}
	return names, s.adoptRoute()
}

// prepare makes the folder, out of git's sight.
func (s *Store) prepare() error {
	aside, err := s.keep.Prepare()
	if aside != "" {
		s.say(aside)
	}
	return err
}

// read gives a file; fs.ErrNotExist if there is none, or none of ours.
func (s *Store) read(name string) ([]byte, error) {
	data, err := s.keep.Read(name)
	if !errors.Is(err, keep.ErrForeign) {
		return data, err
	}
	if !s.keep.Owned() {
		return nil, fs.ErrNotExist // that is told when the project is opened
	}
	return nil, foreign(name)
}

// foreign is the error of a file in a folder of ours that somebody else wrote.
func foreign(name string) error {
	return &model.Fault{
		Doing: "reading what is kept", File: path.Join(Dir, name), Wrong: keep.ErrForeign.Error(), Cause: keep.ErrForeign,
		Next: "remove it, or if it is yours, say so with bellwether status --adopt",
	}
}

// Scratches are those of the project; repo is nil for none.
func (s *Store) Scratches(repo *git.Repo) scratch.Project {
	return scratch.Project{Root: s.root, Repo: repo, Keep: Dir, Notes: filepath.Join(stateFolder(), "scratches", s.keep.Checkout())}
}

// CreateLog makes a file for what a stage prints, by its name below the folder.
func (s *Store) CreateLog(name string) (*os.File, error) { return s.keep.Create(name) }

// OpenLog opens it for reading.
func (s *Store) OpenLog(name string) (fs.File, error) { return s.keep.Open(name) }

// OpenRepo finds the repository that the project is in, nil for none. It may have no commit.
func (s *Store) OpenRepo(ctx context.Context) (*git.Repo, error) {
	s.found.Do(func() {
		s.repo, s.wrong = git.Open(ctx, s.root)
		if errors.Is(s.wrong, git.ErrNone) {
			s.repo, s.wrong = nil, nil
		}
		if s.repo != nil {
			s.repo.Note = s.keep.GitNote()
		}
	})
	return s.repo, s.wrong
}

// Repo is the repository that the project is in, nil for none. One without a commit is an
// error: there would be nothing to come back to.
func (s *Store) Repo(ctx context.Context) (*git.Repo, error) {
	repo, err := s.OpenRepo(ctx)
	if repo == nil || err != nil {
		return nil, err
	}
	if _, err := repo.Head(ctx); err != nil {
		return nil, &model.Fault{
			Doing: "looking at the repository", File: s.root, Wrong: "it has no commit yet",
			Next: "commit the project as it is, so that there is something to come back to",
		}
	}
	return repo, nil
}

// Reals are the files that names lead to: a link in the project stands for one.
func (s *Store) Reals(names []string) []string {
	reals := make([]string, len(names))
	for i, name := range names {
		reals[i] = name
		if real, err := s.files.Real(name); err == nil {
			reals[i] = real
		}
	}
	return reals
}

// refuseTracked refuses to act on a file that is under version control: it came with
// the repository.
func (s *Store) refuseTracked(ctx context.Context, name string) error {
	repo, err := s.OpenRepo(ctx)
	if repo == nil || err != nil {
		return err
	}
	held, err := repo.Holds(ctx, s.root, []string{name})
	if err != nil || len(held) == 0 {
		return err
	}
	return &model.Fault{
		Doing: "reading what is kept", File: name, Wrong: "it is under version control, so it may come from somebody else, and is not acted on",
		Next: "git rm --cached " + name + ", after you have read it",
	}
}

// shortly names the first few of a list.
func shortly(list []string) string { return spelling.Few(list, 3) }
