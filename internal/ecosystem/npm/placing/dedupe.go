package placing

import (
	"cmp"
	"slices"
	"strings"

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
