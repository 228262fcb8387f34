package scratch

import (
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
	"bellwether/internal/host/git"
)

// project is a small one, under version control or not.
func project(t *testing.T, ofGit bool) (p Project, write func(name, text string)) {
	root := t.TempDir()
	t.Setenv("TMPDIR", t.TempDir())
	write = func(name, text string) {
		name = filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
	}
	write(".gitignore", "dist/\n.keep/\n")
	write("a b/source", "one")
	write("gone", "one")
	p = Project{Root: root, Keep: ".keep", Notes: t.TempDir()}
	if ofGit {
		repo, err := git.Init(t.Context(), root, "Crew", "crew@saltmarsh.example", "start")
		require.NoError(t, err)
		p.Repo = repo
	}
	return p, write
}

func TestScratch(t *testing.T) {
	for _, ofGit := range []bool{true, false} {
		p, write := project(t, ofGit)
		write("a b/source", "changed, not committed")
		write("new", "not known to git")
		write("node_modules/x", "installed")
		require.NoError(t, os.Remove(filepath.Join(p.Root, "gone")))
		s, err := p.New(t.Context(), []model.FileEdit{{File: "edited/manifest", New: []byte("new")}})
		require.NoError(t, err)
		assert.Equal(t, ofGit, s.OfGit())
		assert.True(t, p.Leftovers())
		files, err := s.Files()
		require.NoError(t, err)
		for name, there := range map[string]bool{
			"a b/source": true, "new": true, "edited/manifest": true, "gone": false, ".keep/scratch": false,
		} {
			_, found := files[name]
			assert.Equal(t, there, found, name)
		}
		text, err := os.ReadFile(filepath.Join(s.Dir, "a b", "source"))
		require.NoError(t, err)
		assert.Equal(t, "changed, not committed", string(text))
		require.NoError(t, s.Drop())
		assert.NoDirExists(t, s.Dir)
		assert.False(t, p.Leftovers())
	}
}

func TestTouched(t *testing.T) {
	p, write := project(t, true)
	write("new", "not known to git")
	s, err := p.New(t.Context(), nil)
	require.NoError(t, err)
	defer func() { assert.NoError(t, s.Drop()) }()
	files, err := s.Files()
	require.NoError(t, err)
	require.NoError(t, s.Watch(t.Context(), files))
	for name, text := range map[string]string{"a b/source": "two", "gone": "one", "new": "two", "dist": "made"} {
		require.NoError(t, os.WriteFile(filepath.Join(s.Dir, name), []byte(text), 0o644))
	}
	touched, err := s.Touched(nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"a b/source"}, touched, "not what was written with the same bytes, nor what git does not know")
	touched, err = s.Touched(nil)
	require.NoError(t, err)
	assert.Empty(t, touched, "it is told once")
	require.NoError(t, os.Remove(filepath.Join(s.Dir, "a b", "source")))
	touched, err = s.Touched([]string{"a b"})
	require.NoError(t, err)
	assert.Empty(t, touched, "it is to be written anew")
	edits, err := s.Changed(p.Root, "a b")
	require.NoError(t, err)
	assert.Equal(t, []model.FileEdit{{File: "a b/source", Old: []byte("one")}}, edits)
}

func TestRemove(t *testing.T) {
	p, _ := project(t, true)
	s, err := p.New(t.Context(), nil)
	require.NoError(t, err)
	defer func() { assert.NoError(t, s.Drop()) }()
	for _, name := range []string{"dist/x", "dist/deep/y", "a b/made"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(s.Dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(s.Dir, name), nil, 0o644))
	}
	removed, err := s.Remove(t.Context(), ".", []string{"dist", "a b", "gone", "nothing"})
	require.NoError(t, err)
	assert.Equal(t, []string{"dist", "a b"}, removed)
	assert.NoDirExists(t, filepath.Join(s.Dir, "dist"))
	assert.FileExists(t, filepath.Join(s.Dir, "a b", "source"), "it is under version control")
	assert.FileExists(t, filepath.Join(s.Dir, "gone"))
}

