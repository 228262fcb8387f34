// Package overlay lays file contents in memory over a file system, so that a
// state of the project that is not on disk can be read like one that is.
package overlay

import (
	"bytes"
	"io/fs"
	"path"
	"time"

	"bellwether/internal/core/model"
)

// FS is a file system with some files in memory. Listing a folder shows only
// what the base has; see Laid.
type FS struct {
	base  fs.FS // nil for none
	files map[string][]byte
}

// New lays files over base, which may be nil.
func New(base fs.FS, files map[string][]byte) *FS { return &FS{base, files} }

// With gives fsys with edits made.
func With(fsys fs.FS, edits []model.FileEdit) *FS {
	files := map[string][]byte{}
	for _, e := range edits {
		files[e.File] = e.New
	}
	return New(fsys, files)
}

// Laid are the names of all files in memory, here and in what it is laid over, and whether each
// is there.
func (o *FS) Laid() map[string]bool {
	all := map[string]bool{}
	if below, ok := o.base.(*FS); ok {
		all = below.Laid()
	}
	for name, data := range o.files {
		all[name] = data != nil
	}
	return all
}

// Open opens a file, from memory if it is there. A file whose content in
// memory is nil does not exist.
func (o *FS) Open(name string) (fs.File, error) {
	data, ok := o.files[name]
	switch {
	case ok && data != nil:
		return &file{data: bytes.NewReader(data), name: path.Base(name), size: int64(len(data))}, nil
	case ok || o.base == nil:
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return o.base.Open(name)
}

// file is an open file in memory, and its own description.
type file struct {
	data *bytes.Reader
	name string
	size int64
}

func (f *file) Read(p []byte) (int, error) { return f.data.Read(p) }

func (f *file) Stat() (fs.FileInfo, error) { return f, nil }
func (f *file) Close() error               { return nil }
func (f *file) Name() string               { return f.name }
func (f *file) Size() int64                { return f.size }
func (f *file) Mode() fs.FileMode          { return 0o644 }
func (f *file) ModTime() time.Time         { return time.Time{} }
func (f *file) IsDir() bool                { return false }
func (f *file) Sys() any                   { return nil }
