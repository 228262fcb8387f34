package tidying

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"golang.org/x/mod/module"

	"bellwether/internal/ecosystem/gomod/imports"
	"bellwether/internal/ecosystem/gomod/registry"
	"bellwether/internal/ecosystem/gomod/selection"
)

// provided finds modules for packages that no required module has: the newest
// that has them, with the longest path.
func (l *Loader) provided() ([]module.Version, error) {
	found := map[module.Version]bool{}
	for _, k := range l.List {
		if k.Wrong == "" || k.testOf != nil {
			continue
		}
		m, err := l.provider(k.Path, l.Needs.Selected["go"])
		if err != nil {
			return nil, err
		}
		if m.Path != "" && selection.CompareVersions(m.Path, l.Needs.Selected[m.Path], m.Version) < 0 {
			found[m] = true
		}
	}
	added := slices.Collect(maps.Keys(found))
	module.Sort(added)
	return added, nil
}

// provider is the newest release, of those that need no newer Go, of the module
// with the longest path that has a package; zero if there is none.
func (s *Tidier) provider(pkg, goVersion string) (module.Version, error) {
	if imports.IsStandard(pkg) || imports.OfModule(s.Project.Path(), pkg) {
		return module.Version{}, nil
	}
	for _, path := range imports.Prefixes(pkg) {
		if module.CheckPath(path) != nil || s.refused[path] || strings.Count(path, "/") < registry.HostDepth(path) {
			continue
		}
		h, err := s.Registry.Guessed(s.Ctx, path)
		if err == nil && (h == nil || h.Newest() == "") {
			s.refused[path] = true
			continue
		}
		if err != nil {
			return module.Version{}, err
		}
		v, err := s.Registry.NewestFor(s.Ctx, h, goVersion)
		if err != nil || v == "" {
			return module.Version{}, err
		}
		m := module.Version{Path: path, Version: v}
		i, err := s.IndexFor(m)
		if err != nil {
			return module.Version{}, fmt.Errorf("looking for a module that has the package %s: %w", pkg, err)
		}
		if i.Packages[imports.Below(path, pkg)] != nil {
			return m, nil
		}
	}
	return module.Version{}, nil
}
