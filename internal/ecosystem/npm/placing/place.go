// Package placing puts packages into a tree by npm's rule: as high as they can be, nested where ranges differ, a package and its
// peers where they meet.
package placing

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/solve"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/registry"
	"bellwether/internal/ecosystem/npm/tree"
)

// Become makes n a release. What is below it stays for as long as something
// needs it.
func (b *Builder) Become(n *tree.Node, rel *registry.Release, in packagejson.Scope) {
	n.Package, n.Version, n.Body, n.From = rel.Pkg.Name, rel.Text, rel.Manifest(), rel
	n.Resolved, n.Integrity, n.Deprecate = rel.Archive(), rel.Integrity, rel.Deprecated
	n.Entry, n.InBundle, n.Unpacked, n.Scope = nil, false, false, in
	edges := tree.BodyEdges(n.Body, in)
	for _, k := range n.Kids {
		// A peer is to be beside n; one below, from before, would hide that.
		if k.InBundle || slices.ContainsFunc(edges, func(e packagejson.Edge) bool { return e.Name == k.Name && e.Kind.IsPeer() }) {
			b.Tree.Remove(k)
		}
	}
	b.Tree.SetEdges(n, edges)
	b.changed(n)
}

// provide finds a place for what n misses.
func (b *Builder) provide(n *tree.Node, e packagejson.Edge) error {
	if e.Kind.IsPeer() && !n.IsTop() {
		return b.providePeer(n, e)
	}
	switch {
	case n.Depth() > maxDepth:
		return b.unplaceable(n, e, "these packages need each other in a circle of versions that does not close")
	case slices.Contains(bundledOf(n), e.Name) && !n.Unpacked:
		return nil // it came inside the package's archive when it was locked
	case e.Spec.Kind > packagejson.SpecTag && e.Kind == packagejson.Optional:
		return nil
	case e.Spec.Kind > packagejson.SpecTag:
		return b.unplaceable(n, e, fmt.Sprintf("it is a %s, which only npm can fetch", packagejson.FixedBecause[e.Spec.Kind]))
	}
	p, err := b.Registry.Package(b.Ctx, e.Spec.Name)
	switch {
	case registry.IsAbsent(err) && e.Kind == packagejson.Optional:
		return nil
	case registry.IsAbsent(err):
		return b.unplaceable(n, e, "the registry does not know it")
	case err != nil:
		return fmt.Errorf("%s: %w", Describe(n, e), err)
	}
	at := n.Get(e)
	if at != nil && b.replace(at, p, n, e) {
		return nil
	}
	best := b.pick(p, e.Spec)
	if best == nil {
		if e.Kind == packagejson.Optional {
			return nil
		}
		return b.unplaceable(n, e, "no release is in this range")
	}
	for _, level := range levels(n, at) {
		if level.Kids[e.Name] == nil && b.placeSet(level, n, e, p, best) {
			return nil
		}
	}
	if own := n.Kids[e.Name]; own != nil && own.LinkTo == nil && !own.Pinned && !own.InBundle && b.peersMet(best, n, n.KidScope(e)) {
		// Who is below n and got it from there can have a copy further down.
		b.Become(own, best, n.KidScope(e))
		return nil
	}
	// The best does not fit anywhere; let the solver look for one that does.
	if level := n; level.Kids[e.Name] == nil && b.placeSet(level, n, e, p, nil) {
		return nil
	}
	if e.Kind == packagejson.Optional {
		return nil
	}
	own := n.Kids[e.Name]
	if n.IsTop() || own != nil && (own.LinkTo != nil || own.Pinned || own.InBundle) {
		return b.unplaceable(n, e, "no release of it meets the peers it wants there")
	}
	// Below the requirements packages contradict themselves; as npm does, what is
	// wanted is taken, with a warning.
	if own == nil {
		own = b.Tree.Add(n, e.Name)
	}
	own.Forced = true
	b.Become(own, best, n.KidScope(e))
	return nil
}

func bundledOf(n *tree.Node) []string {
	if n.Body == nil || n.IsTop() {
		return nil
	}
	return n.Body.Bundled
}

