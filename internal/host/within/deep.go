package within

import (
	"errors"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
)

// deepFrom is how many folders a file has to be below for its folder to be kept open: an
// os.Root goes through all of them each time, which in very deep trees takes for ever.
const deepFrom = 16

// deep is the folder, far down, that was used last. Whoever walks a tree uses it again,
// or goes one folder further.
type deep struct {
	mu   sync.Mutex
	dir  string
	root *os.Root
}

// at does something with a name, relative to a folder near it where it lies deep.
func at[T any](f *Folder, name string, do func(root *os.Root, name string) (T, error)) (T, error) {
	if strings.Count(name, "/") < deepFrom {
		return do(f.root, filepath.FromSlash(name))
	}
	f.deep.mu.Lock()
	defer f.deep.mu.Unlock()
	if root := f.deep.enter(f.root, path.Dir(name)); root != nil {
		got, err := do(root, path.Base(name))
		// A link from here may lead to what lies above, but still in the folder.
		if err == nil || !errors.Is(why("", "", err), ErrOutside) {
			return got, err
		}
	}
	return do(f.root, filepath.FromSlash(name))
}

// enter gives a folder, nil if it cannot be opened.
func (d *deep) enter(top *os.Root, dir string) *os.Root {
	if d.root != nil && d.dir == dir {
		return d.root
	}
	from, name := top, dir
	if d.root != nil && d.dir == path.Dir(dir) {
		from, name = d.root, path.Base(dir)
	}
	next, err := from.OpenRoot(filepath.FromSlash(name))
	if err != nil {
		return nil
	}
	if d.root != nil {
		_ = d.root.Close()
	}
	d.dir, d.root = dir, next
	return next
}
