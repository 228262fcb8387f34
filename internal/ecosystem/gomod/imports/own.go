package imports

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

// Sources are the module's own files, as far as they import anything.
type Sources struct {
	module   string
	dir      string
	files    []*sourceFile
	packages map[string]*imports // by path
}

type sourceFile struct {
	name    string
	src     []byte
	test    bool
	imports []Imported
}

// Read reads a module's own files in dir. What the lines in ignored name counts only where it is imported.
func Read(fsys fs.FS, dir, module string, ignored []*modfile.Ignore) (*Sources, error) {
	s := &Sources{module: module, dir: dir}
	skip := func(below string) bool {
		return IgnoredDir(path.Base(below)) ||
			slices.ContainsFunc(ignored, func(i *modfile.Ignore) bool { return ignores(i.Path, below) })
	}
	if err := walkModule(fsys, dir, skip, s.take); err != nil {
		return nil, err
	}
	s.collect()
	return s, s.readImported(fsys)
}

// take takes a file in.
func (s *Sources) take(name string, src []byte) error {
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
func (s *Sources) readImported(fsys fs.FS) error {
	looked := map[string]bool{}
	for {
		var found []string
		for _, f := range s.files {
			for _, i := range f.imports {
				if below, is := strings.CutPrefix(i.Path, s.module+"/"); is && !s.Has(i.Path) && !looked[i.Path] {
					looked[i.Path] = true
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
				src, err := ReadFile(fsys, name)
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
func (s *Sources) ofAnother(fsys fs.FS, below string) bool {
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
func (s *Sources) collect() {
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
		p.Code, p.Tests = SortedSet(p.Code), SortedSet(p.Tests)
	}
}

// SortedSet sorts a list and keeps one of each.
func SortedSet(list []string) []string {
	slices.Sort(list)
	return slices.Compact(list)
}

// packageOf is the path of the package that a file of the project is in.
func (s *Sources) packageOf(file string) string {
	dir := path.Dir(file)
	if dir == s.dir {
		return s.module
	}
	if s.dir != "." {
		dir = strings.TrimPrefix(dir, s.dir+"/")
	}
	return s.module + "/" + dir
}

// Paths are the packages' own, sorted.
func (s *Sources) Paths() []string { return slices.Sorted(maps.Keys(s.packages)) }

// Has tells whether a package is the module's own.
func (s *Sources) Has(pkg string) bool { return s.packages[pkg] != nil }

// Imports are what a package of the module and its tests import.
func (s *Sources) Imports(pkg string) (code, tests []string) {
	p := s.packages[pkg]
	return p.Code, p.Tests
}

// Imported are the imports of packages below a path, in the order of files.
func (s *Sources) Imported(below func(pkg string) bool) []Imported {
	var all []Imported
	for _, f := range s.files {
		for _, i := range f.imports {
			if below(i.Path) {
				all = append(all, i)
			}
		}
	}
	return all
}

// Renamed gives the sources with import paths put in the place of others, as
// rename says, and the edits that make it so. Only the text between the quotes
// changes.
func (s *Sources) Renamed(rename func(pkg string) string) (*Sources, []model.FileEdit, error) {
	out := &Sources{module: s.module, dir: s.dir}
	var edits []model.FileEdit
	for _, f := range s.files {
		var splices []model.Splice
		for _, i := range f.imports {
			if to := rename(i.Path); to != i.Path {
				text := strconv.Quote(to)
				if i.Site.Text[0] == '`' {
					text = "`" + to + "`"
				}
				splices = append(splices, model.Splice{Site: i.Site, New: text})
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

// IgnoredDir tells of a folder that holds no packages of the module around it.
func IgnoredDir(name string) bool {
	return name == "vendor" || name == "testdata" || strings.HasPrefix(name, ".") || strings.HasPrefix(name, "_")
}
