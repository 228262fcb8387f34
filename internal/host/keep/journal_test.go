package keep

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
	"bellwether/internal/host/within"
)

// writes is a set of writes: two changed files, one new, one gone.
func writes(version int) []model.FileEdit {
	text := func(name string) []byte { return fmt.Appendf(nil, "%s of version %d\n", name, version) }
	old := func(name string) []byte { return fmt.Appendf(nil, "%s of version %d\n", name, version-1) }
	return []model.FileEdit{
		{File: "manifest", Old: old("manifest"), New: text("manifest")},
		{File: "deep/lock", Old: old("deep/lock"), New: text("deep/lock")},
	}
}

// place is a project whose journal is written.
type place struct {
	*Journal
	root string
}

// open opens a project; its key lies beside it.
func open(t *testing.T, root string) place {
	files, err := within.Open(root, nil)
	require.NoError(t, err)
	t.Cleanup(func() { _ = files.Close() })
	k := In(files, root+".state")
	_, err = k.Prepare()
	require.NoError(t, err)
	return place{k.Journal(files), root}
}

func layOut(t *testing.T) place {
	dir := filepath.Join(t.TempDir(), "project")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "deep"), 0o755))
	for _, e := range writes(0) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, e.File), e.New, 0o640))
	}
	return open(t, dir)
}

func state(t *testing.T, j place) string {
	all := ""
	for _, e := range writes(0) {
		data, err := os.ReadFile(filepath.Join(j.root, e.File))
		require.NoError(t, err)
		all += string(data)
	}
	return all
}

func want(version int) string {
	all := ""
	for _, e := range writes(version) {
		all += string(e.New)
	}
	return all
}

func TestWrite(t *testing.T) {
	j := layOut(t)
	require.NoError(t, j.Write(writes(1)))
	assert.Equal(t, want(1), state(t, j))
	info, err := os.Stat(filepath.Join(j.root, "manifest"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm(), "the mode stays")
	assert.False(t, j.Unfinished())

	assert.ErrorContains(t, j.Write(writes(1)), "has changed since it was read")
	assert.ErrorContains(t, j.Write([]model.FileEdit{{File: "../out", New: []byte("x")}}), "leads out of the folder")
	require.NoError(t, j.Write([]model.FileEdit{{File: "fresh/er", New: []byte("x")}, {File: "manifest", Old: writes(1)[0].New}}))
	assert.FileExists(t, filepath.Join(j.root, "fresh/er"))
	assert.NoFileExists(t, filepath.Join(j.root, "manifest"))
}

func TestUnwritableFolderChangesNothing(t *testing.T) {
	if os.Geteuid() == 0 {
		t.Skip("root writes everywhere")
	}
	j := layOut(t)
	require.NoError(t, os.Chmod(filepath.Join(j.root, "deep"), 0o555))
	require.Error(t, j.Write(writes(1)))
	assert.Equal(t, want(0), state(t, j))
}

// TestKilled kills a process that keeps writing sets, at random instants; the
// files must then be those of one version, whole.
func TestKilled(t *testing.T) {
	if os.Getenv("JOURNAL_ROOT") != "" {
		j := open(t, os.Getenv("JOURNAL_ROOT"))
		from, _ := strconv.Atoi(os.Getenv("JOURNAL_FROM"))
		for version := from; ; version++ {
			require.NoError(t, j.Write(writes(version)))
		}
	}
	j := layOut(t)
	version := 0
	for kill := range 40 {
		cmd := exec.Command(os.Args[0], "-test.run=^TestKilled$")
		cmd.Env = append(os.Environ(), "JOURNAL_ROOT="+j.root, fmt.Sprintf("JOURNAL_FROM=%d", version+1))
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(15+kill*7%60) * time.Millisecond)
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
		_, err := j.Recover()
		require.NoError(t, err)
		data, err := os.ReadFile(filepath.Join(j.root, "manifest"))
		require.NoError(t, err)
		_, err = fmt.Sscanf(string(data), "manifest of version %d", &version)
		require.NoError(t, err)
		require.Equal(t, want(version), state(t, j), "half of a set is written")
		require.False(t, j.Unfinished())
	}
	assert.Positive(t, version, "the process must have got somewhere")
}

// A file that is a link within the project is changed where it leads; one that leads
// out is not.
func TestLinks(t *testing.T) {
	j := layOut(t)
	outside := filepath.Join(t.TempDir(), "outside")
	require.NoError(t, os.WriteFile(outside, nil, 0o644))
	require.NoError(t, os.Symlink("deep/lock", filepath.Join(j.root, "link")))
	require.NoError(t, os.Symlink("deep", filepath.Join(j.root, "folder")))
	require.NoError(t, os.Symlink(outside, filepath.Join(j.root, "out")))
	require.NoError(t, j.Write([]model.FileEdit{{File: "link", Old: writes(0)[1].New, New: writes(1)[1].New}}))
	info, err := os.Lstat(filepath.Join(j.root, "link"))
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeSymlink)
	require.NoError(t, j.Write([]model.FileEdit{{File: "folder/lock", Old: writes(1)[1].New, New: []byte("by the folder")}}))
	text, err := os.ReadFile(filepath.Join(j.root, "deep", "lock"))
	require.NoError(t, err)
	assert.Equal(t, "by the folder", string(text))
	for _, name := range []string{"out", ".git/config", "../x", "folder/../../x"} {
		assert.Error(t, j.Write([]model.FileEdit{{File: name, Old: []byte{}, New: []byte("x")}}), name)
	}
	text, err = os.ReadFile(outside)
	require.NoError(t, err)
	assert.Empty(t, text)
}

