package disk

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
)

// set is a set of writes: two changed files, one new, one gone.
func set(version int) []model.FileEdit {
	text := func(name string) []byte { return fmt.Appendf(nil, "%s of version %d\n", name, version) }
	old := func(name string) []byte { return fmt.Appendf(nil, "%s of version %d\n", name, version-1) }
	return []model.FileEdit{
		{File: "manifest", Old: old("manifest"), New: text("manifest")},
		{File: "deep/lock", Old: old("deep/lock"), New: text("deep/lock")},
	}
}

func layOut(t *testing.T) *Journal {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "deep"), 0o755))
	for _, e := range set(0) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, e.File), e.New, 0o640))
	}
	return &Journal{Root: dir, Dir: filepath.Join(dir, ".keep", "journal")}
}

func state(t *testing.T, j *Journal) string {
	all := ""
	for _, e := range set(0) {
		data, err := os.ReadFile(filepath.Join(j.Root, e.File))
		require.NoError(t, err)
		all += string(data)
	}
	return all
}

func want(version int) string {
	all := ""
	for _, e := range set(version) {
		all += string(e.New)
	}
	return all
}

func TestWrite(t *testing.T) {
	j := layOut(t)
	require.NoError(t, j.Write(set(1)))
	assert.Equal(t, want(1), state(t, j))
	info, err := os.Stat(filepath.Join(j.Root, "manifest"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm(), "the mode stays")
	assert.NoDirExists(t, j.Dir)

	assert.ErrorContains(t, j.Write(set(1)), "has changed since it was read")
	assert.ErrorContains(t, j.Write([]model.FileEdit{{File: "../out", New: []byte("x")}}), "not a path inside")
	require.NoError(t, j.Write([]model.FileEdit{{File: "fresh/er", New: []byte("x")}, {File: "manifest", Old: set(1)[0].New}}))
	assert.FileExists(t, filepath.Join(j.Root, "fresh/er"))
	assert.NoFileExists(t, filepath.Join(j.Root, "manifest"))
}

func TestUnwritableFolderChangesNothing(t *testing.T) {
	if os.Geteuid() == 0 {
		t.Skip("root writes everywhere")
	}
	j := layOut(t)
	require.NoError(t, os.Chmod(filepath.Join(j.Root, "deep"), 0o555))
	require.Error(t, j.Write(set(1)))
	assert.Equal(t, want(0), state(t, j))
}

// TestKilled kills a process that keeps writing sets, at random instants; the
// files must then be those of one version, whole.
func TestKilled(t *testing.T) {
	if os.Getenv("JOURNAL_ROOT") != "" {
		j := &Journal{Root: os.Getenv("JOURNAL_ROOT"), Dir: filepath.Join(os.Getenv("JOURNAL_ROOT"), ".keep", "journal")}
		from, _ := strconv.Atoi(os.Getenv("JOURNAL_FROM"))
		for version := from; ; version++ {
			require.NoError(t, j.Write(set(version)))
		}
	}
	j := layOut(t)
	version := 0
	for kill := range 40 {
		cmd := exec.Command(os.Args[0], "-test.run=^TestKilled$")
		cmd.Env = append(os.Environ(), "JOURNAL_ROOT="+j.Root, fmt.Sprintf("JOURNAL_FROM=%d", version+1))
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(15+kill*7%60) * time.Millisecond)
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
		_, err := j.Recover()
		require.NoError(t, err)
		data, err := os.ReadFile(filepath.Join(j.Root, "manifest"))
		require.NoError(t, err)
		_, err = fmt.Sscanf(string(data), "manifest of version %d", &version)
		require.NoError(t, err)
		require.Equal(t, want(version), state(t, j), "half of a set is written")
		require.NoDirExists(t, j.Dir)
	}
	assert.Positive(t, version, "the process must have got somewhere")
}

func TestHold(t *testing.T) {
	file := filepath.Join(t.TempDir(), "keep", "lock")
	release, err := Hold(file)
	require.NoError(t, err)
	_, err = Hold(file)
	assert.ErrorContains(t, err, "another Bellwether is at work")
	release()
	release, err = Hold(file)
	require.NoError(t, err)
	release()
}
