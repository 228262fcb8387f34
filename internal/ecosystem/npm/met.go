package npm

import (
	"fmt"
	"slices"

	"bellwether/internal/core/spelling"
)

// checkAll sees that every edge of the finished tree is content.
func (b *builder) checkAll() error {
	if b.reg.settings.on("legacy-peer-deps") {
		return nil
	}
	var failed error
	var before []string
	b.t.walk(func(n *node) {
		for _, e := range n.edgeList {
			to := n.get(e)
			if meets(e, to) || n.packedWith(to) || slices.Contains(bundledOf(n), e.name) {
				continue
			}
			if (n.forced && e.kind.peer() || e.kind == peerOptionalEdge) && b.asFound(n, to) {
				before = append(before, fmt.Sprintf("%s, and gets %s", describe(n, e), versionOf(to)))
				continue
			}
			if n.forced && e.kind.peer() {
				b.notices = append(
					b.notices, fmt.Sprintf("%s as a peer, but gets %s: what asks for it contradicts that", describe(n, e), versionOf(to)),
				)
				continue
			}
			if e.kind == peerOptionalEdge {
				b.notices = append(b.notices, fmt.Sprintf("%s as an optional peer, but gets %s", describe(n, e), versionOf(to)))
				continue
			}
			if failed == nil {
				failed = b.unplaceable(n, e, fmt.Sprintf("%s has %s", atPlace(to), versionOf(to)))
			}
		}
	})
	if len(before) > 0 {
		b.asBefore = []string{"peers that the lock did not meet before, either: " + spelling.Few(before, 3)}
	}
	return failed
}
