// Package within is the door to the files of a folder that somebody else may have
// filled: a project, a scratch, what is kept in a project. It never leads out of the
// folder and never into .git, and what it opens is a plain file or a folder, of a
// bounded size. Links are followed only to what lies in the folder.
package within

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"syscall"

	"bellwether/internal/core/reserved"
)

// MaxFile is the size of the largest file that is read, in bytes.
const MaxFile = 512 << 20

// Reasons why a name is not opened. They are the Err of an *fs.PathError.
var (
	ErrOutside  = errors.New("it leads out of the folder")
	ErrGit      = errors.New("it belongs to git")
	ErrKept     = errors.New("it belongs to Bellwether, which keeps its own files there")
	ErrNotPlain = errors.New("it is neither a file nor a folder, but a pipe, a socket or a device")
	ErrLink     = errors.New("it is a link, or lies behind one")
)

// TooLarge is the error of a file that is larger than may be read.
type TooLarge struct{ Size, Limit int64 } // bytes

// Error tells both sizes.
func (e *TooLarge) Error() string {
	return fmt.Sprintf("it has %s, and no more than %s are read", size(e.Size), size(e.Limit))
}

func size(n int64) string {
	if n >= 1<<20 {
		return fmt.Sprintf("%d MB", n>>20)
	}
	return fmt.Sprintf("%d bytes", n)
}

// Folder is a folder whose files are reached only through it. As a file system (fs.FS)
// it shows a link to a file of the folder as that file.
type Folder struct {
	Dir  string // its absolute path
	root *os.Root
	// links is false where nothing is reached by way of a link.
	links bool
	// keeps is true for the one who may write what Bellwether keeps in the folder.
	keeps bool
	// passed is told of what was passed over, and why; it may be nil.
	passed func(name string, why error)
	deep   *deep
	listed *listed
}

// Open opens a folder. passed is told what is passed over while folders are listed, and
// why: what cannot be read, and names that are not valid UTF-8. It may be nil, and is
// called for the same name each time.
func Open(dir string, passed func(name string, why error)) (*Folder, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	return &Folder{Dir: dir, root: root, links: true, passed: passed, deep: &deep{}, listed: &listed{links: map[string]map[string]bool{}}}, nil
}

// WithoutLinks is the same folder, in which nothing is reached by way of a link.
func (f *Folder) WithoutLinks() *Folder {
	return &Folder{Dir: f.Dir, root: f.root, keeps: f.keeps, passed: f.passed, deep: f.deep, listed: f.listed}
}

// Keeping is the same folder for the one who writes what Bellwether keeps in it. For all others
// the door is closed.
func Keeping(f *Folder) *Folder {
	k := *f
	k.keeps = true
	return &k
}

// Close lets go of the folder.
func (f *Folder) Close() error {
	f.deep.mu.Lock()
	defer f.deep.mu.Unlock()
	if f.deep.root != nil {
		_ = f.deep.root.Close()
		f.deep.root = nil
	}
	return f.root.Close()
}

// check refuses a name that is not to be followed.
func (f *Folder) check(op, name string) error {
	refuse := func(why error) error { return &fs.PathError{Op: op, Path: name, Err: why} }
	if !fs.ValidPath(name) {
		return refuse(ErrOutside)
	}
	if reserved.Of(name) == reserved.Git {
		return refuse(ErrGit)
	}
	if f.links {
		return nil
	}
	for at := 0; at >= 0 && at < len(name); {
		next := strings.IndexByte(name[at:], '/')
		part := name
		if next >= 0 {
			part, at = name[:at+next], at+next+1
		} else {
			at = -1
		}
		if f.listed.plain(part) {
			continue // asking would go through all folders above once more, for each of them
		}
		info, err := f.root.Lstat(part)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err == nil && info.Mode()&fs.ModeSymlink != 0 {
			return refuse(ErrLink)
		}
	}
	return nil
}

// checkWrite refuses a name that is not to be followed, or not to be changed.
func (f *Folder) checkWrite(op, name string) error {
	if !f.keeps && reserved.Of(name) == reserved.Bellwether {
		return &fs.PathError{Op: op, Path: name, Err: ErrKept}
	}
	return f.check(op, name)
}

// why is the reason in an error of the operating system.
func why(op, name string, err error) error {
	if err == nil {
		return nil
	}
	var p *fs.PathError
	if errors.As(err, &p) {
		err = p.Err
	}
	var l *os.LinkError
	if errors.As(err, &l) {
		err = l.Err
	}
	if strings.Contains(err.Error(), "escapes from parent") { // os.Root has no name for it
		err = ErrOutside
	}
	if errors.Is(err, syscall.ENXIO) { // a socket, or a pipe that nobody reads
		err = ErrNotPlain
	}
	return &fs.PathError{Op: op, Path: name, Err: err}
}

// file opens a plain file, or a folder.
func (f *Folder) file(name string) (*os.File, fs.FileInfo, error) {
	if err := f.check("open", name); err != nil {
		return nil, nil, err
	}
	// A pipe would be waited for otherwise.
	if err := f.throughLinks(name); err != nil {
		return nil, nil, err
	}
	file, err := at(f, name, func(root *os.Root, name string) (*os.File, error) {
		return root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	})
	if err != nil {
		return nil, nil, why("open", name, err)
	}
	info, err := file.Stat()
	if err == nil && !info.Mode().IsRegular() && !info.IsDir() {
		err = ErrNotPlain
	}
	if err == nil && info.Size() > MaxFile && !info.IsDir() {
		err = &TooLarge{info.Size(), MaxFile}
	}
	if err != nil {
		return nil, nil, errors.Join(why("open", name, err), file.Close())
	}
	return file, info, nil
}

