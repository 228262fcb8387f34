package placing

import (
	"fmt"
	"slices"

	"bellwether/internal/core/spelling"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/tree"
)

// checkAll sees that every edge of the finished tree is content.
func (b *Builder) checkAll() error {
	if b.Registry.Settings.On("legacy-peer-deps") {
		return nil
	}
	var failed error
	var before []string
	b.Tree.Walk(func(n *tree.Node) {
		for _, e := range n.EdgeList {
			to := n.Get(e)
			if tree.Meets(e, to) || packedWith(n, to) || slices.Contains(bundledOf(n), e.Name) {
				continue
			}
			if (n.Forced && e.Kind.IsPeer() || e.Kind == packagejson.PeerOptional) && b.asFound(n, to) {
				before = append(before, fmt.Sprintf("%s, and gets %s", Describe(n, e), VersionOf(to)))
				continue
			}
			if n.Forced && e.Kind.IsPeer() {
				b.Notices = append(
					b.Notices, fmt.Sprintf("%s as a peer, but gets %s: what asks for it contradicts that", Describe(n, e), VersionOf(to)),
				)
				continue
			}
			if e.Kind == packagejson.PeerOptional {
				b.Notices = append(b.Notices, fmt.Sprintf("%s as an optional peer, but gets %s", Describe(n, e), VersionOf(to)))
				continue
			}
			if failed == nil {
				failed = b.unplaceable(n, e, fmt.Sprintf("%s has %s", atPlace(to), VersionOf(to)))
			}
		}
	})
	if len(before) > 0 {
		b.AsBefore = []string{"peers that the lock did not meet before, either: " + spelling.Few(before, 3)}
	}
	return failed
}
