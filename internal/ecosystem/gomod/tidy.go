package gomod

import (
	"maps"
	"slices"
)

// requirements loads the graph that hangs on a list of roots. Where a path
// stands twice, the higher version counts.
func (s *resolver) requirements(list []version, direct map[string]bool, pruned bool) (*requirements, error) {
	g, err := newGraph(s.ctx, s.p.path(), list, pruned, s.look)
	if err != nil {
		return nil, err
	}
	list = slices.Clone(list)
	sortRoots(list)
	return &requirements{g, list, direct}, nil
}

// tidied follows imports and adds requirements until all that is imported is
// provided for, then drops those that nothing needs, as "go mod tidy" is
// described in the Go Modules Reference. Requirements are only ever added
// until the last step, so that it comes to an end.
func (s *resolver) tidied(roots []version) (*loader, error) {
	rs, err := s.requirements(roots, nil, prunes(goOf(roots)))
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
		if slices.Equal(next.list, rs.list) {
			added, err := l.provided()
			if err != nil {
				return nil, err
			}
			if len(added) == 0 {
				next.direct = l.directs()
				l.rs = next
				l.rs, err = l.least()
				return l, err
			}
			if next, err = l.withRoots(append(slices.Clone(next.list), added...)); err != nil {
				return nil, err
			}
		}
		rs = next
	}
}

// goOf is the release of Go among requirements.
func goOf(roots []version) string {
	for _, m := range roots {
		if m.Path == "go" {
			return m.Version
		}
	}
	return ""
}

// directs are the modules whose packages the module's own import.
func (l *loader) directs() map[string]bool {
	direct := map[string]bool{}
	for _, k := range l.list {
		if !k.own {
			continue
		}
		for _, i := range k.imports {
			if i.external() {
				direct[i.mod.Path] = true
			}
		}
	}
	return direct
}

// grown adds what the packages that were found need as requirements of their
// own.
func (l *loader) grown() (*requirements, error) {
	l.rs.direct = l.directs()
	tidy, err := l.least()
	if err != nil {
		return nil, err
	}
	list := slices.Clone(l.rs.list)
	if l.rs.pruned {
		for _, m := range l.modules(func(k *pkg) bool { return k.inAll }) {
			if l.rs.roots[m.Path] == "" {
				list = append(list, m)
			}
		}
	}
	for _, m := range tidy.list {
		if at := l.rs.roots[m.Path]; at == "" || compareVersions(m.Path, at, m.Version) < 0 {
			list = append(list, m)
		}
	}
	return l.withRoots(list)
}

// withRoots are the loader's requirements with another list of roots.
func (l *loader) withRoots(list []version) (*requirements, error) {
	return l.raise(list, l.rs.direct, l.rs.pruned)
}

// raise loads requirements, and raises them until each is at the version that
// is selected.
func (s *resolver) raise(list []version, direct map[string]bool, pruned bool) (*requirements, error) {
	if !pruned {
		return s.raiseUnpruned(list, direct)
	}
	for {
		rs, err := s.requirements(list, direct, pruned)
		if err != nil {
			return nil, err
		}
		raised := false
		var next []version
		seen := map[string]bool{}
		for _, m := range rs.list {
			if seen[m.Path] {
				continue
			}
			seen[m.Path] = true
			at := rs.selected[m.Path]
			if at != m.Version {
				raised = true
				s.raisers[version{Path: m.Path, Version: at}] = rs.asker[version{Path: m.Path, Version: at}]
			}
			next = append(next, version{Path: m.Path, Version: at})
		}
		if !raised {
			if len(next) == len(rs.list) {
				return rs, nil
			}
			return s.requirements(next, direct, pruned)
		}
		list = next
	}
}

// raiseUnpruned keeps every version that is selected, also where what required
// it was raised itself.
func (s *resolver) raiseUnpruned(list []version, direct map[string]bool) (*requirements, error) {
	rs, err := s.requirements(list, direct, false)
	if err != nil {
		return nil, err
	}
	keep := rs.buildList()
	var base []string
	for _, m := range rs.list {
		if m.Path != "go" && rs.selected[m.Path] == m.Version && !slices.Contains(base, m.Path) {
			base = append(base, m.Path)
		}
	}
	for _, m := range keep {
		if direct[m.Path] && !slices.Contains(base, m.Path) {
			base = append(base, m.Path)
		}
	}
	if v := rs.selected["go"]; v != "" {
		keep = append(keep, version{Path: "go", Version: v})
	}
	g, err := newGraph(s.ctx, s.p.path(), keep, false, s.look)
	if err != nil {
		return nil, err
	}
	return s.requirements(append(g.minimal(s.p.path(), base), keep[len(rs.buildList()):]...), direct, false)
}

