package tidying

import (
	"maps"
	"slices"
	"strings"

	"golang.org/x/mod/module"

	"bellwether/internal/ecosystem/gomod/imports"
	"bellwether/internal/ecosystem/gomod/project"
	"bellwether/internal/ecosystem/gomod/selection"
)

// KeptSums are, in no order, what a go.sum has to vouch for: every go.mod that counts in the
// graph, and every module that has a package or could have it by its path.
func (l *Loader) KeptSums(rs *selection.Requirements) []module.Version {
	keep := map[module.Version]bool{}
	note := func(m module.Version, whole bool) {
		src, err := l.Project.Source(m)
		if err != nil || src.Dir != "" {
			return
		}
		if whole {
			keep[src.Mod] = true
		} else {
			keep[project.ModKey(src.Mod)] = true
		}
	}
	for _, k := range l.List {
		if k.testOf != nil || !k.External() {
			continue
		}
		if selection.CompareGo(rs.Selected["go"], "1.21") >= 0 {
			note(k.Module, false)
		}
		versions := rs.Selected
		if rs.Pruned && rs.Roots[k.Module.Path] == k.Module.Version {
			versions = rs.Roots
		}
		for _, prefix := range imports.Prefixes(k.Path) {
			if v := versions[prefix]; v != "" && prefix != "go" && prefix != "toolchain" {
				note(module.Version{Path: prefix, Version: v}, true)
			}
		}
	}
	for m := range rs.Requires {
		note(m, false)
	}
	return slices.Collect(maps.Keys(keep))
}

// SortedVersions sorts by path and text, and keeps one of each.
func SortedVersions(list []module.Version) []module.Version {
	slices.SortFunc(list, func(a, b module.Version) int {
		if c := strings.Compare(a.Path, b.Path); c != 0 {
			return c
		}
		return strings.Compare(a.Version, b.Version)
	})
	return slices.Compact(list)
}
