// Package imports reads what Go files import: the files of a fetched module, of a folder, and a module's own.
package imports

import (
	"archive/zip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"github.com/fxamacker/cbor/v2"
	"golang.org/x/mod/module"
	"golang.org/x/mod/sumdb/dirhash"
	modzip "golang.org/x/mod/zip"

	"bellwether/internal/core/model"
)

// IndexForm names the form in which an index is kept.
const IndexForm = "golang/index/2"

// Index is what counts of a module's files: their hash, and what its packages
// import.
type Index struct {
	Hash     string              // h1 of all files; empty for a module in a folder
	Packages map[string]*imports // by folder, "" for the module's own
}

// imports are what a package imports, sorted.
type imports struct {
	Code  []string `cbor:"c,omitempty"`
	Tests []string `cbor:"t,omitempty"`
}

// IndexZip reads a module's archive. One that breaks the rules for module
// archives is refused: names that lead out of it, names that differ only in
// case, too much in it.
func IndexZip(m module.Version, file string) ([]byte, error) {
	if _, err := modzip.CheckZip(m, file); err != nil {
		return nil, fmt.Errorf("the archive of %s %s breaks the rules for module archives: %w", m.Path, m.Version, err)
	}
	z, err := zip.OpenReader(file)
	if err != nil {
		return nil, err
	}
	defer z.Close()
	i := &Index{Packages: map[string]*imports{}}
	var names []string
	files := map[string]*zip.File{}
	prefix := m.Path + "@" + m.Version + "/"
	for _, f := range z.File {
		names = append(names, f.Name)
		files[f.Name] = f
		name := strings.TrimPrefix(f.Name, prefix)
		if !strings.HasSuffix(name, ".go") {
			continue
		}
		src, err := ReadZipped(f)
		if err != nil {
			return nil, err
		}
		i.add(path.Dir(name), path.Base(name), src)
	}
	i.tidy()
	if i.Hash, err = dirhash.Hash1(names, func(name string) (io.ReadCloser, error) { return files[name].Open() }); err != nil {
		return nil, err
	}
	return cbor.Marshal(i)
}

// ReadZipped reads a file of an archive whole.
func ReadZipped(f *zip.File) ([]byte, error) {
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(r)
}

// add takes a file in. One that cannot be read as Go is the business of who
// builds it.
func (i *Index) add(dir, name string, src []byte) {
	if dir == "." {
		dir = ""
	}
	p := i.Packages[dir]
	if p == nil {
		p = &imports{}
		i.Packages[dir] = p
	}
	source, test := goFile(name)
	if !source {
		return
	}
	found, err := scanFile(name, src)
	if err != nil {
		return
	}
	if test {
		p.Tests = append(p.Tests, paths(found)...)
	} else {
		p.Code = append(p.Code, paths(found)...)
	}
}

func (i *Index) tidy() {
	for _, p := range i.Packages {
		p.Code, p.Tests = SortedSet(p.Code), SortedSet(p.Tests)
	}
}

// IndexFolder reads the module in a folder of the project. Folders with a
// go.mod of their own are other modules.
func IndexFolder(fsys fs.FS, dir string) (*Index, error) {
	i := &Index{Packages: map[string]*imports{}}
	err := walkModule(fsys, dir, func(below string) bool { return path.Base(below) == "vendor" }, func(name string, src []byte) error {
		below := strings.TrimPrefix(strings.TrimPrefix(path.Dir(name), dir), "/")
		if dir == "." {
			below = path.Dir(name)
		}
		i.add(below, path.Base(name), src)
		return nil
	})
	i.tidy()
	return i, err
}

// walkModule calls visit for each Go file of the module in dir, but for those
// in folders that skip names (relative to dir). Folders that patterns leave out are read, too: what lies in them can be imported.
func walkModule(fsys fs.FS, dir string, skip func(below string) bool, visit func(name string, src []byte) error) error {
	return fs.WalkDir(fsys, dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			if name == dir {
				return nil
			}
			below := strings.TrimPrefix(name, dir+"/")
			if skip(below) {
				return fs.SkipDir
			}
			if _, err := fs.Stat(fsys, path.Join(name, "go.mod")); err == nil {
				return fs.SkipDir
			}
			return nil
		}
		if !d.Type().IsRegular() || !strings.HasSuffix(d.Name(), ".go") {
			return nil
		}
		src, err := ReadFile(fsys, name)
		if err != nil {
			return err
		}
		return visit(name, src)
	})
}

// Below is a package's folder in a module.
func Below(module, pkg string) string {
	return strings.TrimPrefix(strings.TrimPrefix(pkg, module), "/")
}

// OfModule tells whether a package's path lies in that of a module.
func OfModule(module, pkg string) bool {
	return pkg == module || strings.HasPrefix(pkg, module+"/")
}

// Prefixes are the paths that a module with a package may have, longest first.
func Prefixes(pkg string) []string {
	var all []string
	for p := pkg; p != "." && p != "/"; p = path.Dir(p) {
		all = append(all, p)
	}
	return all
}

// IsStandard tells of a path that is Go's own: its first element has no dot.
func IsStandard(pkg string) bool {
	first, _, _ := strings.Cut(pkg, "/")
	return !strings.Contains(first, ".")
}

// ReadFile reads a file of the project.
func ReadFile(fsys fs.FS, name string) ([]byte, error) {
	data, err := fs.ReadFile(fsys, name)
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		return data, err
	}
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		err = pathError.Err
	}
	return nil, &model.Fault{Doing: "reading", File: name, Wrong: err.Error()}
}