// least are the fewest requirements that keep what the packages need.
func (l *loader) least() (*requirements, error) {
	if l.rs.pruned {
		return l.leastPruned()
	}
	return l.leastUnpruned()
}

// runtimes are the requirements on Go itself.
func (l *loader) runtimes() []version {
	var list []version
	for _, m := range l.rs.list {
		if m.Path == "go" || m.Path == "toolchain" {
			list = append(list, m)
		}
	}
	return list
}

// leastPruned requires every module that has a package of "all"; and of the
// modules that only tests of dependencies need, those that the graph would
// otherwise have at a lower version.
func (l *loader) leastPruned() (*requirements, error) {
	list := l.runtimes()
	isRoot := map[string]bool{l.p.path(): true}
	add := func(m version) {
		if !isRoot[m.Path] {
			isRoot[m.Path] = true
			list = append(list, m)
		}
	}
	var queue []*pkg
	queued := map[*pkg]bool{}
	for _, k := range l.list {
		if !k.inAll {
			continue
		}
		if k.external() {
			add(k.mod)
		}
		queue = append(queue, k)
		queued[k] = true
	}
	tidy, err := l.requirements(list, l.rs.direct, true)
	if err != nil {
		return nil, err
	}
	for len(queue) > 0 {
		level := queue
		queue = nil
		for _, k := range level {
			if !k.external() && !k.own {
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
			if k.external() && !isRoot[k.mod.Path] && compareVersions(k.mod.Path, tidy.selected[k.mod.Path], k.mod.Version) < 0 {
				add(k.mod)
			}
		}
		if len(list) > len(tidy.list) {
			if tidy, err = l.requirements(list, l.rs.direct, true); err != nil {
				return nil, err
			}
		}
	}
	return l.unambiguous(tidy, isRoot)
}

// unambiguous requires a module by itself where otherwise another one in the
// graph had the same package, too.
func (l *loader) unambiguous(tidy *requirements, isRoot map[string]bool) (*requirements, error) {
	for {
		list := slices.Clone(tidy.list)
		probe := &loader{resolver: l.resolver, rs: tidy}
		for _, k := range l.list {
			if !k.external() || isRoot[k.mod.Path] || k.testOf != nil {
				continue
			}
			again := &pkg{path: k.path}
			if err := probe.find(again); err != nil {
				return nil, err
			}
			if len(again.several) > 0 {
				isRoot[k.mod.Path] = true
				list = append(list, k.mod)
			}
		}
		if len(list) == len(tidy.list) {
			return tidy, nil
		}
		var err error
		if tidy, err = l.requirements(list, l.rs.direct, true); err != nil {
			return nil, err
		}
	}
}

// leastUnpruned requires what is imported directly, and otherwise only what
// does not follow from that.
func (l *loader) leastUnpruned() (*requirements, error) {
	keep := l.runtimes()
	kept := map[string]bool{}
	var base []string
	alts := map[string]string{}
	for _, m := range keep {
		kept[m.Path] = true
	}
	for _, k := range l.list {
		if !k.external() {
			continue
		}
		if !kept[k.mod.Path] {
			kept[k.mod.Path] = true
			keep = append(keep, k.mod)
			if l.rs.direct[k.mod.Path] {
				base = append(base, k.mod.Path)
			}
		}
		for _, m := range k.alts {
			alts[m.Path] = m.Version
		}
	}
	for {
		g, err := newGraph(l.ctx, l.p.path(), keep, false, l.look)
		if err != nil {
			return nil, err
		}
		before := len(keep)
		for _, path := range slices.Sorted(maps.Keys(alts)) {
			// Where a module that could have had a package stays in the graph, it
			// must not be at a version that go.sum says nothing about.
			if at := g.selected[path]; at != "" && compareVersions(path, at, alts[path]) < 0 {
				keep = append(keep, version{Path: path, Version: alts[path]})
			}
		}
		if len(keep) == before {
			list := append(g.minimal(l.p.path(), base), l.runtimes()...)
			return l.requirements(list, l.rs.direct, false)
		}
	}
}