// Unplaced is the error of a node that cannot have what it needs.
type Unplaced struct {
	*solve.Conflict
	Node *tree.Node
	Edge packagejson.Edge
	To   *tree.Node // what it gets instead; nil for nothing
	Text string     // what is wrong, a sentence without a full stop
}

// Unwrap gives the conflict.
func (u *Unplaced) Unwrap() error { return u.Conflict }

func (b *Builder) unplaceable(n *tree.Node, e packagejson.Edge, because string) error {
	text := fmt.Sprintf("%s: %s", Describe(n, e), because)
	return &Unplaced{Node: n, Edge: e, To: n.Get(e), Text: text, Conflict: solve.Refute(e.Name, text)}
}

// levels are the places for what n needs, from the highest down to n itself.
// They start below at, which hides everything above it.
func levels(n, at *tree.Node) []*tree.Node {
	var list []*tree.Node
	for level := n; level != nil; level = level.Above {
		if at != nil && at.Parent == level {
			break
		}
		list = append(list, level)
	}
	slices.Reverse(list)
	return list
}

// Users are the nodes that get n by an edge, with that edge. Nodes that only
// edges lead to which are not content do not count: they are about to go.
func (b *Builder) Users(n *tree.Node, each func(d *tree.Node, e packagejson.Edge) bool) {
	if b.reached == nil {
		b.reached = map[*tree.Node]bool{}
	}
	for _, d := range b.Tree.Dependents[n.Name] {
		if Gone(d) {
			continue
		}
		for _, e := range d.EdgeList {
			if e.Name == n.Name && d.Get(e) == n && b.inUse(d, map[*tree.Node]bool{}) && !each(d, e) {
				return
			}
		}
	}
}

// inUse tells whether edges that are content lead to n from a top. It goes back
// along the edges, since that is a short way mostly; tried are nodes that it has
// come by.
func (b *Builder) inUse(n *tree.Node, tried map[*tree.Node]bool) bool {
	if b.reached[n] {
		return true
	}
	if n == b.Tree.Root || n.Member || Gone(n) {
		return !Gone(n)
	}
	if tried[n] {
		return false
	}
	tried[n] = true
	used := n.InBundle && n.Parent != nil && b.inUse(n.Parent, tried)
	for _, d := range b.Tree.Dependents[n.Name] {
		if used {
			break
		}
		for _, e := range d.EdgeList {
			if e.Name == n.Name && tree.Keeps(e) && d.Get(e) == n && tree.Meets(e, n) && b.inUse(d, tried) {
				used = true
				break
			}
		}
	}
	if !used && n.IsTop() {
		used = b.linkInUse(n, tried)
	}
	if used {
		b.reached[n] = true
	}
	return used
}

// linkInUse tells whether a link leads to a top that is no member.
func (b *Builder) linkInUse(top *tree.Node, tried map[*tree.Node]bool) (used bool) {
	b.Tree.Walk(func(k *tree.Node) {
		used = used || k.LinkTo == top && b.inUse(k, tried)
	})
	return used
}

// replace puts another release in the place of at if it suits n and all who
// use at now.
func (b *Builder) replace(at *tree.Node, p *registry.Package, n *tree.Node, e packagejson.Edge) bool {
	if at.Pinned || at.LinkTo != nil || at.InBundle || at.Package != p.Name || b.replaced[at.Loc] >= maxReplaced {
		return false
	}
	specs := []packagejson.Spec{e.Spec}
	suits := true
	b.Users(at, func(d *tree.Node, de packagejson.Edge) bool {
		if de.Spec.Kind > packagejson.SpecTag || de.Spec.Name != p.Name {
			suits = false
		}
		specs = append(specs, de.Spec)
		return suits
	})
	if !suits {
		return false
	}
	rel := b.pick(p, specs...)
	if rel == nil || rel.Text == at.Version {
		return false
	}
	if !b.peersMet(rel, at.Parent, n.KidScope(e)) {
		return false
	}
	b.Become(at, rel, n.KidScope(e))
	b.replaced[at.Loc]++
	return true
}

// maxReplaced is how often a place may change hands; from then on whoever is
// not content has to look further down.
const maxReplaced = 20

