//go:build unix

package within

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// lay makes a folder with all kinds of things in it.
func lay(t *testing.T) (dir string, f *Folder, passed map[string]string) {
	dir = t.TempDir()
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "secret"), []byte("secret"), 0o644))
	for name, text := range map[string]string{
		"plain": "text", "deep/file": "below", ".git/config": "x", "a/.GIT/hooks": "x", "odd\xff/file": "x",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	for name, target := range map[string]string{
		"near": "plain", "up": "deep/../plain", "folder": "deep", "out": filepath.Join(outside, "secret"),
		"above": "../" + filepath.Base(outside) + "/secret", "away": outside, "loop": "loop", "gone": "nothing",
		"git": ".git/config", "zero": "/dev/zero",
	} {
		require.NoError(t, os.Symlink(target, filepath.Join(dir, name)))
	}
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o644))
	passed = map[string]string{}
	f, err := Open(dir, func(name string, why error) { passed[name] = why.Error() })
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	return dir, f, passed
}

func TestReading(t *testing.T) {
	_, f, passed := lay(t)
	for name, want := range map[string]string{"plain": "text", "deep/file": "below", "near": "text", "up": "text", "folder/file": "below"} {
		text, err := fs.ReadFile(f, name)
		require.NoError(t, err, name)
		assert.Equal(t, want, string(text), name)
	}
	for name, want := range map[string]error{
		"out": ErrOutside, "above": ErrOutside, "away/secret": ErrOutside, "zero": ErrOutside, "../plain": ErrOutside, "pipe": ErrNotPlain,
		".git/config": ErrGit, "a/.GIT/hooks": ErrGit, "gone": fs.ErrNotExist, "deep": syscall.EISDIR,
	} {
		_, err := f.ReadFile(name)
		assert.ErrorIs(t, err, want, name)
	}
	for _, name := range []string{"near", "folder/file", "out"} {
		_, err := f.WithoutLinks().ReadFile(name)
		assert.ErrorIs(t, err, ErrLink, name)
	}
	_, err := f.ReadAtMost("plain", 3)
	assert.ErrorAs(t, err, new(*TooLarge))

	var names []string
	require.NoError(t, fs.WalkDir(f, ".", func(name string, d fs.DirEntry, err error) error {
		require.NoError(t, err, name)
		if d.Type().IsRegular() {
			names = append(names, name)
		}
		return nil
	}))
	assert.Equal(t, []string{"deep/file", "near", "plain", "up"}, names, "links to files are those files")
	assert.Contains(t, passed["odd\xff"], "UTF-8")
}

// TestGitByALink sees that a link within the folder does not lead into .git.
func TestGitByALink(t *testing.T) {
	_, f, _ := lay(t)
	_, err := f.Real("git")
	assert.ErrorIs(t, err, ErrGit)
	for range 2 { // before and after the folder was listed
		_, err = f.ReadFile("git")
		assert.ErrorIs(t, err, ErrGit)
		_, err = f.ReadDir(".")
		require.NoError(t, err)
	}
}

func TestWriting(t *testing.T) {
	dir, f, _ := lay(t)
	for name, want := range map[string]string{
		"near": "plain", "folder/file": "deep/file", "up": "plain", "new/x": "new/x", "gone": "nothing",
	} {
		real, err := f.Real(name)
		require.NoError(t, err, name)
		assert.Equal(t, want, real)
	}
	for _, name := range []string{"out", "above", "away/x", "loop", "../x", "/x"} {
		_, err := f.Real(name)
		assert.Error(t, err, name)
	}
	require.NoError(t, f.Write("plain", []byte("other"), 0o600))
	text, err := os.ReadFile(filepath.Join(dir, "near"))
	require.NoError(t, err)
	assert.Equal(t, "other", string(text))
	for _, name := range []string{"away/x", ".git/x", "../x"} {
		assert.Error(t, f.Write(name, nil, 0o644), name)
		assert.Error(t, f.RemoveAll(name), name)
	}
	require.NoError(t, f.RemoveAll("away"), "the link itself goes")
	assert.Error(t, f.RemoveAll("."))
	assert.Error(t, f.RemoveAll(".git"))
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range entries {
		assert.False(t, strings.HasPrefix(e.Name(), ".bellwether-"), "nothing that was begun is left")
	}
}

// Very deep folders are read like any other, also by way of a link that leads up.
func TestDeep(t *testing.T) {
	dir, f, _ := lay(t)
	below := strings.TrimSuffix(strings.Repeat("d/", 2*deepFrom), "/")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, below), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, below, "file"), []byte("deep"), 0o644))
	require.NoError(t, os.Symlink(strings.Repeat("../", 2*deepFrom)+"plain", filepath.Join(dir, below, "up")))
	require.NoError(t, os.Symlink(strings.Repeat("../", 2*deepFrom+1)+"x", filepath.Join(dir, below, "out")))
	found := 0
	require.NoError(t, fs.WalkDir(f, ".", func(name string, d fs.DirEntry, err error) error {
		if strings.HasPrefix(name, below+"/") && d.Type().IsRegular() {
			found++
			text, rerr := f.ReadFile(name)
			err = errors.Join(err, rerr)
			assert.Contains(t, []string{"deep", "text"}, string(text))
		}
		return err
	}))
	assert.Equal(t, 2, found)
	_, err := f.ReadFile(below + "/out")
	assert.ErrorIs(t, err, ErrOutside)
}

// A folder among temporary files is taken only if it is nobody else's.
func TestMakeOwn(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "own")
	require.NoError(t, MakeOwn(dir))
	require.NoError(t, MakeOwn(dir))
	require.NoError(t, os.Chmod(dir, 0o777))
	assert.Error(t, MakeOwn(dir))
	require.NoError(t, os.Remove(dir))
	require.NoError(t, os.Symlink(t.TempDir(), dir))
	assert.Error(t, MakeOwn(dir))
}