// A journal that somebody else wrote is not acted on: one that came with the project,
// one of another checkout, one that was changed.
func TestPlantedJournal(t *testing.T) {
	other := layOut(t)
	data, err := json.Marshal(
		set{Files: []recorded{{File: "manifest", Before: sum(writes(0)[0].New, true), After: sum([]byte("evil"), true), Mode: 0o755}}},
	)
	require.NoError(t, err)
	require.NoError(t, other.keep.Write(record, data))
	ofAnother, err := os.ReadFile(filepath.Join(other.root, Dir, record))
	require.NoError(t, err)
	for name, text := range map[string][]byte{
		"without a seal": data, "of another checkout": ofAnother,
		"with any seal": append([]byte(`{"seal": "`+strings.Repeat("a", 64)+`",`), data[1:]...),
	} {
		j := layOut(t)
		plant := func(file string, text []byte) {
			file = filepath.Join(j.root, Dir, file)
			require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
			require.NoError(t, os.WriteFile(file, text, 0o644))
		}
		plant(record, text)
		plant("journal/000", []byte("evil"))
		_, err := j.Recover()
		assert.ErrorIs(t, err, ErrForeign, name)
		assert.Equal(t, want(0), state(t, j), name)
	}
}

// What a folder brings along is put aside by the first call that writes there, and
// comes back when a person says so.
func TestPlantedFolder(t *testing.T) {
	root := filepath.Join(t.TempDir(), "project")
	require.NoError(t, os.MkdirAll(filepath.Join(root, Dir, "journal"), 0o755))
	for _, name := range []string{"route.yaml", "bridges.yaml", "journal/record.json", "owner.json"} {
		require.NoError(t, os.WriteFile(filepath.Join(root, Dir, name), []byte("{}"), 0o644))
	}
	outside := t.TempDir()
	require.NoError(t, os.Symlink(outside, filepath.Join(root, Dir, "logs")))
	files, err := within.Open(root, nil)
	require.NoError(t, err)
	k := In(files, root+".state")
	assert.False(t, k.Owned())
	assert.Equal(t, []string{"journal", "logs", "owner.json", "route.yaml"}, k.Foreign())
	_, err = k.ReadText("route.yaml")
	assert.ErrorIs(t, err, ErrForeign)
	aside, err := k.Prepare()
	require.NoError(t, err)
	assert.Contains(t, aside, "foreign-1")
	assert.True(t, k.Owned())
	assert.FileExists(t, filepath.Join(root, Dir, "bridges.yaml"))
	_, err = k.ReadText("route.yaml")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	file, err := k.Create("logs/verify/test.log")
	require.NoError(t, err)
	require.NoError(t, file.Close())
	entries, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, entries)

	require.NoError(t, os.RemoveAll(filepath.Join(root, Dir, "logs")))
	names, err := k.Adopt()
	require.NoError(t, err)
	assert.Equal(t, []string{"journal/record.json", "route.yaml"}, names)
	_, err = k.Read(record)
	assert.NoError(t, err)

	require.NoError(t, os.Rename(root, root+".moved")) // another place
	moved, err := within.Open(root+".moved", nil)
	require.NoError(t, err)
	assert.False(t, In(moved, root+".state").Owned())
}

// The folder itself, and the lock, are no links.
func TestFolderAsLink(t *testing.T) {
	root, outside := t.TempDir(), t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(root, "own"), 0o755))
	for _, target := range []string{outside, "own"} {
		require.NoError(t, os.Symlink(target, filepath.Join(root, Dir)))
		files, err := within.Open(root, nil)
		require.NoError(t, err)
		k := In(files, outside+".state")
		assert.NotEmpty(t, k.Foreign())
		_, err = k.Prepare()
		assert.ErrorContains(t, err, "link")
		assert.Error(t, k.WriteText("route.yaml", nil))
		require.NoError(t, os.Remove(filepath.Join(root, Dir)))
	}
	j := open(t, root)
	require.NoError(t, os.Symlink(filepath.Join(outside, "made"), filepath.Join(root, Dir, "lock")))
	_, err := j.keep.Hold()
	assert.Error(t, err)
	assert.NoFileExists(t, filepath.Join(outside, "made"))
}

func TestHold(t *testing.T) {
	k := open(t, t.TempDir()).keep
	release, err := k.Hold()
	require.NoError(t, err)
	_, err = k.Hold()
	assert.ErrorContains(t, err, "another Bellwether is at work")
	release()
	release, err = k.Hold()
	require.NoError(t, err)
	release()
}
