package tidying

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"golang.org/x/mod/module"
	"golang.org/x/sync/errgroup"

	"bellwether/internal/ecosystem/gomod/imports"
	"bellwether/internal/ecosystem/gomod/selection"
)

// Pkg is a package that is imported, or the tests of one.
type Pkg struct {
	Path    string
	Module  module.Version // zero for Go's own and the module's own
	Own     bool
	InAll   bool // imported by the module's own packages and tests, at whatever depth
	testOf  *Pkg
	imports []*Pkg
	test    *Pkg
	alts    []module.Version // modules that could have had it by their paths, but have not
	By      *Pkg             // who imported it first; nil for the roots
	Wrong   string           // why it cannot be had; empty if it can
	Several []module.Version // modules that all have it
	visited bool
}

// External tells of a package that another module has.
func (k *Pkg) External() bool { return k.Module.Path != "" }

// Loader follows imports from a module's own packages, in the way of "all" in
// the Go Modules Reference: the imports of its packages and their tests, and
// of what these import. The tests of those are looked at, too, though what only
// they import is not in "all".
type Loader struct {
	*Tidier
	Needs *selection.Requirements
	full  bool // look in the whole graph, not in the roots first
	pkgs  map[string]*Pkg
	List  []*Pkg // sorted by path, tests after what they test
	next  []*Pkg // met, and not visited
}

