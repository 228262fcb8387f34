package git

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/host/marked"
)

// interrupted is a repository in which a change was noted, and git killed.
func interrupted(t *testing.T, c change) (*Repo, func(name, text string)) {
	r, write := repo(t)
	r.Note = note(filepath.Join(t.TempDir(), "note.json"))
	var err error
	c.From, err = r.Head(t.Context())
	require.NoError(t, err)
	data, err := json.Marshal(c)
	require.NoError(t, err)
	require.NoError(t, r.Note.Write(data))
	write(".git/index.lock", "")
	return r, write
}

// A reset replaces one file after the other, then the index, and HEAD last.
func TestMendReset(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	ctx := context.Background()
	r, write := repo(t)
	for name, text := range map[string]string{
		"both": "old", "cut off": "old and long", "dropped": "old", "edited": "old", "missing": "old", "untouched": "old",
	} {
		write(name, text)
	}
	to, err := r.Commit(ctx, []string{"."}, "before", nil)
	require.NoError(t, err)
	after := map[string]string{"both": "new", "cut off": "new", "edited": "new", "missing": "new", "untouched": "new", "added": "new"}
	for name, text := range after {
		write(name, text)
	}
	require.NoError(t, os.Remove(filepath.Join(r.Top, "dropped")))
	from, err := r.Commit(ctx, []string{"."}, "leg", nil)
	require.NoError(t, err)

	for _, newIndex := range []bool{false, true} {
		require.NoError(t, exec.Command("git", "-C", r.Top, "reset", "-q", "--hard", from).Run())
		r.Note = note(filepath.Join(t.TempDir(), "note.json"))
		data, err := json.Marshal(change{What: resetting, From: from, To: to})
		require.NoError(t, err)
		require.NoError(t, r.Note.Write(data))
		if newIndex {
			require.NoError(t, exec.Command("git", "-C", r.Top, "read-tree", to).Run())
		} else {
			write(".git/index.lock", "")
		}
		write("both", "old")
		write("cut off", "old an")
		write("dropped", "old")
		write("edited", "by the person")
		require.NoError(t, os.Remove(filepath.Join(r.Top, "missing")))
		require.NoError(t, os.Remove(filepath.Join(r.Top, "added")))

		told := 0
		require.NoError(t, r.Mend(ctx, func(m Mended) error {
			told++
			assert.Equal(t, Mended{From: from, Back: true}, m)
			return nil
		}))
		assert.Equal(t, 1, told)
		for name, text := range after {
			if name == "edited" {
				text = "by the person"
			}
			now, err := os.ReadFile(filepath.Join(r.Top, name))
			require.NoError(t, err)
			assert.Equal(t, text, string(now), name)
		}
		assert.NoFileExists(t, filepath.Join(r.Top, "dropped"))
		assert.NoFileExists(t, filepath.Join(r.Top, ".git", "index.lock"))
		assert.NoFileExists(t, string(r.Note.(note)))
	}
}

func TestMendCommit(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	ctx := context.Background()
	r, write := interrupted(t, change{What: committing, Says: "leg"})
	require.NoError(t, os.Remove(filepath.Join(r.Top, ".git", "index.lock")))
	write("a file", "two")
	require.NoError(t, exec.Command("git", "-C", r.Top, "commit", "-qam", "leg\n\nmoves").Run())
	head, err := r.Head(ctx)
	require.NoError(t, err)
	full := errors.New("no room")
	require.ErrorIs(t, r.Mend(ctx, func(Mended) error { return full }), full)
	require.NoError(t, r.Mend(ctx, func(m Mended) error {
		assert.Equal(t, head, m.Commit, "it is told again until it is remembered")
		return nil
	}))

	r, write = interrupted(t, change{What: committing, Says: "leg"})
	require.NoError(t, os.Remove(filepath.Join(r.Top, ".git", "index.lock")))
	write("a file", "three")
	require.NoError(t, exec.Command("git", "-C", r.Top, "commit", "-qam", "my own repair").Run())
	require.NoError(t, r.Mend(ctx, func(m Mended) error {
		assert.Empty(t, m.Commit, "a person's commit is not taken for the leg's")
		return nil
	}))
}

// The lock of a git that is still at work stays.
func TestMendWaits(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	mark := marked.New(committing)
	r, _ := interrupted(t, change{Mark: mark, What: committing})
	living := exec.Command("sh", "-c", "read ended", "git", "commit")
	living.Env = append(os.Environ(), mark)
	_, err := living.StdinPipe()
	require.NoError(t, err)
	require.NoError(t, living.Start())
	if _, known := marked.Find(mark); !known {
		t.Skip("environments of processes cannot be seen here")
	}
	ctx, cancel := context.WithTimeout(context.Background(), mendPatience/10)
	defer cancel()
	require.ErrorIs(t, r.Mend(ctx, nil), context.DeadlineExceeded)
	assert.FileExists(t, filepath.Join(r.Top, ".git", "index.lock"))
	require.NoError(t, living.Process.Kill())
	_ = living.Wait()
	require.NoError(t, r.Mend(context.Background(), func(Mended) error { return nil }))
	assert.NoFileExists(t, filepath.Join(r.Top, ".git", "index.lock"))
}

// note is a note in a file.
type note string

func (n note) Read() ([]byte, time.Time, error) {
	data, err := os.ReadFile(string(n))
	if err != nil {
		return nil, time.Time{}, err
	}
	info, err := os.Stat(string(n))
	if err != nil {
		return nil, time.Time{}, err
	}
	return data, info.ModTime(), nil
}

func (n note) Write(data []byte) error { return os.WriteFile(string(n), data, 0o644) }
func (n note) Remove() error           { return os.Remove(string(n)) }

// A lock that another git holds stays: one that was there before, one of a time to come, and one that a git met that then
// ended by itself.
func TestForeignLock(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	ctx := context.Background()
	for _, when := range []time.Duration{-time.Minute, 0, time.Hour} {
		r, write := repo(t)
		write("a file", "two")
		before, err := r.Head(ctx)
		require.NoError(t, err)
		leg, err := r.Commit(ctx, []string{"."}, "leg", nil)
		require.NoError(t, err)
		r.Note = note(filepath.Join(t.TempDir(), "note.json"))
		write(".git/index.lock", "")
		lock := filepath.Join(r.Top, ".git", "index.lock")
		at := time.Now().Add(when)
		require.NoError(t, os.Chtimes(lock, at, at))
		require.Error(t, r.Back(ctx, leg, before, nil), "%s", when)
		assert.FileExists(t, lock, "%s", when)
		require.NoError(t, os.Remove(lock))
		require.NoError(t, r.Back(ctx, leg, before, nil), "it goes on when the other git is done")
	}
	r, _ := interrupted(t, change{What: committing})
	lock := filepath.Join(r.Top, ".git", "index.lock")
	later := time.Now().Add(time.Hour)
	require.NoError(t, os.Chtimes(lock, later, later))
	require.NoError(t, r.Mend(ctx, func(Mended) error { return nil }))
	assert.FileExists(t, lock, "no git that was killed can have made it")
}
