package gomod

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"golang.org/x/mod/module"
)

// provided finds modules for packages that no required module has: the newest
// that has them, with the longest path.
func (l *loader) provided() ([]version, error) {
	found := map[version]bool{}
	for _, k := range l.list {
		if k.wrong == "" || k.testOf != nil {
			continue
		}
		m, err := l.provider(k.path, l.rs.selected["go"])
		if err != nil {
			return nil, err
		}
		if m.Path != "" && compareVersions(m.Path, l.rs.selected[m.Path], m.Version) < 0 {
			found[m] = true
		}
	}
	added := slices.Collect(maps.Keys(found))
	module.Sort(added)
	return added, nil
}

// provider is the newest release, of those that need no newer Go, of the module
// with the longest path that has a package; zero if there is none.
func (s *resolver) provider(pkg, goVersion string) (version, error) {
	if isStandard(pkg) || ofModule(s.p.path(), pkg) {
		return version{}, nil
	}
	for _, path := range prefixes(pkg) {
		if module.CheckPath(path) != nil || s.refused[path] || strings.Count(path, "/") < hostDepth(path) {
			continue
		}
		h, err := s.r.guessed(s.ctx, path)
		if err == nil && (h == nil || h.newest() == "") {
			s.refused[path] = true
			continue
		}
		if err != nil {
			return version{}, err
		}
		v, err := s.r.newestFor(s.ctx, h, goVersion)
		if err != nil || v == "" {
			return version{}, err
		}
		m := version{Path: path, Version: v}
		i, err := s.indexFor(m)
		if err != nil {
			return version{}, fmt.Errorf("looking for a module that has the package %s: %w", pkg, err)
		}
		if i.Packages[below(path, pkg)] != nil {
			return m, nil
		}
	}
	return version{}, nil
}
