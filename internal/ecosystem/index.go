package ecosystem

import (
	"io/fs"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/overlay"
)

// Index is the files of a project, found in one walk which all readers share. It may be asked
// concurrently.
type Index struct {
	FS    fs.FS
	files []string        // in the order of their names
	links map[string]bool // those that are no regular files
}

// installed are folders that package clients fill: nothing in them is the project's own.
var installed = []string{"node_modules", ".git"}

// Walk finds the files of a project. Folders that skip names are left out, and so is what
// package clients install.
func Walk(fsys fs.FS, skip func(dir string) bool) (*Index, error) {
	x := &Index{FS: fsys, links: map[string]bool{}}
	err := fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case !d.IsDir():
			x.files = append(x.files, name)
			if !d.Type().IsRegular() {
				x.links[name] = true
			}
		case name != "." && (slices.Contains(installed, d.Name()) || skip != nil && skip(name)):
			return fs.SkipDir
		}
		return nil
	})
	return x, err
}

// Over is the index of the same project with other files: what is laid over it in memory
// counts.
func (x *Index) Over(fsys fs.FS) *Index {
	other := &Index{FS: fsys, files: x.files, links: x.links}
	layered, ok := fsys.(*overlay.FS)
	if !ok {
		return other
	}
	for name, there := range layered.Laid() {
		at, known := slices.BinarySearchFunc(other.files, name, comparePaths)
		if there != known {
			other.files = slices.Clone(other.files)
		}
		switch {
		case there && !known:
			other.files = slices.Insert(other.files, at, name)
		case known && !there:
			other.files = slices.Delete(other.files, at, at+1)
		}
	}
	return other
}

// comparePaths orders names as a walk comes by them: folder by folder.
func comparePaths(a, b string) int {
	return slices.Compare(strings.Split(a, "/"), strings.Split(b, "/"))
}

// Files are all files, in the order of their names, folder by folder.
func (x *Index) Files() []string { return x.files }

// IsLink tells whether a file is a link, or something else that is no regular file.
func (x *Index) IsLink(name string) bool { return x.links[name] }

// Named are the regular files whose last name is one of some names or matches one of some
// patterns, as path.Match has them. What lies in a folder that skip names is left out.
func (x *Index) Named(patterns []string, skip func(folder string) bool) (names []string) {
	for _, name := range x.files {
		if matches(patterns, path.Base(name)) && !x.links[name] && !inFolder(path.Dir(name), skip) {
			names = append(names, name)
		}
	}
	return names
}

// inFolder tells whether a folder, or one around it, is one that skip names by its last name.
func inFolder(dir string, skip func(folder string) bool) bool {
	for folder := range strings.SplitSeq(dir, "/") {
		if folder != "." && skip(folder) {
			return true
		}
	}
	return false
}

// matches tells whether a name is one of some names or matches one of some patterns.
func matches(patterns []string, name string) bool {
	return slices.ContainsFunc(patterns, func(pattern string) bool {
		ok, err := path.Match(pattern, name)
		return ok && err == nil
	})
}

// IsManifest tells whether a file is a manifest of an ecosystem, by its name.
func IsManifest(eco Ecosystem, file string) bool { return matches(eco.Manifests(), path.Base(file)) }
