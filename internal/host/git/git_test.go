package git

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"
)

func repo(t *testing.T) (*Repo, func(name, text string)) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("a file", "one")
	r, err := Init(context.Background(), dir, "Crew", "crew@saltmarsh.example", "start")
	require.NoError(t, err)
	return r, write
}

func TestCommitAndBack(t *testing.T) {
	ctx := context.Background()
	r, write := repo(t)
	start, err := r.Head(ctx)
	require.NoError(t, err)
	require.NoError(t, r.Switch(ctx, "side"))
	assert.Equal(t, "side", r.Branch(ctx))

	write("a file", "two")
	write("new\nline", "odd name")
	changes, err := r.Changes(ctx)
	require.NoError(t, err)
	assert.Equal(t, []Change{{" M", "a file", false}, {"??", "new\nline", false}}, changes)

	commit, err := r.Commit(ctx, []string{"a file"}, "only the one", nil)
	require.NoError(t, err)
	changes, err = r.Changes(ctx)
	require.NoError(t, err)
	assert.Equal(t, []Change{{"??", "new\nline", false}}, changes, "other changes are left alone")

	assert.ErrorContains(t, r.Back(ctx, start, start, nil), "not the leg's")
	require.NoError(t, r.Back(ctx, commit, start, nil))
	text, err := os.ReadFile(filepath.Join(r.Top, "a file"))
	require.NoError(t, err)
	assert.Equal(t, "one", string(text))
	assert.FileExists(t, filepath.Join(r.Top, "new\nline"))
}

func TestScratch(t *testing.T) {
	ctx := context.Background()
	r, write := repo(t)
	write("a file", "changed, not committed")
	dir := filepath.Join(t.TempDir(), "scratch")
	require.NoError(t, r.Scratch(ctx, dir))
	text, err := os.ReadFile(filepath.Join(dir, "a file"))
	require.NoError(t, err)
	assert.Equal(t, "one", string(text))
	require.NoError(t, r.DropScratch(ctx, dir))
	assert.NoDirExists(t, dir)
	assert.NoDirExists(t, filepath.Join(r.Top, ".git", "worktrees"))
}

// A git that was killed while it made a checkout leaves an entry at which every later
// one fails.
func TestHalfMadeScratch(t *testing.T) {
	ctx := context.Background()
	r, _ := repo(t)
	dir := filepath.Join(t.TempDir(), "tree")
	for entry, at := range map[string]string{"tree": dir, "elsewhere": "/away/disk"} {
		entry = filepath.Join(r.Top, ".git", "worktrees", entry)
		require.NoError(t, os.MkdirAll(entry, 0o755))
		for name, text := range map[string]string{"gitdir": at + "/.git\n", "locked": "initializing\n", "HEAD": "", "commondir": "../..\n"} {
			require.NoError(t, os.WriteFile(filepath.Join(entry, name), []byte(text), 0o644))
		}
	}
	half := filepath.Join(r.Top, ".git", "worktrees", "tree")
	require.NoError(t, os.Truncate(filepath.Join(half, "commondir"), 0))
	require.ErrorContains(t, r.Scratch(ctx, filepath.Join(t.TempDir(), "other")), "commondir")

	require.NoError(t, r.DropScratch(ctx, dir))
	assert.NoDirExists(t, half)
	assert.DirExists(t, filepath.Join(r.Top, ".git", "worktrees", "elsewhere"))
	require.NoError(t, r.Scratch(ctx, filepath.Join(t.TempDir(), "another")))
}

// Git stumbles over checkouts that are being made, so one is made after the other.
func TestScratchesAtOnce(t *testing.T) {
	r, _ := repo(t)
	real, err := exec.LookPath("git")
	require.NoError(t, err)
	bin, busy := t.TempDir(), filepath.Join(t.TempDir(), "busy")
	wrapped := fmt.Sprintf("#!/bin/sh\n[ $1 = worktree ] || exec %[1]s \"$@\"\nmkdir %[2]s || exit 9\nsleep 0.02\n%[1]s \"$@\"; s=$?\nrmdir %[2]s\nexit $s\n", real, busy)
	require.NoError(t, os.WriteFile(filepath.Join(bin, "git"), []byte(wrapped), 0o755))
	t.Setenv("PATH", bin+string(os.PathListSeparator)+os.Getenv("PATH"))
	var calls errgroup.Group
	for range 8 {
		dir := filepath.Join(t.TempDir(), "tree")
		calls.Go(func() error {
			other := *r // as another call would have it
			return errors.Join(other.Scratch(t.Context(), dir), other.DropScratch(t.Context(), dir))
		})
	}
	assert.NoError(t, calls.Wait())
}

func TestRefusedCommit(t *testing.T) {
	ctx := context.Background()
	r, write := repo(t)
	hook := filepath.Join(r.Top, ".git", "hooks", "pre-commit")
	require.NoError(t, os.MkdirAll(filepath.Dir(hook), 0o755))
	require.NoError(t, os.WriteFile(hook, []byte("#!/bin/sh\necho no entry >&2\nexit 1\n"), 0o755))
	write("a file", "two")
	_, err := r.Commit(ctx, []string{"a file"}, "refused", nil)
	assert.ErrorContains(t, err, "no entry")
}

func TestIgnored(t *testing.T) {
	r, write := repo(t)
	write(".gitignore", "dist/\n")
	ignored, err := r.Ignored(context.Background(), r.Top, []string{"dist/package.json", "package.json"})
	require.NoError(t, err)
	assert.True(t, ignored["dist/package.json"])
	assert.False(t, ignored["package.json"])
	ignored, err = r.Ignored(context.Background(), r.Top, []string{"package.json"})
	require.NoError(t, err)
	assert.False(t, ignored["package.json"])
}

func TestNoRepository(t *testing.T) {
	_, err := Open(context.Background(), t.TempDir())
	assert.ErrorIs(t, err, ErrNone)
}
