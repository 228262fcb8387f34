package within

import (
	"cmp"
	"io"
	"io/fs"
	"slices"
)

// entry is a file by the name of a link that leads to it.
type entry struct {
	name string
	info fs.FileInfo
}

func (e entry) Name() string               { return e.name }
func (e entry) IsDir() bool                { return false }
func (e entry) Type() fs.FileMode          { return e.info.Mode().Type() }
func (e entry) Info() (fs.FileInfo, error) { return e.info, nil }

func sortByName(entries []fs.DirEntry) {
	slices.SortFunc(entries, func(a, b fs.DirEntry) int { return cmp.Compare(a.Name(), b.Name()) })
}

// folder is a folder that is open for listing.
type folder struct {
	f     *Folder
	name  string
	info  fs.FileInfo
	known bool
	left  []fs.DirEntry
}

func (d *folder) Stat() (fs.FileInfo, error) { return d.info, nil }
func (d *folder) Close() error               { return nil }

func (d *folder) Read([]byte) (int, error) {
	return 0, &fs.PathError{Op: "read", Path: d.name, Err: fs.ErrInvalid}
}

// ReadDir lists the folder as Folder.ReadDir does.
func (d *folder) ReadDir(n int) ([]fs.DirEntry, error) {
	if !d.known {
		all, err := d.f.ReadDir(d.name)
		if err != nil {
			return nil, err
		}
		d.known, d.left = true, all
	}
	if n <= 0 {
		n = len(d.left)
	} else if len(d.left) == 0 {
		return nil, io.EOF
	}
	n = min(n, len(d.left))
	first := d.left[:n]
	d.left = d.left[n:]
	return first, nil
}