// load finds all packages, with the modules that rs selects.
func (s *Tidier) load(rs *selection.Requirements) (*Loader, error) {
	l := &Loader{Tidier: s, Needs: rs, full: !rs.Pruned, pkgs: map[string]*Pkg{}}
	for _, path := range append(s.Own.Paths(), s.Tools...) {
		l.promote(l.meet(path, nil))
	}
	for len(l.next) > 0 {
		if err := s.Ctx.Err(); err != nil {
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
	slices.SortStableFunc(l.List, func(a, b *Pkg) int { return strings.Compare(a.Path, b.Path) })
	return l, nil
}

// meet gives the package of a path, and sees to it that it is visited.
func (l *Loader) meet(path string, by *Pkg) *Pkg {
	k := l.pkgs[path]
	if k == nil {
		k = &Pkg{Path: path, By: by}
		l.pkgs[path] = k
		l.next = append(l.next, k)
	}
	return k
}

// visit finds a package and meets what it imports.
func (l *Loader) visit(k *Pkg) error {
	if err := l.find(k); err != nil {
		return err
	}
	l.List = append(l.List, k)
	k.visited = true
	code, _ := l.importsOf(k)
	for _, path := range code {
		k.imports = append(k.imports, l.meet(path, k))
	}
	if k.InAll {
		k.InAll = false
		l.promote(k)
	}
	return nil
}

// promote puts a package into "all", with all that it imports, and looks at
// its tests.
func (l *Loader) promote(k *Pkg) {
	if k.InAll {
		return
	}
	k.InAll = true
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
	k.test = &Pkg{Path: k.Path, Module: k.Module, Own: k.Own, testOf: k, By: k, visited: true}
	l.List = append(l.List, k.test)
	for _, path := range tests {
		k.test.imports = append(k.test.imports, l.meet(path, k.test))
	}
	if k.Own || l.closesOverTests() {
		l.promote(k.test)
	}
}

// closesOverTests holds before Go 1.16: the tests of all that is imported
// count as imported.
func (l *Loader) closesOverTests() bool {
	return selection.CompareGo(l.Needs.Selected["go"], "1.16") < 0 && l.Needs.Selected["go"] != ""
}

// importsOf are what the code and the tests of a package import.
func (l *Loader) importsOf(k *Pkg) (code, tests []string) {
	switch {
	case k.Own:
		return l.Own.Imports(k.Path)
	case !k.External():
		return nil, nil
	}
	i, err := l.IndexFor(k.Module)
	if err != nil {
		return nil, nil // find told of it
	}
	if p := i.Packages[imports.Below(k.Module.Path, k.Path)]; p != nil {
		return p.Code, p.Tests
	}
	return nil, nil
}

// candidates are the modules that may hold a package: among the roots, and in
// the whole graph.
func (l *Loader) candidates(pkg string) (roots, all []module.Version) {
	for _, prefix := range imports.Prefixes(pkg) {
		if prefix == "go" || prefix == "toolchain" {
			continue
		}
		if v := l.Needs.Roots[prefix]; v != "" {
			roots = append(roots, module.Version{Path: prefix, Version: v})
		}
		if v := l.Needs.Selected[prefix]; v != "" {
			all = append(all, module.Version{Path: prefix, Version: v})
		}
	}
	return roots, all
}

// fetchFor gets the indexes that resolving a frontier will ask for, many at a
// time.
func (l *Loader) fetchFor(frontier []*Pkg) error {
	want := map[module.Version]bool{}
	for _, k := range frontier {
		if l.Own.Has(k.Path) {
			continue
		}
		roots, all := l.candidates(k.Path)
		if len(roots) == 0 || l.full {
			roots = all
		}
		for _, m := range roots {
			want[m] = true
		}
	}
	group, ctx := errgroup.WithContext(l.Ctx)
	group.SetLimit(selection.AskAtOnce)
	for m := range want {
		group.Go(func() error {
			if s, err := l.Project.Source(m); err == nil && s.Dir == "" {
				_, _ = l.Registry.IndexOf(ctx, s.Mod) // errors come again when it is used
			}
			return ctx.Err()
		})
	}
	return group.Wait()
}

// IndexFor reads the files that count for a module in this project.
func (s *Tidier) IndexFor(m module.Version) (*imports.Index, error) {
	src, err := s.Project.Source(m)
	if err != nil {
		return nil, err
	}
	if src.Dir == "" {
		return s.Registry.IndexOf(s.Ctx, src.Mod)
	}
	return s.Project.Folders.Get(src.Dir, func() (*imports.Index, error) { return imports.IndexFolder(s.Project.Fsys, src.Dir) })
}

// find finds the module that has a package: among the roots if one of them has
// it, else in the whole graph.
func (l *Loader) find(k *Pkg) error {
	if k.Own {
		return nil
	}
	roots, all := l.candidates(k.Path)
	if l.Own.Has(k.Path) {
		k.Own = true
		return nil
	}
	if imports.IsStandard(k.Path) && len(all) == 0 && !imports.OfModule(l.Project.Path(), k.Path) {
		return nil
	}
	if module.CheckImportPath(k.Path) != nil {
		k.Wrong = "it is no valid import path"
		return nil
	}
	passes := [][]module.Version{roots, all}
	if l.full {
		passes = passes[1:]
	}
	for _, list := range passes {
		var have, alts []module.Version
		for _, m := range list {
			i, err := l.IndexFor(m)
			if err != nil {
				return fmt.Errorf("looking for the package %s: %w", k.Path, err)
			}
			if i.Packages[imports.Below(m.Path, k.Path)] != nil {
				have = append(have, m)
			} else {
				alts = append(alts, m)
			}
		}
		switch {
		case len(have) > 1:
			k.Several, k.Module = have, have[0]
			return nil
		case len(have) == 1:
			k.Module, k.alts = have[0], alts
			return nil
		}
	}
	k.Wrong = "no required module has it"
	return nil
}

// modules are those that the packages of keep come from, each once, sorted.
func (l *Loader) modules(keep func(k *Pkg) bool) []module.Version {
	found := map[module.Version]bool{}
	for _, k := range l.List {
		if k.External() && keep(k) {
			found[k.Module] = true
		}
	}
	return slices.SortedFunc(maps.Keys(found), func(a, b module.Version) int { return strings.Compare(a.Path, b.Path) })
}

// Stack is how a package came to be imported: "tide/clock, tested by …".
func (k *Pkg) Stack() string {
	text := ""
	for at := k.By; at != nil; at = at.By {
		switch {
		case at.testOf != nil && text == "":
			text = "the tests of " + at.Path
			at = at.testOf
		case text == "":
			text = at.Path
		default:
			text += ", which " + at.Path + " imports"
		}
		if at.Own {
			break
		}
	}
	return text
}
