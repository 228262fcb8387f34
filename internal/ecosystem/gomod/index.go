package gomod

import (
	"archive/zip"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"

	"github.com/fxamacker/cbor/v2"
	"golang.org/x/mod/module"
	"golang.org/x/mod/sumdb/dirhash"
	modzip "golang.org/x/mod/zip"
)

// indexForm names the form in which an index is kept.
const indexForm = "golang/index/2"

// index is what counts of a module's files: their hash, and what its packages
// import.
type index struct {
	Hash     string              // h1 of all files; empty for a module in a folder
	Packages map[string]*imports // by folder, "" for the module's own
}

// imports are what a package imports, sorted.
type imports struct {
	Code  []string `cbor:"c,omitempty"`
	Tests []string `cbor:"t,omitempty"`
}

// indexOf gives the index of a fetched module, from the module cache if it is
// there.
func (r *registry) indexOf(ctx context.Context, m version) (*index, error) {
	return r.indexes.get(m, func() (*index, error) {
		data, err := r.indexData(ctx, m)
		if err != nil {
			return nil, &unavailable{m, err}
		}
		i := &index{}
		if err := cbor.Unmarshal(data, i); err != nil {
			return nil, fmt.Errorf("reading what is kept of %s %s: %w", m.Path, m.Version, err)
		}
		return i, nil
	})
}

func (r *registry) indexData(ctx context.Context, m version) ([]byte, error) {
	return r.ofZip(ctx, m, indexForm, "index/2", indexZip)
}

// ofZip gives what is distilled from a module's archive, from the module cache if it is there.
// The two forms name what is distilled.
func (r *registry) ofZip(
	ctx context.Context, m version, derived, form string, distil func(m version, file string) ([]byte, error),
) ([]byte, error) {
	file := r.cached(m, ".zip")
	if at, err := os.Stat(file); err == nil {
		key := fmt.Sprintf("%s?size=%d&changed=%d", file, at.Size(), at.ModTime().UnixNano())
		return r.around.Client.Derive(key, derived, func() ([]byte, error) { return distil(m, file) })
	}
	escaped, err := module.EscapeVersion(m.Version)
	if err != nil {
		return nil, err
	}
	return r.ask(ctx, document{
		module: m.Path, file: "@v/" + escaped + ".zip", form: form, limit: maxZip, forever: true,
		distil: func(body io.Reader) ([]byte, error) {
			f, err := os.CreateTemp("", "bellwether-*.zip")
			if err != nil {
				return nil, err
			}
			defer os.Remove(f.Name())
			defer f.Close()
			if _, err := io.Copy(f, body); err != nil {
				return nil, err
			}
			return distil(m, f.Name())
		},
	})
}

// indexZip reads a module's archive. One that breaks the rules for module
// archives is refused: names that lead out of it, names that differ only in
// case, too much in it.
func indexZip(m version, file string) ([]byte, error) {
	if _, err := modzip.CheckZip(m, file); err != nil {
		return nil, fmt.Errorf("the archive of %s %s breaks the rules for module archives: %w", m.Path, m.Version, err)
	}
	z, err := zip.OpenReader(file)
	if err != nil {
		return nil, err
	}
	defer z.Close()
	i := &index{Packages: map[string]*imports{}}
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
		src, err := readZipped(f)
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

func readZipped(f *zip.File) ([]byte, error) {
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(r)
}

// add takes a file in. One that cannot be read as Go is the business of who
// builds it.
func (i *index) add(dir, name string, src []byte) {
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

func (i *index) tidy() {
	for _, p := range i.Packages {
		p.Code, p.Tests = sortedSet(p.Code), sortedSet(p.Tests)
	}
}

// indexFolder reads the module in a folder of the project. Folders with a
// go.mod of their own are other modules.
func indexFolder(fsys fs.FS, dir string) (*index, error) {
	i := &index{Packages: map[string]*imports{}}
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
		src, err := readFile(fsys, name)
		if err != nil {
			return err
		}
		return visit(name, src)
	})
}
