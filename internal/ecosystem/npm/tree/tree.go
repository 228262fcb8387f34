// Package tree is an installed tree of packages: folders of node_modules, and who gets what from where.
package tree

import (
	"slices"
	"strings"

	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/npm/lock"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/registry"
)

// Holds tells whether n is a release already, from the same place.
func (n *Node) Holds(rel *registry.Release) bool {
	if n.LinkTo != nil || n.Package != rel.Pkg.Name || n.Version != rel.Text {
		return false
	}
	return !packagejson.IsGit(n.Resolved) && rel.Pkg.Source == "" || n.Resolved == rel.Archive()
}

// Node is one folder of an installed tree: a package below some node_modules,
// a link, or a top (the project's root, a workspace member, a linked folder).
type Node struct {
	Loc        string // "node_modules/a/node_modules/b"; "" for the root
	Name       string // the folder's name: what dependents call it
	Package    string // the package's own name, other than name for an alias
	Version    string
	Resolved   string
	Integrity  string
	Above      *Node // where the search for a dependency goes on; nil for the root
	Parent     *Node // whose node_modules it is in; nil for tops
	Kids       map[string]*Node
	LinkTo     *Node // for a link, the top it leads to
	Member     bool  // a workspace member, which the root reaches without naming it
	Body       *packagejson.Body
	InBundle   bool
	Deprecate  string
	Entry      *lock.Entry // as the lock found has it; nil for a new node
	From       *registry.Release
	Unpacked   bool               // what comes inside its archive is there
	Forced     bool               // it is there although it does not meet its peers
	Declared   []packagejson.Edge // a top's own, before any override
	EdgeList   []packagejson.Edge
	Scope      packagejson.Scope // override rules in force for its dependencies
	parsed     version.Version   // of parsedText
	parsedText string
	Pinned     bool // chosen for a top; not to be replaced
	Flags      lock.Flags
}

// Tree is all nodes of a project.
type Tree struct {
	Root *Node
	Tops map[string]*Node // by the manifest's folder
	// dependents are the nodes that have an edge of a name, so that only they
	// are looked at when a node of that name changes.
	Dependents map[string][]*Node
}

// NewTree gives a tree that has only its root.
func NewTree() *Tree {
	root := &Node{Kids: map[string]*Node{}}
	return &Tree{Root: root, Tops: map[string]*Node{}, Dependents: map[string][]*Node{}}
}

// Target is the node behind a link, else the node itself.
func (n *Node) Target() *Node {
	if n.LinkTo != nil {
		return n.LinkTo
	}
	return n
}

// IsTop tells of the root, a member of its workspace, or a linked folder.
func (n *Node) IsTop() bool { return n.Parent == nil }

// Resolve finds what n gets when it asks for a package: its own node_modules
// first, then those above, as Node.js looks modules up.
func (n *Node) Resolve(name string) *Node {
	for at := n; at != nil; at = at.Above {
		if k := at.Kids[name]; k != nil {
			return k
		}
	}
	return nil
}

// Get is what an edge of n leads to. A peer is to be beside n, but what is below n
// hides it.
func (n *Node) Get(e packagejson.Edge) *Node { return n.Resolve(e.Name) }

// Add puts a node into n's node_modules.
func (t *Tree) Add(n *Node, name string) *Node {
	k := &Node{Name: name, Package: name, Above: n, Parent: n, Kids: map[string]*Node{}, Loc: KidLoc(n, name)}
	n.Kids[name] = k
	return k
}

// Remove takes a node out, with everything below it.
func (t *Tree) Remove(n *Node) {
	delete(n.Parent.Kids, n.Name)
	for _, k := range n.Kids {
		t.Remove(k)
	}
	t.SetEdges(n, nil)
}

// KidLoc is the location of a package in the node_modules of n.
func KidLoc(n *Node, name string) string {
	if n.Loc == "" {
		return "node_modules/" + name
	}
	return n.Loc + "/node_modules/" + name
}

// SetEdges fills in what n depends on and makes n known as a dependent.
func (t *Tree) SetEdges(n *Node, edges []packagejson.Edge) {
	for _, e := range n.EdgeList {
		t.Dependents[e.Name] = slices.DeleteFunc(t.Dependents[e.Name], func(d *Node) bool { return d == n })
	}
	n.EdgeList = edges
	for _, e := range edges {
		t.Dependents[e.Name] = append(t.Dependents[e.Name], n)
	}
}

