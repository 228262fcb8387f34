package npm

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/solve"
)

// builder puts packages into a tree by npm's rule: as high as they can be,
// nested where ranges differ, a package and its peers where they meet.
type builder struct {
	ctx     context.Context
	reg     *registry
	t       *tree
	file    string // the root manifest, for errors
	queue   []*node
	queued  map[*node]bool
	peers   []*node        // whose peers are still to be looked at
	reached map[*node]bool // what is known to be in use at present
	holes   map[*release]string
	avoid   func(name, version string) bool // what is not to be taken where there is something else; nil for nothing
	all     bool                            // copies that nobody needs go, even those of the lock
	notices []string
	// What is to be known of the tree, and held of the lock that was found.
	asBefore []string
	// The manifests are not as they were when the lock was written.
	rewritten bool
	// How often providing for a node was put off.
	deferred map[*node]int
	// How often what was at a location was taken out, and replaced.
	evicted, replaced map[string]int
}

func newBuilder(ctx context.Context, reg *registry, t *tree, file string) *builder {
	return &builder{
		ctx: ctx, reg: reg, t: t, file: file,
		queued: map[*node]bool{}, deferred: map[*node]int{}, holes: map[*release]string{}, evicted: map[string]int{}, replaced: map[string]int{},
	}
}

// build provides everything that some node of the tree misses or is not
// content with, and takes out what nobody needs any more.
func (b *builder) build() error {
	b.t.walk(b.enqueue)
	for rounds := 0; len(b.queue)+len(b.peers) > 0; rounds++ {
		if err := b.ctx.Err(); err != nil {
			return err
		}
		if rounds > maxRounds {
			return errUnsettled
		}
		// Peers are looked at once everything else is in its place.
		list, peers := &b.queue, false
		if len(b.queue) == 0 {
			list, peers = &b.peers, true
		}
		n := (*list)[0]
		*list = (*list)[1:]
		if !peers {
			b.queued[n] = false
			b.peers = append(b.peers, n)
		}
		if err := b.settle(n, peers); err != nil {
			return err
		}
	}
	b.t.prune()
	if b.dedupe(b.all) {
		b.t.prune()
	}
	return b.checkAll()
}

// maxRounds bounds how often nodes are looked at, so that a fault in here ends
// in an error and not never.
const maxRounds = 1_000_000

// maxDepth bounds how deep folders are nested. Two packages that need each
// other in alternating versions would nest without end.
const maxDepth = 60

// maxDeferred is how often providing for a node is put off until others have
// found their places.
const maxDeferred = 3

// settle provides what n misses: its peers, or everything else.
func (b *builder) settle(n *node, peers bool) error {
	later := false
	if err := b.unpack(n); err != nil {
		return err
	}
	for _, e := range slices.Clone(n.edgeList) {
		if n.gone() {
			return nil
		}
		if peers != (e.kind.peer() && !n.isTop()) || n.forced && e.kind.peer() {
			continue
		}
		to := n.get(e)
		if meets(e, to) && !(to == nil && e.kind == optionalEdge) || n.packedWith(to) {
			continue
		}
		err := b.provide(n, e)
		switch {
		case errors.As(err, new(*unplaced)) && b.deferred[n] < maxDeferred:
			// What is in the way may be about to go itself.
			b.deferred[n]++
			later = true
		case err != nil:
			return err
		}
	}
	if later {
		b.enqueue(n)
	}
	return nil
}

// packedWith tells whether n and another came in one archive, whose packages are as
// they are.
func (n *node) packedWith(to *node) bool { return to != nil && n.inBundle && to.inBundle }

// gone tells whether n was taken out of the tree.
func (n *node) gone() bool {
	return n.parent != nil && (n.parent.kids[n.name] != n || n.parent.gone())
}

func (b *builder) enqueue(n *node) {
	if !b.queued[n] {
		b.queued[n] = true
		b.queue = append(b.queue, n)
	}
}

// changed puts on the list all whom the node of that name may concern.
func (b *builder) changed(n *node) {
	b.reached = nil
	b.enqueue(n)
	for _, d := range b.t.dependents[n.name] {
		b.enqueue(d)
	}
}

// become makes n a release. What is below it stays for as long as something
// needs it.
func (b *builder) become(n *node, rel *release, in scope) {
	n.pkgName, n.version, n.body, n.from = rel.pkg.name, rel.text, rel.body(), rel
	n.resolved, n.integrity, n.deprecate = rel.tarball(), rel.Integrity, rel.Deprecated
	n.entry, n.inBundle, n.unpacked, n.scope = nil, false, false, in
	edges := bodyEdges(n.body, in)
	for _, k := range n.kids {
		// A peer is to be beside n; one below, from before, would hide that.
		if k.inBundle || slices.ContainsFunc(edges, func(e edge) bool { return e.name == k.name && e.kind.peer() }) {
			b.t.remove(k)
		}
	}
	b.t.setEdges(n, edges)
	b.changed(n)
}