// Open opens a file or a folder for reading.
func (f *Folder) Open(name string) (fs.File, error) {
	file, info, err := f.file(name)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		_ = file.Close()
		return &folder{f: f, name: name, info: info}, nil
	}
	return file, nil
}

// ReadFile reads a file.
func (f *Folder) ReadFile(name string) ([]byte, error) { return f.ReadAtMost(name, MaxFile) }

// ReadAtMost reads a file that has no more than a number of bytes.
func (f *Folder) ReadAtMost(name string, limit int64) ([]byte, error) {
	file, info, err := f.file(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	data, err := read(file, info, limit)
	return data, why("read", name, err)
}

// read reads a file that is open.
func read(file *os.File, info fs.FileInfo, limit int64) ([]byte, error) {
	if info.IsDir() {
		return nil, syscall.EISDIR
	}
	if info.Size() > limit {
		return nil, &TooLarge{info.Size(), limit}
	}
	data := make([]byte, 0, info.Size()+1)
	for {
		n, err := file.Read(data[len(data):cap(data)])
		data = data[:len(data)+n]
		switch {
		case int64(len(data)) > limit:
			return nil, &TooLarge{int64(len(data)), limit}
		case err == io.EOF:
			return data, nil
		case err != nil:
			return nil, err
		case len(data) == cap(data): // it grew meanwhile
			data = append(data, 0)[:len(data)]
		}
	}
}

// OpenPlain opens a file outside of any project, that a person's own settings name or a
// tool keeps. It must be a plain file, so that reading it ends.
func OpenPlain(name string) (*os.File, error) {
	file, err := os.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, why("open", name, err)
	}
	info, err := file.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = ErrNotPlain
	}
	if err != nil {
		return nil, errors.Join(why("open", name, err), file.Close())
	}
	return file, nil
}

// Plain reads a file as OpenPlain opens it, of no more than a number of bytes.
func Plain(name string, limit int64) ([]byte, error) {
	file, err := OpenPlain(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	data, err := read(file, info, limit)
	return data, why("read", name, err)
}

// Stat describes what a name leads to.
func (f *Folder) Stat(name string) (fs.FileInfo, error) {
	if err := f.check("stat", name); err != nil {
		return nil, err
	}
	if err := f.throughLinks(name); err != nil {
		return nil, err
	}
	info, err := at(f, name, (*os.Root).Stat)
	return info, why("stat", name, err)
}

// Lstat describes what stands under a name, a link as a link.
func (f *Folder) Lstat(name string) (fs.FileInfo, error) {
	if err := f.check("stat", path.Dir(name)); err != nil {
		return nil, err
	}
	info, err := f.root.Lstat(filepath.FromSlash(name))
	return info, why("stat", name, err)
}

// Exists tells whether something stands under a name, also a link that leads nowhere.
func (f *Folder) Exists(name string) bool {
	_, err := f.Lstat(name)
	return err == nil
}

// ReadDir lists a folder, without .git. What cannot be read is passed over and told, so
// that one such folder does not keep the others from being looked at.
func (f *Folder) ReadDir(name string) ([]fs.DirEntry, error) {
	file, info, err := f.file(name)
	if err == nil && !info.IsDir() {
		err = errors.Join(why("list", name, syscall.ENOTDIR), file.Close())
	}
	if errors.Is(err, fs.ErrPermission) && name != "." {
		f.pass(name, err)
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer file.Close()
	entries, err := file.ReadDir(-1)
	if err != nil {
		f.pass(name, why("list", name, err))
	}
	links := map[string]bool{}
	for _, e := range entries {
		if e.Type()&fs.ModeSymlink != 0 {
			links[e.Name()] = true
		}
	}
	if f.listed.plain(name) {
		f.listed.add(name, links)
	}
	kept := entries[:0]
	for _, e := range entries {
		below := path.Join(name, e.Name())
		switch {
		case e.Name() == ".git":
		case reserved.Of(e.Name()) == reserved.Git:
			f.pass(below, errors.New("some systems take its name for that of git's own folder"))
		case !fs.ValidPath(e.Name()):
			f.pass(below, errors.New("its name is not valid UTF-8"))
		case e.Type()&fs.ModeSymlink != 0:
			kept = append(kept, f.linked(below, e))
		default:
			kept = append(kept, e)
		}
	}
	sortByName(kept)
	return kept, nil
}

// linked is the entry of a link: that of the file it leads to, if that lies in the
// folder. A link to a folder stays one, so that no file is met twice.
func (f *Folder) linked(name string, e fs.DirEntry) fs.DirEntry {
	if info, err := f.Stat(name); err == nil && info.Mode().IsRegular() {
		return entry{e.Name(), info}
	}
	return e
}

func (f *Folder) pass(name string, err error) {
	if f.passed == nil {
		return
	}
	var p *fs.PathError
	if errors.As(err, &p) {
		err = p.Err
	}
	f.passed(name, err)
}
