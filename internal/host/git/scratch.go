package git

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"
)

// Scratch checks HEAD out into a new folder, which must not exist.
func (r *Repo) Scratch(ctx context.Context, dir string) error {
	return r.alone(ctx, func(string) error {
		_, err := r.run(ctx, "worktree", "add", "-q", "--detach", dir, "HEAD")
		return err
	})
}

// DropScratch removes a scratch checkout and its entry in the repository, also one
// that was never finished. Other checkouts stay, also those that cannot be seen now.
func (r *Repo) DropScratch(ctx context.Context, dir string) error {
	return errors.Join(os.RemoveAll(dir), r.alone(ctx, func(common string) error {
		// The layout is that of gitrepository-layout(5).
		list := filepath.Join(common, "worktrees")
		entries, err := os.ReadDir(list)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		} else if err != nil {
			return err
		}
		for _, e := range entries {
			entry := filepath.Join(list, e.Name())
			text, err := os.ReadFile(filepath.Join(entry, "gitdir"))
			if err != nil {
				continue
			}
			at := strings.TrimSuffix(string(text), "\n")
			if !filepath.IsAbs(at) {
				at = filepath.Join(entry, at)
			}
			if at == filepath.Join(dir, ".git") {
				err := os.RemoveAll(entry)
				_ = os.Remove(list) // if it is empty now
				return err
			}
		}
		return nil
	}))
}

// alone does something to the list of checkouts while no other call does. Git reads
// all entries when it writes one, and fails at one that is half written.
func (r *Repo) alone(ctx context.Context, do func(common string) error) error {
	common, err := r.run(ctx, "rev-parse", "--git-common-dir")
	if err != nil {
		return err
	}
	common = strings.TrimSuffix(common, "\n")
	if !filepath.IsAbs(common) {
		common = filepath.Join(r.Top, common)
	}
	// The folder itself is locked, so that nothing is written for it. Where that is
	// not possible, it goes without.
	lock := flock.New(common, flock.SetFlag(os.O_RDONLY))
	if _, err := lock.TryLockContext(ctx, 5*time.Millisecond); ctx.Err() != nil {
		return fmt.Errorf("waiting for another checkout: %w", err)
	}
	defer func() { _ = lock.Unlock() }()
	return do(common)
}
