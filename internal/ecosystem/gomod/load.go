package gomod

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"golang.org/x/mod/module"
	"golang.org/x/sync/errgroup"
)

// requirements are what a go.mod requires, with the graph that follows.
type requirements struct {
	*graph
	list   []version       // the roots, sorted by path, Go among them
	direct map[string]bool // paths of modules whose packages the module's own import
}

// pkg is a package that is imported, or the tests of one.
type pkg struct {
	path    string
	mod     version // zero for Go's own and the module's own
	own     bool
	inAll   bool // imported by the module's own packages and tests, at whatever depth
	testOf  *pkg
	imports []*pkg
	test    *pkg
	alts    []version // modules that could have had it by their paths, but have not
	by      *pkg      // who imported it first; nil for the roots
	wrong   string    // why it cannot be had; empty if it can
	several []version // modules that all have it
	visited bool
}

func (k *pkg) external() bool { return k.mod.Path != "" }

// loader follows imports from a module's own packages, in the way of "all" in
// the Go Modules Reference: the imports of its packages and their tests, and
// of what these import. The tests of those are looked at, too, though what only
// they import is not in "all".
type loader struct {
	*resolver
	rs   *requirements
	full bool // look in the whole graph, not in the roots first
	pkgs map[string]*pkg
	list []*pkg // sorted by path, tests after what they test
	next []*pkg // met, and not visited
}

// load finds all packages, with the modules that rs selects.
func (s *resolver) load(rs *requirements) (*loader, error) {
	l := &loader{resolver: s, rs: rs, full: !rs.pruned, pkgs: map[string]*pkg{}}
	for _, path := range append(s.own.paths(), s.tools...) {
		l.promote(l.meet(path, nil))
	}
	for len(l.next) > 0 {
		if err := s.ctx.Err(); err != nil {
			return nil, err
		}
		frontier := l.next
		l.next = nil
		if err := l.fetchFor(frontier); err != nil {
			return nil, err
		}
		for _, k := range frontier {
			if err := l.visit(k); err != nil {
				return nil, err
			}
		}
	}
	slices.SortStableFunc(l.list, func(a, b *pkg) int { return strings.Compare(a.path, b.path) })
	return l, nil
}

// meet gives the package of a path, and sees to it that it is visited.
func (l *loader) meet(path string, by *pkg) *pkg {
	k := l.pkgs[path]
	if k == nil {
		k = &pkg{path: path, by: by}
		l.pkgs[path] = k
		l.next = append(l.next, k)
	}
	return k
}

// visit finds a package and meets what it imports.
func (l *loader) visit(k *pkg) error {
	if err := l.find(k); err != nil {
		return err
	}
	l.list = append(l.list, k)
	k.visited = true
	code, _ := l.importsOf(k)
	for _, path := range code {
		k.imports = append(k.imports, l.meet(path, k))
	}
	if k.inAll {
		k.inAll = false
		l.promote(k)
	}
	return nil
}

// promote puts a package into "all", with all that it imports, and looks at
// its tests.
func (l *loader) promote(k *pkg) {
	if k.inAll {
		return
	}
	k.inAll = true
	if !k.visited {
		return
	}
	for _, i := range k.imports {
		l.promote(i)
	}
	_, tests := l.importsOf(k)
	if len(tests) == 0 || k.testOf != nil {
		return
	}
	k.test = &pkg{path: k.path, mod: k.mod, own: k.own, testOf: k, by: k, visited: true}
	l.list = append(l.list, k.test)
	for _, path := range tests {
		k.test.imports = append(k.test.imports, l.meet(path, k.test))
	}
	if k.own || l.closesOverTests() {
		l.promote(k.test)
	}
}

// closesOverTests holds before Go 1.16: the tests of all that is imported
// count as imported.
func (l *loader) closesOverTests() bool {
	return compareGo(l.rs.selected["go"], "1.16") < 0 && l.rs.selected["go"] != ""
}

// importsOf are what the code and the tests of a package import.
func (l *loader) importsOf(k *pkg) (code, tests []string) {
	switch {
	case k.own:
		return l.own.imports(k.path)
	case !k.external():
		return nil, nil
	}
	i, err := l.indexFor(k.mod)
	if err != nil {
		return nil, nil // find told of it
	}
	if p := i.Packages[below(k.mod.Path, k.path)]; p != nil {
		return p.Code, p.Tests
	}
	return nil, nil
}

// below is a package's folder in a module.
func below(module, pkg string) string {
	return strings.TrimPrefix(strings.TrimPrefix(pkg, module), "/")
}

