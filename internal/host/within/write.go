package within

import (
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"syscall"

	"bellwether/internal/core/reserved"
)

// maxLinks is how many links are followed on the way to a file.
const maxLinks = 40

// Real is the name of what a name leads to, with no link in it. What does not exist yet
// is taken as it stands.
func (f *Folder) Real(name string) (string, error) {
	if err := f.check("follow", name); err != nil {
		return "", err
	}
	real, rest := ".", name
	for links := 0; rest != ""; {
		part, more, _ := strings.Cut(rest, "/")
		next := path.Join(real, part)
		if next == ".." || strings.HasPrefix(next, "../") {
			return "", &fs.PathError{Op: "follow", Path: name, Err: ErrOutside}
		}
		rest = more
		info, err := f.root.Lstat(filepath.FromSlash(next))
		if err != nil || info.Mode()&fs.ModeSymlink == 0 {
			real = next
			continue
		}
		to, err := f.root.Readlink(filepath.FromSlash(next))
		if err != nil {
			return "", why("follow", name, err)
		}
		if links++; filepath.IsAbs(to) || links > maxLinks {
			return "", &fs.PathError{Op: "follow", Path: name, Err: ErrOutside}
		}
		rest = strings.TrimSuffix(filepath.ToSlash(to), "/")
		if more != "" {
			rest += "/" + more
		}
	}
	return real, f.check("follow", real)
}

// MakeFolder makes a folder, and those above it.
func (f *Folder) MakeFolder(name string) error {
	if err := f.checkWrite("mkdir", name); err != nil {
		return err
	}
	return why("mkdir", name, f.root.MkdirAll(filepath.FromSlash(name), 0o755))
}

// Write puts a file in the place of what stands under a name, whole or not at all: it is
// written beside it, brought to the disk, and renamed. A link is replaced; see Real.
func (f *Folder) Write(name string, data []byte, mode fs.FileMode) error {
	return f.WriteBy(name, path.Dir(name), data, mode)
}

// WriteBy is Write with the folder in which the new file is written first. Where that
// lies on another disk, it is written beside the name.
func (f *Folder) WriteBy(name, by string, data []byte, mode fs.FileMode) error {
	if err := f.checkWrite("write", name); err != nil {
		return err
	}
	begun, err := f.begin(by, data, mode)
	if err != nil {
		return why("write", name, err)
	}
	err = f.root.Rename(filepath.FromSlash(begun), filepath.FromSlash(name))
	if err == nil {
		return nil
	}
	_ = f.root.Remove(filepath.FromSlash(begun))
	if errors.Is(err, syscall.EXDEV) && by != path.Dir(name) {
		return f.WriteBy(name, path.Dir(name), data, mode)
	}
	return why("write", name, err)
}

// begin writes a new file in a folder.
func (f *Folder) begin(dir string, data []byte, mode fs.FileMode) (name string, err error) {
	name = path.Join(dir, ".bellwether-"+strings.ToLower(rand.Text()))
	file, err := f.create(name, mode)
	if err != nil {
		return "", err
	}
	_, err = file.Write(data)
	if err == nil {
		err = file.Chmod(mode) // whatever the person's umask is
	}
	if err == nil {
		err = file.Sync()
	}
	if cerr := file.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		_ = f.root.Remove(filepath.FromSlash(name))
	}
	return name, why("write", name, err)
}

// Create makes a file, which must not be there yet.
func (f *Folder) Create(name string, mode fs.FileMode) (*os.File, error) {
	if err := f.checkWrite("write", name); err != nil {
		return nil, err
	}
	return f.create(name, mode)
}

func (f *Folder) create(name string, mode fs.FileMode) (*os.File, error) {
	if err := f.check("write", name); err != nil {
		return nil, err
	}
	file, err := f.root.OpenFile(filepath.FromSlash(name), os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode.Perm())
	return file, why("write", name, err)
}

// Rename gives what stands under a name another one.
func (f *Folder) Rename(from, to string) error {
	for _, name := range []string{from, to} {
		if err := f.checkOwn("rename", name); err != nil {
			return err
		}
	}
	return why("rename", from, f.root.Rename(filepath.FromSlash(from), filepath.FromSlash(to)))
}

// Remove removes a file, a link, or an empty folder. What is not there is no error.
func (f *Folder) Remove(name string) error {
	return f.gone(name, f.root.Remove)
}

// RemoveAll removes what stands under a name, with all below it. Links are not
// followed. Folders that are closed to writing are opened for it.
func (f *Folder) RemoveAll(name string) error {
	err := f.gone(name, f.root.RemoveAll)
	if err == nil || !errors.Is(err, fs.ErrPermission) {
		return err
	}
	f.unlock(name)
	return f.gone(name, f.root.RemoveAll)
}

// gone removes something, whose own name may be a link's.
func (f *Folder) gone(name string, remove func(string) error) error {
	if name == "." {
		return &fs.PathError{Op: "remove", Path: name, Err: ErrOutside}
	}
	if err := f.checkOwn("remove", name); err != nil {
		return err
	}
	if err := remove(filepath.FromSlash(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return why("remove", name, err)
	}
	return nil
}

// checkOwn refuses a name that is not to be changed. What stands under the name may be a link.
func (f *Folder) checkOwn(op, name string) error {
	switch owner := reserved.Of(name); {
	case !fs.ValidPath(name):
		return &fs.PathError{Op: op, Path: name, Err: ErrOutside}
	case owner == reserved.Git:
		return &fs.PathError{Op: op, Path: name, Err: ErrGit}
	case owner == reserved.Bellwether && !f.keeps:
		return &fs.PathError{Op: op, Path: name, Err: ErrKept}
	}
	return f.check(op, path.Dir(name))
}

// unlock makes folders writable, from the top down.
func (f *Folder) unlock(name string) {
	at := filepath.FromSlash(name)
	info, err := f.root.Lstat(at)
	if err != nil || !info.IsDir() {
		return
	}
	_ = f.root.Chmod(at, info.Mode().Perm()|0o700)
	dir, err := f.root.Open(at)
	if err != nil {
		return
	}
	names, _ := dir.Readdirnames(-1)
	_ = dir.Close()
	for _, n := range names {
		f.unlock(name + "/" + n)
	}
}

// Below is a folder in the folder that no link leads to.
func (f *Folder) Below(name string) (*Folder, error) {
	info, err := f.WithoutLinks().Lstat(name)
	if err == nil && info.Mode()&fs.ModeSymlink != 0 {
		err = &fs.PathError{Op: "open", Path: name, Err: ErrLink}
	}
	if err == nil && !info.IsDir() {
		err = &fs.PathError{Op: "open", Path: name, Err: syscall.ENOTDIR}
	}
	if err != nil {
		return nil, err
	}
	root, err := f.root.OpenRoot(filepath.FromSlash(name))
	if err != nil {
		return nil, why("open", name, err)
	}
	return &Folder{
		Dir: filepath.Join(f.Dir, filepath.FromSlash(name)), root: root, passed: f.passed, deep: &deep{},
		listed: &listed{links: map[string]map[string]bool{}},
	}, nil
}
