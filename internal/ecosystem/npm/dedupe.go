package npm

import (
	"cmp"
	"slices"
	"strings"
)

// dedupe takes out copies that those who have them can do without, since what they
// would find further up suits them. By itself it takes out new copies of the same
// version; with all, whatever can go. It tells whether something went.
func (b *builder) dedupe(all bool) (some bool) {
	b.reached = nil
	var nodes []*node
	b.t.walk(func(n *node) {
		if n.parent != nil && n.linkTo == nil && !n.inBundle && (all || n.entry == nil) {
			nodes = append(nodes, n)
		}
	})
	slices.SortStableFunc(nodes, func(a, c *node) int {
		return cmp.Or(c.depth()-a.depth(), strings.Compare(a.loc, c.loc))
	})
	for _, n := range nodes {
		if n.gone() || n.parent.above == nil {
			continue
		}
		above := n.parent.above.resolve(n.name)
		if above == nil || above.linkTo != nil || above.pkgName != n.pkgName || (!all || n.pinned) && above.version != n.version {
			continue
		}
		suits := samePeers(n, above)
		for _, d := range b.t.dependents[n.name] {
			for _, e := range d.edgeList {
				if !d.gone() && e.name == n.name && d.get(e) == n && !meets(e, above) {
					suits = false
				}
			}
		}
		if suits {
			b.t.remove(n)
			some = true
		}
	}
	b.reached = nil
	return some
}

// samePeers tells whether two places of a package see the same copies of what it
// has to meet.
func samePeers(n, other *node) bool {
	for _, e := range n.edgeList {
		if e.kind.peer() && n.parent.resolve(e.name) != other.parent.resolve(e.name) {
			return false
		}
	}
	return true
}
