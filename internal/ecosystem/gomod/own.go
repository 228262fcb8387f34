package gomod

import (
	"io/fs"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/mod/modfile"

	"bellwether/internal/core/model"
)

// sources are the module's own files, as far as they import anything.
type sources struct {
	module   string
	dir      string
	files    []*sourceFile
	packages map[string]*imports // by path
}

type sourceFile struct {
	name    string
	src     []byte
	test    bool
	imports []imported
}

// readSources reads the module's own files.
func (p *project) readSources() (*sources, error) {
	s := &sources{module: p.path(), dir: p.dir}
	skip := func(below string) bool {
		return ignoredDir(path.Base(below)) ||
			slices.ContainsFunc(p.mod.Ignore, func(i *modfile.Ignore) bool { return ignores(i.Path, below) })
	}
	if err := walkModule(p.fsys, p.dir, skip, s.take); err != nil {
		return nil, err
	}
	s.collect()
	return s, s.readImported(p.fsys)
}

// take takes a file in.
func (s *sources) take(name string, src []byte) error {
	source, test := goFile(path.Base(name))
	if !source {
		return nil
	}
	found, err := scanFile(name, src)
	if err == nil {
		s.files = append(s.files, &sourceFile{name, src, test, found})
	}
	return err
}

// readImported reads the module's own packages in folders that patterns leave out, as far as they are imported: the go command
// builds those that are imported by their path.
func (s *sources) readImported(fsys fs.FS) error {
	looked := map[string]bool{}
	for {
		var found []string
		for _, f := range s.files {
			for _, i := range f.imports {
				if below, is := strings.CutPrefix(i.path, s.module+"/"); is && !s.has(i.path) && !looked[i.path] {
					looked[i.path] = true
					if fs.ValidPath(below) && !s.ofAnother(fsys, below) {
						found = append(found, path.Join(s.dir, below))
					}
				}
			}
		}
		if len(found) == 0 {
			return nil
		}
		for _, folder := range found {
			entries, err := fs.ReadDir(fsys, folder)
			if err != nil {
				continue // what is not there is said where it is imported
			}
			for _, e := range entries {
				if !e.Type().IsRegular() || !strings.HasSuffix(e.Name(), ".go") {
					continue
				}
				name := path.Join(folder, e.Name())
				src, err := readFile(fsys, name)
				if err != nil {
					return err
				}
				if err := s.take(name, src); err != nil {
					return err
				}
			}
		}
		s.collect()
	}
}

// ofAnother tells whether a folder below the module's own is in another module.
func (s *sources) ofAnother(fsys fs.FS, below string) bool {
	for ; below != "."; below = path.Dir(below) {
		if _, err := fs.Stat(fsys, path.Join(s.dir, below, "go.mod")); err == nil {
			return true
		}
	}
	return false
}

// ignores tells whether an ignore line is about a folder: "./x" is that folder,
// "x" any of the name.
func ignores(line, below string) bool {
	if rooted, ok := strings.CutPrefix(line, "./"); ok {
		return below == rooted
	}
	return below == line || strings.HasSuffix(below, "/"+line)
}

// collect puts the files' imports together by package.
func (s *sources) collect() {
	s.packages = map[string]*imports{}
	for _, f := range s.files {
		pkg := s.packageOf(f.name)
		p := s.packages[pkg]
		if p == nil {
			p = &imports{}
			s.packages[pkg] = p
		}
		if f.test {
			p.Tests = append(p.Tests, paths(f.imports)...)
		} else {
			p.Code = append(p.Code, paths(f.imports)...)
		}
	}
	for _, p := range s.packages {
		p.Code, p.Tests = sortedSet(p.Code), sortedSet(p.Tests)
	}
}

func sortedSet(list []string) []string {
	slices.Sort(list)
	return slices.Compact(list)
}

// packageOf is the path of the package that a file of the project is in.
func (s *sources) packageOf(file string) string {
	dir := path.Dir(file)
	if dir == s.dir {
		return s.module
	}
	if s.dir != "." {
		dir = strings.TrimPrefix(dir, s.dir+"/")
	}
	return s.module + "/" + dir
}

func (s *sources) paths() []string { return slices.Sorted(maps.Keys(s.packages)) }

func (s *sources) has(pkg string) bool { return s.packages[pkg] != nil }

func (s *sources) imports(pkg string) (code, tests []string) {
	p := s.packages[pkg]
	return p.Code, p.Tests
}

// imported are the imports of packages below a path, in the order of files.
func (s *sources) imported(below func(pkg string) bool) []imported {
	var all []imported
	for _, f := range s.files {
		for _, i := range f.imports {
			if below(i.path) {
				all = append(all, i)
			}
		}
	}
	return all
}

// renamed gives the sources with import paths put in the place of others, as
// rename says, and the edits that make it so. Only the text between the quotes
// changes.
func (s *sources) renamed(rename func(pkg string) string) (*sources, []model.FileEdit, error) {
	out := &sources{module: s.module, dir: s.dir}
	var edits []model.FileEdit
	for _, f := range s.files {
		var splices []model.Splice
		for _, i := range f.imports {
			if to := rename(i.path); to != i.path {
				text := strconv.Quote(to)
				if i.site.Text[0] == '`' {
					text = "`" + to + "`"
				}
				splices = append(splices, model.Splice{Site: i.site, New: text})
			}
		}
		if len(splices) == 0 {
			out.files = append(out.files, f)
			continue
		}
		text, err := model.Apply(f.src, splices)
		if err != nil {
			return nil, nil, err
		}
		found, err := scanFile(f.name, text)
		if err != nil {
			return nil, nil, err
		}
		edits = append(edits, model.FileEdit{File: f.name, Old: f.src, New: text})
		out.files = append(out.files, &sourceFile{f.name, text, f.test, found})
	}
	out.collect()
	return out, edits, nil
}
