package npm

import (
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/version"
)

// node is one folder of an installed tree: a package below some node_modules,
// a link, or a top (the project's root, a workspace member, a linked folder).
type node struct {
	loc        string // "node_modules/a/node_modules/b"; "" for the root
	name       string // the folder's name: what dependents call it
	pkgName    string // the package's own name, other than name for an alias
	version    string
	resolved   string
	integrity  string
	above      *node // where the search for a dependency goes on; nil for the root
	parent     *node // whose node_modules it is in; nil for tops
	kids       map[string]*node
	linkTo     *node // for a link, the top it leads to
	member     bool  // a workspace member, which the root reaches without naming it
	body       *body
	inBundle   bool
	deprecate  string
	entry      *entry // as the lock found has it; nil for a new node
	from       *release
	unpacked   bool   // what comes inside its archive is there
	forced     bool   // it is there although it does not meet its peers
	declared   []edge // a top's own, before any override
	edgeList   []edge
	scope      scope           // override rules in force for its dependencies
	parsed     version.Version // of parsedText
	parsedText string
	pinned     bool // chosen for a top; not to be replaced
	flags      flags
}

// flags say by which dependencies alone a node is reached.
type flags struct{ dev, optional, devOptional, peer bool }

// edge is a dependency of a node.
type edge struct {
	name string
	kind edgeKind
	spec spec
}

// tree is all nodes of a project.
type tree struct {
	root *node
	tops map[string]*node // by the manifest's folder
	// dependents are the nodes that have an edge of a name, so that only they
	// are looked at when a node of that name changes.
	dependents map[string][]*node
}

func newTree() *tree {
	root := &node{kids: map[string]*node{}}
	return &tree{root: root, tops: map[string]*node{}, dependents: map[string][]*node{}}
}

// target is the node behind a link, else the node itself.
func (n *node) target() *node {
	if n.linkTo != nil {
		return n.linkTo
	}
	return n
}

func (n *node) isTop() bool { return n.parent == nil }

// resolve finds what n gets when it asks for a package: its own node_modules
// first, then those above, as Node.js looks modules up.
func (n *node) resolve(name string) *node {
	for at := n; at != nil; at = at.above {
		if k := at.kids[name]; k != nil {
			return k
		}
	}
	return nil
}

// get is what an edge of n leads to. A peer is to be beside n, but what is below n
// hides it.
func (n *node) get(e edge) *node { return n.resolve(e.name) }

// add puts a node into n's node_modules.
func (t *tree) add(n *node, name string) *node {
	k := &node{name: name, pkgName: name, above: n, parent: n, kids: map[string]*node{}, loc: kidLoc(n, name)}
	n.kids[name] = k
	return k
}

// remove takes a node out, with everything below it.
func (t *tree) remove(n *node) {
	delete(n.parent.kids, n.name)
	for _, k := range n.kids {
		t.remove(k)
	}
	t.setEdges(n, nil)
}

func kidLoc(n *node, name string) string {
	if n.loc == "" {
		return "node_modules/" + name
	}
	return n.loc + "/node_modules/" + name
}

// setEdges fills in what n depends on and makes n known as a dependent.
func (t *tree) setEdges(n *node, edges []edge) {
	for _, e := range n.edgeList {
		t.dependents[e.name] = slices.DeleteFunc(t.dependents[e.name], func(d *node) bool { return d == n })
	}
	n.edgeList = edges
	for _, e := range edges {
		t.dependents[e.name] = append(t.dependents[e.name], n)
	}
}

// bodyEdges are the edges that a package's body declares, as the override
// rules in force want them.
func bodyEdges(b *body, in scope) []edge {
	byName := map[string]edge{}
	put := func(m map[string]string, kind edgeKind) {
		for name, value := range m {
			k := kind
			if kind == peerEdge && slices.Contains(b.PeerOptional, name) {
				k = peerOptionalEdge
			}
			byName[name] = edge{name, k, readSpec(name, value)}
		}
	}
	put(b.Peers, peerEdge)
	put(b.Dependencies, prodEdge)
	put(b.Optional, optionalEdge)
	edges := make([]edge, 0, len(byName))
	for _, name := range collated(byName) {
		e, _ := in.apply(byName[name])
		edges = append(edges, e)
	}
	return edges
}

// kidScope is the scope of the package that n's dependency e leads to.
func (n *node) kidScope(e edge) scope {
	_, s := n.scope.apply(e)
	return s
}

// setTop fills in what the manifest of a top asks for. The root's overrides hold for
// members and linked folders as well, but not for what it asks for itself. npm does
// not always apply them to linked folders, and leaves such locks as they are.
func (t *tree) setTop(top *node, edges []edge) {
	top.declared = edges
	if top != t.root && len(top.scope) > 0 {
		edges = nil
		for _, e := range top.declared {
			applied, _ := top.scope.apply(e)
			if to := top.resolve(e.name); !top.member && to != nil && to.entry != nil && !meets(applied, to) && meets(e, to) {
				applied = e
			}
			edges = append(edges, applied)
		}
	}
	t.setEdges(top, edges)
}

