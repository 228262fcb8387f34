package scratch

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"

	"github.com/bmatcuk/doublestar/v4"

	"bellwether/internal/host/within"
)

// Remove removes what patterns name below a folder of the scratch, and gives what of it
// was there. A file under version control stays, whatever is named, and no pattern goes
// through a link: what lies behind one is not in the scratch.
func (s *Scratch) Remove(ctx context.Context, dir string, patterns []string) (removed []string, err error) {
	if len(patterns) == 0 {
		return nil, nil
	}
	tracked, err := s.Tracked(ctx)
	if err != nil {
		return nil, err
	}
	files, err := within.Open(s.Dir, nil)
	if err != nil {
		return nil, err
	}
	defer files.Close()
	files = files.WithoutLinks()
	below, err := files.Below(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	defer below.Close()
	for _, pattern := range patterns {
		found, err := doublestar.Glob(asTheyStand{below}, path.Clean(pattern), doublestar.WithNoFollow())
		if err != nil {
			return nil, fmt.Errorf("looking for %s: %w", pattern, err)
		}
		slices.Sort(found)
		for _, name := range found {
			name = path.Join(dir, name)
			n, err := removeGenerated(files, name, tracked)
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

// asTheyStand is a folder in which a link is looked at for itself.
type asTheyStand struct{ *within.Folder }

// Stat describes what stands under a name.
func (f asTheyStand) Stat(name string) (fs.FileInfo, error) { return f.Lstat(name) }

// removeGenerated removes a file, or all below a folder, but what is tracked. It
// gives how many files went.
func removeGenerated(files *within.Folder, name string, tracked map[string]bool) (n int, err error) {
	if info, err := files.Lstat(name); errors.Is(err, fs.ErrNotExist) || errors.Is(err, within.ErrLink) {
		return 0, nil // it went with a folder around it, or lies behind a link
	} else if err != nil {
		return 0, err
	} else if !info.IsDir() {
		if tracked[name] {
			return 0, nil
		}
		return 1, files.Remove(name)
	}
	entries, err := files.ReadDir(name)
	if err != nil {
		return 0, err
	}
	for _, e := range entries {
		m, err := removeGenerated(files, path.Join(name, e.Name()), tracked)
		if n += m; err != nil {
			return n, err
		}
	}
	_ = files.Remove(name) // where something is left in it, it stays
	return n, nil
}
