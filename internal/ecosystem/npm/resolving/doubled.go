package resolving

import (
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/tree"
)

// doubled are the packages of which a further major came in beside those that the manifests ask for themselves.
func (s *resolver) doubled() (all []contract.Double) {
	if s.p.Lock == nil {
		return nil
	}
	was, is := s.own(s.p.Locked()), s.own(s.Tree)
	for _, name := range packagejson.Collated(is) {
		other := is[name].other
		if other == nil || was[name] == nil || was[name].other != nil {
			continue
		}
		all = append(all, contract.Double{Name: is[name].required, Version: other.Version, For: requirersOf(s.Tree, other)})
	}
	return all
}

// ownCopies are the copies of a package that manifests ask for.
type ownCopies struct {
	required string     // its name in a manifest
	lines    []string   // the majors of the copies that manifests get
	other    *tree.Node // a copy in another major; nil for none
}

// own finds what manifests ask for in a tree, by the names of the packages.
func (s *resolver) own(t *tree.Tree) map[string]*ownCopies {
	all := map[string]*ownCopies{}
	for _, top := range t.Tops {
		for _, e := range top.EdgeList {
			n := top.Get(e)
			if n == nil || n.IsTop() || n.LinkTo != nil || n.ParsedVersion() == nil {
				continue
			}
			if all[n.Package] == nil {
				all[n.Package] = &ownCopies{required: e.Name}
			}
			all[n.Package].lines = append(all[n.Package].lines, n.ParsedVersion().Line())
		}
	}
	t.Walk(func(n *tree.Node) {
		is := all[n.Package]
		if is == nil || is.other != nil || n.IsTop() || n.LinkTo != nil || n.InBundle || n.ParsedVersion() == nil {
			return
		}
		if !slices.Contains(is.lines, n.ParsedVersion().Line()) {
			is.other = n
		}
	})
	return all
}

// requirersOf are the names of what manifests ask for and a node hangs on, sorted.
func requirersOf(t *tree.Tree, n *tree.Node) (names []string) {
	seen := map[*tree.Node]bool{n: true}
	for queue := []*tree.Node{n}; len(queue) > 0; queue = queue[1:] {
		for _, d := range t.Dependents[queue[0].Name] {
			for _, e := range d.EdgeList {
				if e.Name != queue[0].Name || d.Get(e) != queue[0] {
					continue
				}
				if d.IsTop() && !slices.Contains(names, e.Name) {
					names = append(names, e.Name)
				}
				if !d.IsTop() && !seen[d] {
					seen[d] = true
					queue = append(queue, d)
				}
			}
		}
	}
	slices.Sort(names)
	return names
}
