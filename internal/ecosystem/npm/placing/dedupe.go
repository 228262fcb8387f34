package placing

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/tree"
)

// dedupe takes out copies that those who have them can do without, since what they
// would find further up suits them. By itself it takes out new copies of the same
// version; with all, whatever can go. It tells whether something went.
func (b *Builder) dedupe(all bool) (some bool) {
	b.reached = nil
	var nodes []*tree.Node
	b.Tree.Walk(func(n *tree.Node) {
		if n.Parent != nil && n.LinkTo == nil && !n.InBundle && (all || n.Entry == nil) {
			nodes = append(nodes, n)
		}
	})
	slices.SortStableFunc(nodes, func(a, c *tree.Node) int {
		return cmp.Or(c.Depth()-a.Depth(), strings.Compare(a.Loc, c.Loc))
	})
	for _, n := range nodes {
		if Gone(n) || n.Parent.Above == nil {
			continue
		}
		above := n.Parent.Above.Resolve(n.Name)
		if above == nil || above.LinkTo != nil || above.Package != n.Package || (!all || n.Pinned) && above.Version != n.Version {
			continue
		}
		suits := samePeers(n, above)
		for _, d := range b.Tree.Dependents[n.Name] {
			for _, e := range d.EdgeList {
				if !Gone(d) && e.Name == n.Name && d.Get(e) == n && !tree.Meets(e, above) {
					suits = false
				}
			}
		}
		if suits {
			b.Tree.Remove(n)
			some = true
		}
	}
	b.reached = nil
	return some
}

// samePeers tells whether two places of a package see the same copies of what it
// has to meet.
func samePeers(n, other *tree.Node) bool {
	for _, e := range n.EdgeList {
		if e.Kind.IsPeer() && n.Parent.Resolve(e.Name) != other.Parent.Resolve(e.Name) {
			return false
		}
	}
	return true
}

// hoist puts a package at the top if nothing of its name is there any more, and new copies of one version are below. This happens
// when what stood at the top while they were placed has gone since. Packages with peers stay beside their peers. It tells whether
// it moved anything.
func (b *Builder) hoist() (some bool) {
	copies := map[string]map[string][]*tree.Node{} // by name and version
	b.Tree.Walk(func(n *tree.Node) {
		if n.Parent == nil || n.Entry != nil || n.LinkTo != nil || n.InBundle || n.From == nil || len(n.From.Manifest().Peers) > 0 ||
			n.Resolve(n.Name) != n || b.Tree.Root.Kids[n.Name] != nil {
			return
		}
		if copies[n.Name] == nil {
			copies[n.Name] = map[string][]*tree.Node{}
		}
		copies[n.Name][n.Version] = append(copies[n.Name][n.Version], n)
	})
	for _, name := range packagejson.Collated(copies) {
		var most []*tree.Node
		for _, version := range slices.Sorted(maps.Keys(copies[name])) {
			if list := copies[name][version]; len(list) > max(1, len(most)) {
				most = list
			}
		}
		if len(most) > 0 && b.hidesNothing(b.Tree.Root, name, most[0].From) {
			b.Become(b.Tree.Add(b.Tree.Root, name), most[0].From, most[0].Scope)
			some = true
		}
	}
	return some
}
