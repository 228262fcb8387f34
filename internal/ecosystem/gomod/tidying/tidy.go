// Package tidying finds out what a go.mod has to say for what its module imports, as "go mod tidy" is described in the Go Modules
// Reference.
package tidying

import (
	"context"
	"maps"
	"slices"

	"golang.org/x/mod/module"

	"bellwether/internal/ecosystem/gomod/imports"
	"bellwether/internal/ecosystem/gomod/project"
	"bellwether/internal/ecosystem/gomod/registry"
	"bellwether/internal/ecosystem/gomod/selection"
)

// Tidier finds out what a go.mod has to say for what its module imports.
type Tidier struct {
	Ctx      context.Context
	Registry *registry.Registry
	Project  *project.Project
	Look     selection.Summarizer
	Own      *imports.Sources
	Tools    []string                          // packages that tool lines name
	refused  map[string]bool                   // paths that are no modules
	Raisers  map[module.Version]module.Version // what raised a requirement to a version
}

// New gives a tidier for a module. Its sources and tools are to be set.
func New(ctx context.Context, r *registry.Registry, p *project.Project) *Tidier {
	return &Tidier{
		Ctx: ctx, Registry: r, Project: p, Look: r.Summarizer(p),
		refused: map[string]bool{}, Raisers: map[module.Version]module.Version{},
	}
}

// Requirements loads the graph that hangs on a list of roots. Where a path
// stands twice, the higher version counts.
func (s *Tidier) Requirements(list []module.Version, direct map[string]bool, pruned bool) (*selection.Requirements, error) {
	g, err := selection.Load(s.Ctx, s.Project.Path(), list, pruned, s.Look)
	if err != nil {
		return nil, err
	}
	list = slices.Clone(list)
	selection.SortRoots(list)
	return &selection.Requirements{Graph: g, List: list, Direct: direct}, nil
}

// Tidied follows imports and adds requirements until all that is imported is
// provided for, then drops those that nothing needs, as "go mod tidy" is
// described in the Go Modules Reference. Requirements are only ever added
// until the last step, so that it comes to an end.
func (s *Tidier) Tidied(roots []module.Version) (*Loader, error) {
	rs, err := s.Requirements(roots, nil, selection.Prunes(goOf(roots)))
	if err != nil {
		return nil, err
	}
	for {
		l, err := s.load(rs)
		if err != nil {
			return nil, err
		}
		next, err := l.grown()
		if err != nil {
			return nil, err
		}
		if slices.Equal(next.List, rs.List) {
			added, err := l.provided()
			if err != nil {
				return nil, err
			}
			if len(added) == 0 {
				next.Direct = l.directs()
				l.Needs = next
				l.Needs, err = l.least()
				return l, err
			}
			if next, err = l.withRoots(append(slices.Clone(next.List), added...)); err != nil {
				return nil, err
			}
		}
		rs = next
	}
}

// goOf is the release of Go among requirements.
func goOf(roots []module.Version) string {
	for _, m := range roots {
		if m.Path == "go" {
			return m.Version
		}
	}
	return ""
}

// directs are the modules whose packages the module's own import.
func (l *Loader) directs() map[string]bool {
	direct := map[string]bool{}
	for _, k := range l.List {
		if !k.Own {
			continue
		}
		for _, i := range k.imports {
			if i.External() {
				direct[i.Module.Path] = true
			}
		}
	}
	return direct
}

// grown adds what the packages that were found need as requirements of their
// own.
func (l *Loader) grown() (*selection.Requirements, error) {
	l.Needs.Direct = l.directs()
	tidy, err := l.least()
	if err != nil {
		return nil, err
	}
	list := slices.Clone(l.Needs.List)
	if l.Needs.Pruned {
		for _, m := range l.modules(func(k *Pkg) bool { return k.InAll }) {
			if l.Needs.Roots[m.Path] == "" {
				list = append(list, m)
			}
		}
	}
	for _, m := range tidy.List {
		if at := l.Needs.Roots[m.Path]; at == "" || selection.CompareVersions(m.Path, at, m.Version) < 0 {
			list = append(list, m)
		}
	}
	return l.withRoots(list)
}

// withRoots are the loader's requirements with another list of roots.
func (l *Loader) withRoots(list []module.Version) (*selection.Requirements, error) {
	return l.Raise(list, l.Needs.Direct, l.Needs.Pruned)
}

// Raise loads requirements, and raises them until each is at the version that
// is selected.
func (s *Tidier) Raise(list []module.Version, direct map[string]bool, pruned bool) (*selection.Requirements, error) {
	if !pruned {
		return s.raiseUnpruned(list, direct)
	}
	for {
		rs, err := s.Requirements(list, direct, pruned)
		if err != nil {
			return nil, err
		}
		raised := false
		var next []module.Version
		seen := map[string]bool{}
		for _, m := range rs.List {
			if seen[m.Path] {
				continue
			}
			seen[m.Path] = true
			at := rs.Selected[m.Path]
			if at != m.Version {
				raised = true
				s.Raisers[module.Version{Path: m.Path, Version: at}] = rs.Asker[module.Version{Path: m.Path, Version: at}]
			}
			next = append(next, module.Version{Path: m.Path, Version: at})
		}
		if !raised {
			if len(next) == len(rs.List) {
				return rs, nil
			}
			return s.Requirements(next, direct, pruned)
		}
		list = next
	}
}