// BodyEdges are the edges that a package's body declares, as the override
// rules in force want them.
func BodyEdges(b *packagejson.Body, in packagejson.Scope) []packagejson.Edge {
	byName := map[string]packagejson.Edge{}
	put := func(m map[string]string, kind packagejson.Kind) {
		for name, value := range m {
			k := kind
			if kind == packagejson.Peer && slices.Contains(b.PeerOptional, name) {
				k = packagejson.PeerOptional
			}
			byName[name] = packagejson.Edge{Name: name, Kind: k, Spec: packagejson.ReadSpec(name, value)}
		}
	}
	put(b.Peers, packagejson.Peer)
	put(b.Dependencies, packagejson.Prod)
	put(b.Optional, packagejson.Optional)
	edges := make([]packagejson.Edge, 0, len(byName))
	for _, name := range packagejson.Collated(byName) {
		e, _ := in.Apply(byName[name])
		edges = append(edges, e)
	}
	return edges
}

// KidScope is the scope of the package that n's dependency e leads to.
func (n *Node) KidScope(e packagejson.Edge) packagejson.Scope {
	_, s := n.Scope.Apply(e)
	return s
}

// SetTop fills in what the manifest of a top asks for. The root's overrides hold for
// members and linked folders as well, but not for what it asks for itself. npm does
// not always apply them to linked folders, and leaves such locks as they are.
func (t *Tree) SetTop(top *Node, edges []packagejson.Edge) {
	top.Declared = edges
	if top != t.Root && len(top.Scope) > 0 {
		edges = nil
		for _, e := range top.Declared {
			applied, _ := top.Scope.Apply(e)
			if to := top.Resolve(e.Name); !top.Member && to != nil && to.Entry != nil && !Meets(applied, to) && Meets(e, to) {
				applied = e
			}
			edges = append(edges, applied)
		}
	}
	t.SetEdges(top, edges)
}

// SpreadScopes hands the override rules down along the edges.
func (t *Tree) SpreadScopes() {
	if len(t.Root.Scope) == 0 {
		return
	}
	seen := map[*Node]bool{t.Root: true}
	queue := []*Node{t.Root}
	visit := func(n *Node, in packagejson.Scope) {
		if n == nil || seen[n] {
			return
		}
		seen[n] = true
		n.Scope = in
		if n.IsTop() {
			t.SetTop(n, n.Declared)
		} else if n.Body != nil {
			t.SetEdges(n, BodyEdges(n.Body, in))
		}
		queue = append(queue, n)
	}
	for _, dir := range packagejson.Collated(t.Tops) {
		if top := t.Tops[dir]; top.Member {
			visit(top, t.Root.KidScope(packagejson.Edge{Name: top.Package, Kind: packagejson.Prod, Spec: packagejson.Spec{Name: top.Package}}))
		}
	}
	for len(queue) > 0 {
		n := queue[0]
		queue = queue[1:]
		for _, e := range n.EdgeList {
			if to := n.Get(e); to != nil {
				visit(to.Target(), n.KidScope(e))
			}
		}
	}
	for _, dir := range packagejson.Collated(t.Tops) {
		visit(t.Tops[dir], t.Root.Scope) // what nothing leads to yet
	}
}

// TopEdges are the edges of a manifest.
func TopEdges(m *packagejson.Manifest) []packagejson.Edge {
	var edges []packagejson.Edge
	for _, d := range m.InEffect() {
		edges = append(edges, d.Edge())
	}
	return edges
}

// Walk visits all nodes, tops first, then breadth first in a fixed order.
func (t *Tree) Walk(visit func(*Node)) {
	queue := []*Node{t.Root}
	for _, dir := range packagejson.Collated(t.Tops) {
		if top := t.Tops[dir]; top != t.Root {
			queue = append(queue, top)
		}
	}
	for len(queue) > 0 {
		n := queue[0]
		queue = queue[1:]
		visit(n)
		for _, name := range packagejson.Collated(n.Kids) {
			queue = append(queue, n.Kids[name])
		}
	}
}

