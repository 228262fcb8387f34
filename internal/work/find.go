package work

import (
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"

	"bellwether/internal/ecosystem"
	"bellwether/internal/host/within"
	"bellwether/internal/work/settings"
	"bellwether/internal/work/tree"
)

// Find is the folder of the project that a folder is in: that folder itself where there is
// a component in it or below, else, within a repository, the nearest above it that holds settings
// or a manifest; or the one that has what was found as a member. note says which it is, if it is
// another one.
func Find(dir string) (found, note string) {
	whole, err := filepath.Abs(dir)
	if err != nil {
		return dir, ""
	}
	all := within.Above(whole)
	at := slices.IndexFunc(all, holdsProject)
	if at < 0 || at > 0 && holdsComponents(whole) {
		return dir, ""
	}
	for i := len(all) - 1; i > at; i-- {
		if hasMember(all[i], all[at]) {
			at = i
		}
	}
	if at == 0 {
		return dir, ""
	}
	return all[at], fmt.Sprintf("this is about the project in %s", all[at])
}

// holdsProject tells whether settings or a manifest lie in a folder.
func holdsProject(dir string) bool {
	files, err := within.Open(dir, nil)
	if err != nil {
		return false
	}
	defer files.Close()
	entries, err := fs.ReadDir(files, ".")
	return err == nil && slices.ContainsFunc(entries, func(e fs.DirEntry) bool {
		return e.Type().IsRegular() && (e.Name() == settings.File || tree.BuiltIn().IsManifest(e.Name()))
	})
}

// holdsComponents tells whether there is a component in a folder or below it.
func holdsComponents(dir string) bool {
	files, err := within.Open(dir, nil)
	if err != nil {
		return false
	}
	defer files.Close()
	index, err := ecosystem.Walk(files, nil)
	return err == nil && slices.ContainsFunc(tree.BuiltIn(), func(eco ecosystem.Ecosystem) bool {
		dirs, err := eco.Detect(index)
		return err == nil && len(dirs) > 0
	})
}

// hasMember tells whether the component in a folder has what lies in another below it, as
// one of its own.
func hasMember(dir, below string) bool {
	rel, err := filepath.Rel(dir, below)
	if err != nil || !holdsProject(dir) {
		return false
	}
	files, err := within.Open(dir, nil)
	if err != nil {
		return false
	}
	defer files.Close()
	index, err := ecosystem.Walk(files, nil)
	if err != nil {
		return false
	}
	member := filepath.ToSlash(rel)
	for _, eco := range tree.BuiltIn() {
		dirs, err := eco.Detect(index)
		holds := slices.ContainsFunc(index.Files(), func(file string) bool { return path.Dir(file) == member && ecosystem.IsManifest(eco, file) })
		if err == nil && holds && slices.Contains(dirs, ".") && !slices.Contains(dirs, member) {
			return true
		}
	}
	return false
}