// raiseUnpruned keeps every version that is selected, also where what required
// it was raised itself.
func (s *Tidier) raiseUnpruned(list []module.Version, direct map[string]bool) (*selection.Requirements, error) {
	rs, err := s.Requirements(list, direct, false)
	if err != nil {
		return nil, err
	}
	keep := rs.BuildList()
	var base []string
	for _, m := range rs.List {
		if m.Path != "go" && rs.Selected[m.Path] == m.Version && !slices.Contains(base, m.Path) {
			base = append(base, m.Path)
		}
	}
	for _, m := range keep {
		if direct[m.Path] && !slices.Contains(base, m.Path) {
			base = append(base, m.Path)
		}
	}
	if v := rs.Selected["go"]; v != "" {
		keep = append(keep, module.Version{Path: "go", Version: v})
	}
	g, err := selection.Load(s.Ctx, s.Project.Path(), keep, false, s.Look)
	if err != nil {
		return nil, err
	}
	return s.Requirements(append(g.Minimal(s.Project.Path(), base), keep[len(rs.BuildList()):]...), direct, false)
}

// least are the fewest requirements that keep what the packages need.
func (l *Loader) least() (*selection.Requirements, error) {
	if l.Needs.Pruned {
		return l.leastPruned()
	}
	return l.leastUnpruned()
}

// runtimes are the requirements on Go itself.
func (l *Loader) runtimes() []module.Version {
	var list []module.Version
	for _, m := range l.Needs.List {
		if m.Path == "go" || m.Path == "toolchain" {
			list = append(list, m)
		}
	}
	return list
}

// leastPruned requires every module that has a package of "all"; and of the
// modules that only tests of dependencies need, those that the graph would
// otherwise have at a lower version.
func (l *Loader) leastPruned() (*selection.Requirements, error) {
	list := l.runtimes()
	isRoot := map[string]bool{l.Project.Path(): true}
	add := func(m module.Version) {
		if !isRoot[m.Path] {
			isRoot[m.Path] = true
			list = append(list, m)
		}
	}
	var queue []*Pkg
	queued := map[*Pkg]bool{}
	for _, k := range l.List {
		if !k.InAll {
			continue
		}
		if k.External() {
			add(k.Module)
		}
		queue = append(queue, k)
		queued[k] = true
	}
	tidy, err := l.Requirements(list, l.Needs.Direct, true)
	if err != nil {
		return nil, err
	}
	for len(queue) > 0 {
		level := queue
		queue = nil
		for _, k := range level {
			if !k.External() && !k.Own {
				continue
			}
			around := k.imports
			if k.test != nil {
				around = append(slices.Clone(around), k.test)
			}
			for _, i := range around {
				if !queued[i] {
					queued[i] = true
					queue = append(queue, i)
				}
			}
			m := k.Module
			if k.External() && !isRoot[m.Path] && selection.CompareVersions(m.Path, tidy.Selected[m.Path], m.Version) < 0 {
				add(k.Module)
			}
		}
		if len(list) > len(tidy.List) {
			if tidy, err = l.Requirements(list, l.Needs.Direct, true); err != nil {
				return nil, err
			}
		}
	}
	return l.unambiguous(tidy, isRoot)
}

// unambiguous requires a module by itself where otherwise another one in the
// graph had the same package, too.
func (l *Loader) unambiguous(tidy *selection.Requirements, isRoot map[string]bool) (*selection.Requirements, error) {
	for {
		list := slices.Clone(tidy.List)
		probe := &Loader{Tidier: l.Tidier, Needs: tidy}
		for _, k := range l.List {
			if !k.External() || isRoot[k.Module.Path] || k.testOf != nil {
				continue
			}
			again := &Pkg{Path: k.Path}
			if err := probe.find(again); err != nil {
				return nil, err
			}
			if len(again.Several) > 0 {
				isRoot[k.Module.Path] = true
				list = append(list, k.Module)
			}
		}
		if len(list) == len(tidy.List) {
			return tidy, nil
		}
		var err error
		if tidy, err = l.Requirements(list, l.Needs.Direct, true); err != nil {
			return nil, err
		}
	}
}

// leastUnpruned requires what is imported directly, and otherwise only what
// does not follow from that.
func (l *Loader) leastUnpruned() (*selection.Requirements, error) {
	keep := l.runtimes()
	kept := map[string]bool{}
	var base []string
	alts := map[string]string{}
	for _, m := range keep {
		kept[m.Path] = true
	}
	for _, k := range l.List {
		if !k.External() {
			continue
		}
		if !kept[k.Module.Path] {
			kept[k.Module.Path] = true
			keep = append(keep, k.Module)
			if l.Needs.Direct[k.Module.Path] {
				base = append(base, k.Module.Path)
			}
		}
		for _, m := range k.alts {
			alts[m.Path] = m.Version
		}
	}
	for {
		g, err := selection.Load(l.Ctx, l.Project.Path(), keep, false, l.Look)
		if err != nil {
			return nil, err
		}
		before := len(keep)
		for _, path := range slices.Sorted(maps.Keys(alts)) {
			// Where a module that could have had a package stays in the graph, it
			// must not be at a version that go.sum says nothing about.
			if at := g.Selected[path]; at != "" && selection.CompareVersions(path, at, alts[path]) < 0 {
				keep = append(keep, module.Version{Path: path, Version: alts[path]})
			}
		}
		if len(keep) == before {
			list := append(g.Minimal(l.Project.Path(), base), l.runtimes()...)
			return l.Requirements(list, l.Needs.Direct, false)
		}
	}
}