// peersMet tells whether all peers that a release must meet are there already
// for something placed in level. Optional peers are seen to in the end.
func (b *Builder) peersMet(rel *registry.Release, level *tree.Node, in packagejson.Scope) bool {
	for _, e := range tree.BodyEdges(rel.Manifest(), in) {
		if e.Kind == packagejson.Peer && !tree.Meets(e, level.Resolve(e.Name)) {
			return false
		}
	}
	return true
}

// meetsWrong tells whether a release placed in level would meet, as an optional
// peer, another version than it can do with, which has to stay there. Further down
// there may be the right one.
func meetsWrong(rel *registry.Release, level *tree.Node, in packagejson.Scope) bool {
	for _, e := range tree.BodyEdges(rel.Manifest(), in) {
		at := level.Resolve(e.Name)
		if e.Kind == packagejson.PeerOptional && at != nil && (at.Pinned || at.LinkTo != nil) && !tree.Meets(e, at) {
			return true
		}
	}
	return false
}

// placeSet places a package in level together with the peers that it wants to
// meet there; it does nothing and says false if they cannot meet. With a nil
// release the solver chooses one.
func (b *Builder) placeSet(level, n *tree.Node, e packagejson.Edge, p *registry.Package, rel *registry.Release) bool {
	if level != n && b.evicted[tree.KidLoc(level, e.Name)] >= maxReturns {
		return false
	}
	in := n.KidScope(e)
	if level != n && rel != nil && meetsWrong(rel, level, in) {
		return false
	}
	set := map[string]*registry.Release{e.Name: rel}
	if rel == nil || !b.Registry.Settings.On("legacy-peer-deps") && len(rel.Manifest().Peers) > 0 && !b.peersMet(rel, level, in) {
		var err error
		if set, err = b.meet(level, e, p, rel, in); err != nil {
			return false
		}
	}
	for name, r := range set {
		// What n needs itself it gets, if not higher then here; whoever is
		// hidden by that can have a copy further down.
		if !(level == n && name == e.Name) && !b.hidesNothing(level, name, r) {
			return false
		}
	}
	for _, name := range packagejson.Collated(set) {
		b.Become(b.Tree.Add(level, name), set[name], in)
	}
	return true
}

// hidesNothing tells whether a release placed in level under a name leaves
// everyone content who now looks past level for that name.
func (b *Builder) hidesNothing(level *tree.Node, name string, rel *registry.Release) bool {
	probe := &tree.Node{Name: name, Package: rel.Pkg.Name, Version: rel.Text}
	for _, e := range level.EdgeList {
		// What level itself is still to get can go nowhere else.
		if e.Name == name && !e.Kind.IsPeer() && !tree.Meets(e, probe) {
			return false
		}
	}
	above := level.Resolve(name)
	if above == nil {
		// Those who are content with nothing may not be with this.
		return !slices.ContainsFunc(b.Tree.Dependents[name], func(d *tree.Node) bool {
			return !Gone(d) && slices.ContainsFunc(d.EdgeList, func(e packagejson.Edge) bool {
				return e.Name == name && e.Kind == packagejson.PeerOptional && below(d, level) && !tree.Meets(e, probe)
			})
		})
	}
	content := true
	b.Users(above, func(d *tree.Node, e packagejson.Edge) bool {
		// What was chosen for a top is not hidden from it by another version.
		chosen := d.IsTop() && above.Pinned && above.Version != probe.Version
		if below(d, level) && (chosen || !tree.Meets(e, probe)) {
			content = false
		}
		return content
	})
	return content
}

// below tells whether d looks in level for what it depends on.
func below(d, level *tree.Node) bool {
	for ; d != nil; d = d.Above {
		if d == level {
			return true
		}
	}
	return false
}

// Describe says what a node needs, for errors.
func Describe(n *tree.Node, e packagejson.Edge) string {
	where := n.Package
	if n.Version != "" {
		where += " " + n.Version
	}
	if n.IsTop() {
		where = strings.TrimSuffix(n.Loc+"/package.json", "/")
	}
	return fmt.Sprintf("%s needs %s %s", where, e.Name, packagejson.Shown(e.Spec.Text))
}

var errUnsettled = errors.New("the tree does not settle; please report this with the manifest and the lock")