// provide finds a place for what n misses.
func (b *builder) provide(n *node, e edge) error {
	if e.kind.peer() && !n.isTop() {
		return b.providePeer(n, e)
	}
	switch {
	case n.depth() > maxDepth:
		return b.unplaceable(n, e, "these packages need each other in a circle of versions that does not close")
	case slices.Contains(bundledOf(n), e.name) && !n.unpacked:
		return nil // it came inside the package's archive when it was locked
	case e.spec.kind > specTag && e.kind == optionalEdge:
		return nil
	case e.spec.kind > specTag:
		return b.unplaceable(n, e, fmt.Sprintf("it is a %s, which only npm can fetch", fixedBecause[e.spec.kind]))
	}
	p, err := b.reg.pkg(b.ctx, e.spec.name)
	switch {
	case isAbsent(err) && e.kind == optionalEdge:
		return nil
	case isAbsent(err):
		return b.unplaceable(n, e, "the registry does not know it")
	case err != nil:
		return fmt.Errorf("%s: %w", describe(n, e), err)
	}
	at := n.get(e)
	if at != nil && b.replace(at, p, n, e) {
		return nil
	}
	best := b.pick(p, e.spec)
	if best == nil {
		if e.kind == optionalEdge {
			return nil
		}
		return b.unplaceable(n, e, "no release is in this range")
	}
	for _, level := range levels(n, at) {
		if level.kids[e.name] == nil && b.placeSet(level, n, e, p, best) {
			return nil
		}
	}
	if own := n.kids[e.name]; own != nil && own.linkTo == nil && !own.pinned && !own.inBundle && b.peersMet(best, n, n.kidScope(e)) {
		// Who is below n and got it from there can have a copy further down.
		b.become(own, best, n.kidScope(e))
		return nil
	}
	// The best does not fit anywhere; let the solver look for one that does.
	if level := n; level.kids[e.name] == nil && b.placeSet(level, n, e, p, nil) {
		return nil
	}
	if e.kind == optionalEdge {
		return nil
	}
	own := n.kids[e.name]
	if n.isTop() || own != nil && (own.linkTo != nil || own.pinned || own.inBundle) {
		return b.unplaceable(n, e, "no release of it meets the peers it wants there")
	}
	// Below the requirements packages contradict themselves; as npm does, what is
	// wanted is taken, with a warning.
	if own == nil {
		own = b.t.add(n, e.name)
	}
	own.forced = true
	b.become(own, best, n.kidScope(e))
	return nil
}

func bundledOf(n *node) []string {
	if n.body == nil || n.isTop() {
		return nil
	}
	return n.body.Bundled
}

// unplaced is the error of a node that cannot have what it needs.
type unplaced struct {
	*solve.Conflict
	n    *node
	e    edge
	to   *node  // what it gets instead; nil for nothing
	text string // what is wrong, a sentence without a full stop
}

// Unwrap gives the conflict.
func (u *unplaced) Unwrap() error { return u.Conflict }

func (b *builder) unplaceable(n *node, e edge, because string) error {
	text := fmt.Sprintf("%s: %s", describe(n, e), because)
	return &unplaced{n: n, e: e, to: n.get(e), text: text, Conflict: solve.Refute(e.name, text)}
}

// levels are the places for what n needs, from the highest down to n itself.
// They start below at, which hides everything above it.
func levels(n, at *node) []*node {
	var list []*node
	for level := n; level != nil; level = level.above {
		if at != nil && at.parent == level {
			break
		}
		list = append(list, level)
	}
	slices.Reverse(list)
	return list
}

// users are the nodes that get n by an edge, with that edge. Nodes that only
// edges lead to which are not content do not count: they are about to go.
func (b *builder) users(n *node, each func(d *node, e edge) bool) {
	if b.reached == nil {
		b.reached = map[*node]bool{}
	}
	for _, d := range b.t.dependents[n.name] {
		if d.gone() {
			continue
		}
		for _, e := range d.edgeList {
			if e.name == n.name && d.get(e) == n && b.inUse(d, map[*node]bool{}) && !each(d, e) {
				return
			}
		}
	}
}

// inUse tells whether edges that are content lead to n from a top. It goes back
// along the edges, since that is a short way mostly; tried are nodes that it has
// come by.
func (b *builder) inUse(n *node, tried map[*node]bool) bool {
	if b.reached[n] {
		return true
	}
	if n == b.t.root || n.member || n.gone() {
		return !n.gone()
	}
	if tried[n] {
		return false
	}
	tried[n] = true
	used := n.inBundle && n.parent != nil && b.inUse(n.parent, tried)
	for _, d := range b.t.dependents[n.name] {
		if used {
			break
		}
		for _, e := range d.edgeList {
			if e.name == n.name && keeps(e) && d.get(e) == n && meets(e, n) && b.inUse(d, tried) {
				used = true
				break
			}
		}
	}
	if !used && n.isTop() {
		used = b.linkInUse(n, tried)
	}
	if used {
		b.reached[n] = true
	}
	return used
}

