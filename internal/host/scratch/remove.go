package scratch

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"

	"github.com/bmatcuk/doublestar/v4"
)

// Remove removes what patterns name below a folder of the scratch, and gives what of it
// was there. A file under version control stays, whatever is named.
func (s *Scratch) Remove(ctx context.Context, dir string, patterns []string) (removed []string, err error) {
	tracked, err := s.Tracked(ctx)
	if err != nil {
		return nil, err
	}
	for _, pattern := range patterns {
		found, err := doublestar.Glob(os.DirFS(filepath.Join(s.Dir, filepath.FromSlash(dir))), pattern)
		if err != nil {
			return nil, fmt.Errorf("looking for %s: %w", pattern, err)
		}
		slices.Sort(found)
		for _, name := range found {
			name = path.Join(dir, name)
			n, err := removeGenerated(s.Dir, name, tracked)
			if err != nil {
				return nil, fmt.Errorf("removing %s: %w", name, err)
			}
			if n > 0 {
				removed = append(removed, name)
			}
		}
	}
	return removed, nil
}

// removeGenerated removes a file, or all below a folder, but what is tracked. It
// gives how many files went.
func removeGenerated(dir, name string, tracked map[string]bool) (n int, err error) {
	var folders []string
	err = filepath.WalkDir(filepath.Join(dir, filepath.FromSlash(name)), func(at string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			folders = append(folders, at)
			return nil
		}
		below, err := filepath.Rel(dir, at)
		if err != nil || tracked[filepath.ToSlash(below)] {
			return err
		}
		n++
		return os.Remove(at)
	})
	for _, folder := range slices.Backward(folders) {
		_ = os.Remove(folder) // where something is left in it, it stays
	}
	if os.IsNotExist(err) {
		return n, nil // it went with a folder around it
	}
	return n, err
}
