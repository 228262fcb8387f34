package tree

import (
	"maps"
	"path"
	"slices"

	"bellwether/internal/ecosystem/npm/lock"
	"bellwether/internal/ecosystem/npm/packagejson"
)

// Load hangs the lock's entries into the tree. Entries of tops tell nothing
// that the manifests do not; entries whose place does not exist are left out.
func (t *Tree) Load(l *lock.File) {
	byLoc := map[string]*Node{"": t.Root}
	for _, top := range t.Tops {
		byLoc[top.Loc] = top
		top.Entry = l.Entries[top.Loc]
	}
	t.Root.Entry = l.Entries[""]
	links := map[*Node]string{}
	// What lies above comes first.
	byDepth := map[int][]string{}
	for _, loc := range packagejson.Collated(l.Entries) {
		d := depthOf(loc)
		byDepth[d] = append(byDepth[d], loc)
	}
	for _, depth := range slices.Sorted(maps.Keys(byDepth)) {
		for _, loc := range byDepth[depth] {
			parentAt, name, ok := lock.ParentLoc(loc)
			parent := byLoc[parentAt]
			if !ok || parent == nil {
				continue
			}
			e := l.Entries[loc]
			n := t.Add(parent, name)
			n.Entry, n.Body, n.InBundle, n.Deprecate = e, e.Body, e.InBundle, e.Deprecated
			n.Version, n.Resolved, n.Integrity = e.Version, e.Resolved, e.Integrity
			if e.Name != "" {
				n.Package = e.Name
			}
			byLoc[loc] = n
			if e.Link {
				links[n] = path.Clean(e.Resolved)
			} else if n.Body != nil {
				t.SetEdges(n, BodyEdges(n.Body, nil))
			}
		}
	}
	for n, where := range links {
		if top := byLoc[where]; top != nil && top.IsTop() {
			n.LinkTo = top
		} else {
			delete(n.Parent.Kids, n.Name)
		}
	}
}