// A scratch that is not the very folder that was made is not removed.
func TestForeignNote(t *testing.T) {
	p, write := project(t, false)
	target := filepath.Join(t.TempDir(), "bellwether-x")
	require.NoError(t, os.CopyFS(target, os.DirFS(p.Root)))
	write("../note", "")
	for _, text := range []string{target, `{"top": "` + target + `", "identity": "1"}`, "[]"} {
		require.NoError(t, os.WriteFile(filepath.Join(p.Notes, "bellwether-x"), []byte(text), 0o644))
		require.NoError(t, p.DropLeftovers())
		assert.FileExists(t, filepath.Join(target, "a b", "source"))
	}
	s, err := p.New(t.Context(), nil)
	require.NoError(t, err)
	require.NoError(t, p.DropLeftovers())
	assert.NoDirExists(t, s.Dir, "one of ours goes")
}

// A call may crash at any byte of its note.
func TestCutNote(t *testing.T) {
	p, _ := project(t, false)
	whole, err := p.New(t.Context(), nil)
	require.NoError(t, err)
	note, err := os.ReadFile(whole.note)
	require.NoError(t, err)
	require.NoError(t, whole.Drop())
	for n := range len(note) {
		require.NoError(t, os.WriteFile(whole.note, note[:n], 0o600))
		if m := noted(note[:n]); m.Top != "" { // else there is no folder yet
			require.NoError(t, os.Mkdir(whole.top, 0o700))
		}
		require.NoError(t, p.DropLeftovers())
		assert.NoDirExists(t, whole.top, "%s", note[:n])
		assert.False(t, p.Leftovers(), "%s", note[:n])
	}
}

// Patterns of what is generated lead through no link, and out of nothing.
func TestRemoveStaysInside(t *testing.T) {
	outside := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(outside, "dist"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(outside, "dist", "precious"), nil, 0o644))
	p, write := project(t, true)
	require.NoError(t, os.Symlink(outside, filepath.Join(p.Root, "link")))
	require.NoError(t, os.Symlink("a b", filepath.Join(p.Root, "near")))
	write("a b/made", "")
	s, err := p.New(t.Context(), nil)
	require.NoError(t, err)
	defer func() { assert.NoError(t, s.Drop()) }()
	removed, err := s.Remove(t.Context(), ".", []string{"link/dist", "**/dist", "link/**", "near/made", "*/precious", "near"})
	require.NoError(t, err)
	assert.Equal(t, []string{"near"}, removed, "the link itself, and nothing behind it")
	assert.FileExists(t, filepath.Join(outside, "dist", "precious"))
	assert.FileExists(t, filepath.Join(s.Dir, "a b", "made"))
}

// A link that names a place in the project by its whole path does not lead back there.
func TestLinksStayInside(t *testing.T) {
	p, _ := project(t, true)
	require.NoError(t, os.Symlink(filepath.Join(p.Repo.Top, "a b", "source"), filepath.Join(p.Root, "whole")))
	s, err := p.New(t.Context(), nil)
	require.NoError(t, err)
	defer func() { assert.NoError(t, s.Drop()) }()
	require.NoError(t, os.WriteFile(filepath.Join(s.Dir, "whole"), []byte("changed"), 0o644))
	text, err := os.ReadFile(filepath.Join(p.Root, "a b", "source"))
	require.NoError(t, err)
	assert.Equal(t, "one", string(text))
}

// Folders that a stage closed to writing go with the scratch.
func TestDropReadOnly(t *testing.T) {
	p, _ := project(t, false)
	s, err := p.New(t.Context(), nil)
	require.NoError(t, err)
	closed := filepath.Join(s.Dir, "closed", "deep")
	require.NoError(t, os.MkdirAll(closed, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(closed, "x"), nil, 0o400))
	require.NoError(t, os.Chmod(closed, 0o555))
	require.NoError(t, os.Chmod(filepath.Dir(closed), 0o111))
	require.NoError(t, s.Drop())
	assert.NoDirExists(t, s.top)
}

// A git that outlived a killed call may still fill the scratch.
func TestDropWhileItIsFilled(t *testing.T) {
	p, _ := project(t, false)
	s, err := p.New(t.Context(), nil)
	require.NoError(t, err)
	started, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for i := range 1000 {
			if i == 100 {
				close(started)
			}
			if os.WriteFile(filepath.Join(s.Dir, strconv.Itoa(i)), nil, 0o644) != nil {
				return // the folder is gone
			}
		}
	}()
	<-started
	require.NoError(t, s.Drop())
	<-done
}