// ofModule tells whether a package's path lies in that of a module.
func ofModule(module, pkg string) bool {
	return pkg == module || strings.HasPrefix(pkg, module+"/")
}

// prefixes are the paths that a module with a package may have, longest first.
func prefixes(pkg string) []string {
	var all []string
	for p := pkg; p != "." && p != "/"; p = path.Dir(p) {
		all = append(all, p)
	}
	return all
}

// candidates are the modules that may hold a package: among the roots, and in
// the whole graph.
func (l *loader) candidates(pkg string) (roots, all []version) {
	for _, prefix := range prefixes(pkg) {
		if prefix == "go" || prefix == "toolchain" {
			continue
		}
		if v := l.rs.roots[prefix]; v != "" {
			roots = append(roots, version{Path: prefix, Version: v})
		}
		if v := l.rs.selected[prefix]; v != "" {
			all = append(all, version{Path: prefix, Version: v})
		}
	}
	return roots, all
}

// fetchFor gets the indexes that resolving a frontier will ask for, many at a
// time.
func (l *loader) fetchFor(frontier []*pkg) error {
	want := map[version]bool{}
	for _, k := range frontier {
		if l.own.has(k.path) {
			continue
		}
		roots, all := l.candidates(k.path)
		if len(roots) == 0 || l.full {
			roots = all
		}
		for _, m := range roots {
			want[m] = true
		}
	}
	group, ctx := errgroup.WithContext(l.ctx)
	group.SetLimit(askAtOnce)
	for m := range want {
		group.Go(func() error {
			if s, err := l.p.source(m); err == nil && s.dir == "" {
				_, _ = l.r.indexOf(ctx, s.mod) // errors come again when it is used
			}
			return ctx.Err()
		})
	}
	return group.Wait()
}

// indexFor reads the files that count for a module in this project.
func (s *resolver) indexFor(m version) (*index, error) {
	src, err := s.p.source(m)
	if err != nil {
		return nil, err
	}
	if src.dir == "" {
		return s.r.indexOf(s.ctx, src.mod)
	}
	return s.p.folders.get(src.dir, func() (*index, error) { return indexFolder(s.p.fsys, src.dir) })
}

// isStandard tells of a path that is Go's own: its first element has no dot.
func isStandard(pkg string) bool {
	first, _, _ := strings.Cut(pkg, "/")
	return !strings.Contains(first, ".")
}

// find finds the module that has a package: among the roots if one of them has
// it, else in the whole graph.
func (l *loader) find(k *pkg) error {
	if k.own {
		return nil
	}
	roots, all := l.candidates(k.path)
	if l.own.has(k.path) {
		k.own = true
		return nil
	}
	if isStandard(k.path) && len(all) == 0 && !ofModule(l.p.path(), k.path) {
		return nil
	}
	if module.CheckImportPath(k.path) != nil {
		k.wrong = "it is no valid import path"
		return nil
	}
	passes := [][]version{roots, all}
	if l.full {
		passes = passes[1:]
	}
	for _, list := range passes {
		var have, alts []version
		for _, m := range list {
			i, err := l.indexFor(m)
			if err != nil {
				return fmt.Errorf("looking for the package %s: %w", k.path, err)
			}
			if i.Packages[below(m.Path, k.path)] != nil {
				have = append(have, m)
			} else {
				alts = append(alts, m)
			}
		}
		switch {
		case len(have) > 1:
			k.several, k.mod = have, have[0]
			return nil
		case len(have) == 1:
			k.mod, k.alts = have[0], alts
			return nil
		}
	}
	k.wrong = "no required module has it"
	return nil
}

// modules are those that the packages of keep come from, each once, sorted.
func (l *loader) modules(keep func(k *pkg) bool) []version {
	found := map[version]bool{}
	for _, k := range l.list {
		if k.external() && keep(k) {
			found[k.mod] = true
		}
	}
	return slices.SortedFunc(maps.Keys(found), func(a, b version) int { return strings.Compare(a.Path, b.Path) })
}

// stack is how a package came to be imported: "tide/clock, tested by …".
func (k *pkg) stack() string {
	text := ""
	for at := k.by; at != nil; at = at.by {
		switch {
		case at.testOf != nil && text == "":
			text = "the tests of " + at.path
			at = at.testOf
		case text == "":
			text = at.path
		default:
			text += ", which " + at.path + " imports"
		}
		if at.own {
			break
		}
	}
	return text
}