// Meets tells whether an edge is content with what it leads to.
func Meets(e packagejson.Edge, to *Node) bool {
	if to == nil {
		return e.Kind.IsOptional()
	}
	t := to.Target()
	switch e.Spec.Kind {
	case packagejson.SpecFile:
		return to.LinkTo != nil || strings.HasPrefix(to.Resolved, "file:")
	case packagejson.SpecGit:
		return to.Resolved == "" || packagejson.IsGit(to.Resolved) // a lock may leave out where things come from
	case packagejson.SpecURL, packagejson.SpecWorkspace, packagejson.SpecCatalog, packagejson.SpecTag:
		return true
	}
	if t.Package != e.Spec.Name {
		return false
	}
	v := t.ParsedVersion()
	return v != nil && e.Spec.Range.Contains(v)
}

// ParsedVersion is the node's version, nil if it is none. It is read once for
// each text, since the same edges are looked at many times.
func (n *Node) ParsedVersion() version.Version {
	if n.parsedText != n.Version || n.parsed == nil {
		n.parsedText, n.parsed = n.Version, nil
		if v, err := packagejson.ParseVersion(n.Version); err == nil {
			n.parsed = v
		}
	}
	return n.parsed
}

// Prune takes out what no top needs any more, and sets every node's flags.
func (t *Tree) Prune() {
	reached := t.Reach(func(_ *Node, e packagejson.Edge) bool { return Keeps(e) })
	// What lies in an archive is as its dependents are, where it has any.
	named := t.reachBy(func(*Node, packagejson.Edge) bool { return true }, func(*Node) bool { return false })
	over := func(follow func(e packagejson.Edge) bool) map[*Node]bool {
		return t.reachBy(func(_ *Node, e packagejson.Edge) bool { return follow(e) }, func(k *Node) bool { return !named[k] })
	}
	noDev := over(func(e packagejson.Edge) bool { return e.Kind != packagejson.Dev })
	noOptional := over(func(e packagejson.Edge) bool { return !e.Kind.IsOptional() })
	noBoth := over(func(e packagejson.Edge) bool { return e.Kind != packagejson.Dev && !e.Kind.IsOptional() })
	noPeer := over(func(e packagejson.Edge) bool { return !e.Kind.IsPeer() })
	t.Walk(func(n *Node) {
		if n.Parent != nil && !reached[n] && !n.InBundle {
			delete(n.Parent.Kids, n.Name)
			return
		}
		n.Flags = lock.Flags{
			Dev:      !noDev[n],
			Optional: !noOptional[n],
			Peer:     !noPeer[n],
		}
		n.Flags.DevOptional = !noBoth[n] && !n.Flags.Dev && !n.Flags.Optional
	})
}

// Keeps tells whether an edge is a reason for what it leads to, to be there.
// An optional peer is none: npm takes such packages out, too.
func Keeps(e packagejson.Edge) bool { return e.Kind != packagejson.PeerOptional }

// Reach gives the nodes that the root leads to over edges that follow admits, and
// what lies in their archives.
func (t *Tree) Reach(follow func(from *Node, e packagejson.Edge) bool) map[*Node]bool {
	return t.reachBy(follow, func(*Node) bool { return true })
}

// reachBy is Reach with only the packages of archives that bundled admits.
func (t *Tree) reachBy(follow func(from *Node, e packagejson.Edge) bool, bundled func(*Node) bool) map[*Node]bool {
	reached := map[*Node]bool{t.Root: true}
	queue := []*Node{t.Root}
	visit := func(n *Node) {
		for ; n != nil && !reached[n]; n = n.LinkTo {
			reached[n] = true
			queue = append(queue, n)
		}
	}
	for _, k := range t.Root.Kids {
		if k.LinkTo != nil && k.LinkTo.Member {
			visit(k)
		}
	}
	for len(queue) > 0 {
		n := queue[0]
		queue = queue[1:]
		for _, e := range n.EdgeList {
			if to := n.Get(e); to != nil && follow(n, e) {
				visit(to)
			}
		}
		for _, k := range n.Kids {
			if k.InBundle && bundled(k) {
				visit(k)
			}
		}
	}
	return reached
}

// Depth is how many folders of node_modules n is below.
func (n *Node) Depth() int { return depthOf(n.Loc) }

func depthOf(loc string) int { return strings.Count("/"+loc+"/", "/node_modules/") }