// linkInUse tells whether a link leads to a top that is no member.
func (b *builder) linkInUse(top *node, tried map[*node]bool) (used bool) {
	b.t.walk(func(k *node) {
		used = used || k.linkTo == top && b.inUse(k, tried)
	})
	return used
}

// replace puts another release in the place of at if it suits n and all who
// use at now.
func (b *builder) replace(at *node, p *pkg, n *node, e edge) bool {
	if at.pinned || at.linkTo != nil || at.inBundle || at.pkgName != p.name || b.replaced[at.loc] >= maxReplaced {
		return false
	}
	specs := []spec{e.spec}
	suits := true
	b.users(at, func(d *node, de edge) bool {
		if de.spec.kind > specTag || de.spec.name != p.name {
			suits = false
		}
		specs = append(specs, de.spec)
		return suits
	})
	if !suits {
		return false
	}
	rel := b.pick(p, specs...)
	if rel == nil || rel.text == at.version {
		return false
	}
	if !b.peersMet(rel, at.parent, n.kidScope(e)) {
		return false
	}
	b.become(at, rel, n.kidScope(e))
	b.replaced[at.loc]++
	return true
}

// maxReplaced is how often a place may change hands; from then on whoever is
// not content has to look further down.
const maxReplaced = 20

// peersMet tells whether all peers that a release must meet are there already
// for something placed in level. Optional peers are seen to in the end.
func (b *builder) peersMet(rel *release, level *node, in scope) bool {
	for _, e := range bodyEdges(rel.body(), in) {
		if e.kind == peerEdge && !meets(e, level.resolve(e.name)) {
			return false
		}
	}
	return true
}

// wronglyMet tells whether a release placed in level would meet, as an optional
// peer, another version than it can do with, which has to stay there. Further down
// there may be the right one.
func wronglyMet(rel *release, level *node, in scope) bool {
	for _, e := range bodyEdges(rel.body(), in) {
		at := level.resolve(e.name)
		if e.kind == peerOptionalEdge && at != nil && (at.pinned || at.linkTo != nil) && !meets(e, at) {
			return true
		}
	}
	return false
}

// placeSet places a package in level together with the peers that it wants to
// meet there; it does nothing and says false if they cannot meet. With a nil
// release the solver chooses one.
func (b *builder) placeSet(level, n *node, e edge, p *pkg, rel *release) bool {
	if level != n && b.evicted[kidLoc(level, e.name)] >= maxReturns {
		return false
	}
	in := n.kidScope(e)
	if level != n && rel != nil && wronglyMet(rel, level, in) {
		return false
	}
	set := map[string]*release{e.name: rel}
	if rel == nil || !b.reg.settings.on("legacy-peer-deps") && len(rel.body().Peers) > 0 && !b.peersMet(rel, level, in) {
		var err error
		if set, err = b.meet(level, e, p, rel, in); err != nil {
			return false
		}
	}
	for name, r := range set {
		// What n needs itself it gets, if not higher then here; whoever is
		// hidden by that can have a copy further down.
		if !(level == n && name == e.name) && !b.hidesNothing(level, name, r) {
			return false
		}
	}
	for _, name := range collated(set) {
		b.become(b.t.add(level, name), set[name], in)
	}
	return true
}

// hidesNothing tells whether a release placed in level under a name leaves
// everyone content who now looks past level for that name.
func (b *builder) hidesNothing(level *node, name string, rel *release) bool {
	probe := &node{name: name, pkgName: rel.pkg.name, version: rel.text}
	for _, e := range level.edgeList {
		// What level itself is still to get can go nowhere else.
		if e.name == name && !e.kind.peer() && !meets(e, probe) {
			return false
		}
	}
	above := level.resolve(name)
	if above == nil {
		// Those who are content with nothing may not be with this.
		return !slices.ContainsFunc(b.t.dependents[name], func(d *node) bool {
			return !d.gone() && slices.ContainsFunc(d.edgeList, func(e edge) bool {
				return e.name == name && e.kind == peerOptionalEdge && below(d, level) && !meets(e, probe)
			})
		})
	}
	content := true
	b.users(above, func(d *node, e edge) bool {
		// What was chosen for a top is not hidden from it by another version.
		chosen := d.isTop() && above.pinned && above.version != probe.version
		if below(d, level) && (chosen || !meets(e, probe)) {
			content = false
		}
		return content
	})
	return content
}

// below tells whether d looks in level for what it depends on.
func below(d, level *node) bool {
	for ; d != nil; d = d.above {
		if d == level {
			return true
		}
	}
	return false
}

// describe says what a node needs, for errors.
func describe(n *node, e edge) string {
	where := n.pkgName
	if n.version != "" {
		where += " " + n.version
	}
	if n.isTop() {
		where = strings.TrimSuffix(n.loc+"/package.json", "/")
	}
	return fmt.Sprintf("%s needs %s %s", where, e.name, shown(e.spec.text))
}

var errUnsettled = errors.New("the tree does not settle; please report this with the manifest and the lock")