// spreadScopes hands the override rules down along the edges.
func (t *tree) spreadScopes() {
	if len(t.root.scope) == 0 {
		return
	}
	seen := map[*node]bool{t.root: true}
	queue := []*node{t.root}
	visit := func(n *node, in scope) {
		if n == nil || seen[n] {
			return
		}
		seen[n] = true
		n.scope = in
		if n.isTop() {
			t.setTop(n, n.declared)
		} else if n.body != nil {
			t.setEdges(n, bodyEdges(n.body, in))
		}
		queue = append(queue, n)
	}
	for _, dir := range collated(t.tops) {
		if top := t.tops[dir]; top.member {
			visit(top, t.root.kidScope(edge{top.pkgName, prodEdge, spec{name: top.pkgName}}))
		}
	}
	for len(queue) > 0 {
		n := queue[0]
		queue = queue[1:]
		for _, e := range n.edgeList {
			if to := n.get(e); to != nil {
				visit(to.target(), n.kidScope(e))
			}
		}
	}
	for _, dir := range collated(t.tops) {
		visit(t.tops[dir], t.root.scope) // what nothing leads to yet
	}
}

// topEdges are the edges of a manifest.
func topEdges(m *manifest) []edge {
	var edges []edge
	for _, d := range m.inEffect() {
		edges = append(edges, edge{d.name, d.kind, d.spec})
	}
	return edges
}

// walk visits all nodes, tops first, then breadth first in a fixed order.
func (t *tree) walk(visit func(*node)) {
	queue := []*node{t.root}
	for _, dir := range collated(t.tops) {
		if top := t.tops[dir]; top != t.root {
			queue = append(queue, top)
		}
	}
	for len(queue) > 0 {
		n := queue[0]
		queue = queue[1:]
		visit(n)
		for _, name := range collated(n.kids) {
			queue = append(queue, n.kids[name])
		}
	}
}

// meets tells whether an edge is content with what it leads to.
func meets(e edge, to *node) bool {
	if to == nil {
		return e.kind.optional()
	}
	t := to.target()
	switch e.spec.kind {
	case specFile:
		return to.linkTo != nil || strings.HasPrefix(to.resolved, "file:")
	case specGit:
		return isGit(to.resolved)
	case specURL, specWorkspace, specCatalog, specTag:
		return true
	}
	if t.pkgName != e.spec.name {
		return false
	}
	v := t.parsedVersion()
	return v != nil && e.spec.rng.Contains(v)
}

// parsedVersion is the node's version, nil if it is none. It is read once for
// each text, since the same edges are looked at many times.
func (n *node) parsedVersion() version.Version {
	if n.parsedText != n.version || n.parsed == nil {
		n.parsedText, n.parsed = n.version, nil
		if v, err := parseVersion(n.version); err == nil {
			n.parsed = v
		}
	}
	return n.parsed
}

// prune takes out what no top needs any more, and sets every node's flags.
func (t *tree) prune() {
	reached := t.reach(func(_ *node, e edge) bool { return keeps(e) })
	// What lies in an archive is as its dependents are, where it has any.
	named := t.reachBy(func(*node, edge) bool { return true }, func(*node) bool { return false })
	over := func(follow func(e edge) bool) map[*node]bool {
		return t.reachBy(func(_ *node, e edge) bool { return follow(e) }, func(k *node) bool { return !named[k] })
	}
	noDev := over(func(e edge) bool { return e.kind != devEdge })
	noOptional := over(func(e edge) bool { return !e.kind.optional() })
	noBoth := over(func(e edge) bool { return e.kind != devEdge && !e.kind.optional() })
	noPeer := over(func(e edge) bool { return !e.kind.peer() })
	t.walk(func(n *node) {
		if n.parent != nil && !reached[n] && !n.inBundle {
			delete(n.parent.kids, n.name)
			return
		}
		n.flags = flags{
			dev:      !noDev[n],
			optional: !noOptional[n],
			peer:     !noPeer[n],
		}
		n.flags.devOptional = !noBoth[n] && !n.flags.dev && !n.flags.optional
	})
}

// keeps tells whether an edge is a reason for what it leads to, to be there.
// An optional peer is none: npm takes such packages out, too.
func keeps(e edge) bool { return e.kind != peerOptionalEdge }

// reach gives the nodes that the root leads to over edges that follow admits, and
// what lies in their archives.
func (t *tree) reach(follow func(from *node, e edge) bool) map[*node]bool {
	return t.reachBy(follow, func(*node) bool { return true })
}

// reachBy is reach with only the packages of archives that bundled admits.
func (t *tree) reachBy(follow func(from *node, e edge) bool, bundled func(*node) bool) map[*node]bool {
	reached := map[*node]bool{t.root: true}
	queue := []*node{t.root}
	visit := func(n *node) {
		for ; n != nil && !reached[n]; n = n.linkTo {
			reached[n] = true
			queue = append(queue, n)
		}
	}
	for _, k := range t.root.kids {
		if k.linkTo != nil && k.linkTo.member {
			visit(k)
		}
	}
	for len(queue) > 0 {
		n := queue[0]
		queue = queue[1:]
		for _, e := range n.edgeList {
			if to := n.get(e); to != nil && follow(n, e) {
				visit(to)
			}
		}
		for _, k := range n.kids {
			if k.inBundle && bundled(k) {
				visit(k)
			}
		}
	}
	return reached
}

// depth is how many folders of node_modules n is below.
func (n *node) depth() int { return depthOf(n.loc) }

func depthOf(loc string) int { return strings.Count("/"+loc+"/", "/node_modules/") }

// parentLoc splits a location into the one it is in and the folder's name:
// "a/node_modules/@s/b" gives "a" and "@s/b". ok is false for a top's.
func parentLoc(loc string) (parent, name string, ok bool) {
	at := strings.LastIndex("/"+loc, "/node_modules/")
	if at < 0 {
		return "", path.Base(loc), false
	}
	return strings.TrimSuffix(loc[:max(at-1, 0)], "/"), loc[at+len("node_modules/"):], true
}
