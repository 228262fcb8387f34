package npm

import (
	"errors"
	"fmt"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
)

// build makes the tree true to what was solved: first what the tops asked
// for, then everything that misses or no longer meets.
func (s *resolver) build() error {
	for _, w := range s.wishes {
		if w.rel != nil {
			s.placeWish(w)
		}
	}
	s.t.walk(s.enqueue)
	for rounds := 0; len(s.queue)+len(s.peers) > 0; rounds++ {
		if err := s.ctx.Err(); err != nil {
			return err
		}
		if rounds > maxRounds {
			return errUnsettled
		}
		// Peers are looked at once everything else is in its place.
		list, peers := &s.queue, false
		if len(s.queue) == 0 {
			list, peers = &s.peers, true
		}
		n := (*list)[0]
		*list = (*list)[1:]
		if !peers {
			s.queued[n] = false
			s.peers = append(s.peers, n)
		}
		if err := s.settle(n, peers); err != nil {
			return err
		}
	}
	s.t.prune()
	return s.checkAll()
}

// maxRounds bounds how often nodes are looked at, so that a fault in here ends
// in an error and not never.
const maxRounds = 1_000_000

// maxDepth bounds how deep folders are nested. Two packages that need each
// other in alternating versions would nest without end.
const maxDepth = 60

// settle provides what n misses: its peers, or everything else.
func (s *resolver) settle(n *node, peers bool) error {
	for _, e := range slices.Clone(n.edgeList) {
		if n.gone() {
			return nil
		}
		if peers != (e.kind.peer() && !n.isTop()) {
			continue
		}
		to := n.get(e)
		if meets(e, to) && !(to == nil && e.kind == optionalEdge) {
			continue
		}
		if err := s.provide(n, e); err != nil {
			return err
		}
	}
	return nil
}

// gone tells whether n was taken out of the tree.
func (n *node) gone() bool {
	return n.parent != nil && (n.parent.kids[n.name] != n || n.parent.gone())
}

func (s *resolver) enqueue(n *node) {
	if !s.queued[n] {
		s.queued[n] = true
		s.queue = append(s.queue, n)
	}
}

// changed puts on the list all whom the node of that name may concern.
func (s *resolver) changed(n *node) {
	s.reached = nil
	s.enqueue(n)
	for _, d := range s.t.dependents[n.name] {
		s.enqueue(d)
	}
}

// become makes n a release. What is below it stays for as long as something
// needs it.
func (s *resolver) become(n *node, rel *release, in scope) {
	n.pkgName, n.version, n.body, n.from = rel.pkg.name, rel.text, rel.body(), rel
	n.resolved, n.integrity, n.deprecate = rel.tarball(), rel.Integrity, rel.Deprecated
	n.entry, n.inBundle, n.scope = nil, false, in
	s.t.setEdges(n, bodyEdges(n.body, in))
	s.changed(n)
}

func (s *resolver) placeWish(w *wish) {
	level := w.tops[0]
	if at := level.resolve(w.name); at != nil && at.linkTo == nil && at.pkgName == w.pkg.name && at.version == w.rel.text {
		at.pinned = true
		return
	}
	// A member's dependency goes up to the root if the place is free there.
	if level != s.t.root && s.t.root.kids[w.name] == nil && s.byKey[wishKey{s.t.root, w.name}] == nil {
		level = s.t.root
	}
	n := level.kids[w.name]
	if n == nil {
		n = s.t.add(level, w.name)
	}
	s.become(n, w.rel, w.tops[0].kidScope(edge{name: w.name}))
	n.pinned = true
}

// provide finds a place for what n misses.
func (s *resolver) provide(n *node, e edge) error {
	if e.kind.peer() && !n.isTop() {
		return s.providePeer(n, e)
	}
	switch {
	case n.depth() > maxDepth:
		return s.unplaceable(n, e, "these packages need each other in a circle of versions that does not close")
	case slices.Contains(bundledOf(n), e.name):
		return nil // it comes inside the package's archive
	case e.spec.kind > specTag && e.kind == optionalEdge:
		return nil
	case e.spec.kind > specTag:
		return s.unplaceable(n, e, fmt.Sprintf("it is a %s, which only npm can fetch", fixedBecause[e.spec.kind]))
	}
	p, err := s.reg.pkg(s.ctx, e.spec.name)
	if err != nil {
		if e.kind == optionalEdge && isAbsent(err) {
			return nil
		}
		return fmt.Errorf("%s: %w", describe(n, e), err)
	}
	at := n.get(e)
	if at != nil && s.replace(at, p, n, e) {
		return nil
	}
	best := s.pick(p, e.spec)
	if best == nil {
		if e.kind == optionalEdge {
			return nil
		}
		return s.unplaceable(n, e, "no release is in this range")
	}
	for _, level := range levels(n, at) {
		if level.kids[e.name] == nil && s.placeSet(level, n, e, p, best) {
			return nil
		}
	}
	if own := n.kids[e.name]; own != nil && own.linkTo == nil && !own.pinned && !own.inBundle && s.peersMet(best, n) {
		// Who is below n and got it from there can have a copy further down.
		s.become(own, best, n.kidScope(e))
		return nil
	}
	// The best does not fit anywhere; let the solver look for one that does.
	if level := n; level.kids[e.name] == nil && s.placeSet(level, n, e, p, nil) {
		return nil
	}
	if e.kind == optionalEdge {
		return nil
	}
	return s.unplaceable(n, e, "no release of it meets the peers it wants there")
}

func bundledOf(n *node) []string {
	if n.body == nil || n.isTop() {
		return nil
	}
	return n.body.Bundled
}

func (s *resolver) unplaceable(n *node, e edge, because string) error {
	return &model.Fault{
		Doing: "resolving " + s.p.root.file, Wrong: fmt.Sprintf("%s: %s", describe(n, e), because),
		Next: fmt.Sprintf("bellwether explain %s shows who asks for it", e.name), Found: true,
	}
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
func (s *resolver) users(n *node, each func(d *node, e edge) bool) {
	if s.reached == nil {
		s.reached = s.t.reach(func(from *node, e edge) bool { return keeps(e) && meets(e, from.get(e)) })
	}
	for _, d := range s.t.dependents[n.name] {
		if d.gone() || !s.reached[d] {
			continue
		}
		for _, e := range d.edgeList {
			if e.name == n.name && d.get(e) == n && !each(d, e) {
				return
			}
		}
	}
}

// pick is the best release for which all specs hold and that has no hole; if
// all have one, the best of them.
func (s *resolver) pick(p *pkg, specs ...spec) *release {
	holed := map[*release]bool{}
	for {
		rel := s.reg.pickWhere(p, func(r *release) bool { return !holed[r] }, specs)
		if rel == nil {
			return s.reg.pick(p, specs...)
		}
		hole := s.hole(rel)
		if hole == "" {
			return rel
		}
		holed[rel] = true
	}
}

// hole is registry.hole, remembered for the notices.
func (s *resolver) hole(rel *release) string {
	h, known := s.holes[rel]
	if !known {
		h = s.reg.hole(s.ctx, rel)
		s.holes[rel] = h
	}
	return h
}

// holeNotices tell which releases were passed over for a hole, package by
// package.
func (s *resolver) holeNotices() []string {
	byName := map[string][]*release{}
	for rel, hole := range s.holes {
		if hole != "" {
			byName[rel.pkg.name] = append(byName[rel.pkg.name], rel)
		}
	}
	var notices []string
	for _, name := range collated(byName) {
		rels := byName[name]
		slices.SortFunc(rels, func(a, b *release) int { return a.index - b.index })
		which := solve.Runs(rels[0].pkg.versions, func(i int) bool {
			return slices.ContainsFunc(rels, func(r *release) bool { return r.index == i })
		})
		last := rels[len(rels)-1]
		notices = append(notices, fmt.Sprintf("%s %s passed over: %s wants %s for one platform, which was never published", name, which, last.text, s.holes[last]))
	}
	return notices
}

// replace puts another release in the place of at if it suits n and all who
// use at now.
func (s *resolver) replace(at *node, p *pkg, n *node, e edge) bool {
	if at.pinned || at.linkTo != nil || at.inBundle || at.pkgName != p.name || s.replaced[at.loc] >= maxReplaced {
		return false
	}
	specs := []spec{e.spec}
	suits := true
	s.users(at, func(d *node, de edge) bool {
		if de.spec.kind > specTag || de.spec.name != p.name {
			suits = false
		}
		specs = append(specs, de.spec)
		return suits
	})
	if !suits {
		return false
	}
	rel := s.pick(p, specs...)
	if rel == nil || rel.text == at.version {
		return false
	}
	if !s.peersMet(rel, at.parent) {
		return false
	}
	s.become(at, rel, n.kidScope(e))
	s.replaced[at.loc]++
	return true
}

// maxReplaced is how often a place may change hands; from then on whoever is
// not content has to look further down.
const maxReplaced = 20

// peersMet tells whether all peers that a release wants are there already for
// something placed in level.
func (s *resolver) peersMet(rel *release, level *node) bool {
	for _, e := range bodyEdges(rel.body(), nil) {
		if e.kind.peer() && !meets(e, level.resolve(e.name)) {
			return false
		}
	}
	return true
}

// placeSet places a package in level together with the peers that it wants to
// meet there; it does nothing and says false if they cannot meet. With a nil
// release the solver chooses one.
func (s *resolver) placeSet(level, n *node, e edge, p *pkg, rel *release) bool {
	if level != n && s.evicted[kidLoc(level, e.name)] >= maxReturns {
		return false
	}
	set := map[string]*release{e.name: rel}
	if rel == nil || !s.reg.settings.on("legacy-peer-deps") && len(rel.body().Peers) > 0 && !s.peersMet(rel, level) {
		var err error
		if set, err = s.meet(level, e, p, rel); err != nil {
			return false
		}
	}
	for name, r := range set {
		// What n needs itself it gets, if not higher then here; whoever is
		// hidden by that can have a copy further down.
		if !(level == n && name == e.name) && !s.hidesNothing(level, name, r) {
			return false
		}
	}
	for _, name := range collated(set) {
		s.become(s.t.add(level, name), set[name], n.kidScope(e))
	}
	return true
}

// hidesNothing tells whether a release placed in level under a name leaves
// everyone content who now looks past level for that name.
func (s *resolver) hidesNothing(level *node, name string, rel *release) bool {
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
		return !slices.ContainsFunc(s.t.dependents[name], func(d *node) bool {
			return !d.gone() && slices.ContainsFunc(d.edgeList, func(e edge) bool {
				return e.name == name && e.kind == peerOptionalEdge && below(d, level, e) && !meets(e, probe)
			})
		})
	}
	content := true
	s.users(above, func(d *node, e edge) bool {
		if below(d, level, e) && !meets(e, probe) {
			content = false
		}
		return content
	})
	return content
}

// below tells whether d looks in level for what e names.
func below(d, level *node, e edge) bool {
	if e.kind.peer() && !d.isTop() {
		d = d.above
	}
	for ; d != nil; d = d.above {
		if d == level {
			return true
		}
	}
	return false
}

// meet solves the small problem of a package in level and its peers: those
// that are in level stay, others may be placed there too. It gives what is to
// be placed.
func (s *resolver) meet(level *node, e edge, p *pkg, rel *release) (map[string]*release, error) {
	problem := &solve.Problem{}
	var wishes []*wish
	byName := map[string]*wish{}
	add := func(name string, p *pkg, at *node) *wish {
		w := &wish{name: name, pkg: p, id: problem.Subject(name, p.versions)}
		wishes = append(wishes, w)
		byName[name] = w
		prefer := make([]int, 0, len(p.releases))
		if at != nil {
			if r := p.find(at.version); r != nil {
				prefer = append(prefer, r.index)
			}
		}
		if r := s.reg.pick(p, spec{kind: specRange, rng: everything, text: "*"}); r != nil {
			prefer = append(prefer, r.index)
		}
		problem.Prefer(w.id, prefer)
		return w
	}
	stated := func() string { return describe(level, e) }
	first := add(e.name, p, nil)
	ok := p.satisfying(e.spec)
	problem.Require(first.id, problem.Pick(first.id, func(i int) bool { return ok[i] && (rel == nil || rel.index == i) }), stated)
	problem.Expand = func(id solve.ID, candidate int) error {
		w := wishes[id]
		for _, pe := range bodyEdges(w.pkg.releases[candidate].body(), nil) {
			if pe.kind != peerEdge {
				continue // optional peers bring nothing in
			}
			at := level.resolve(pe.name)
			peer := byName[pe.name]
			if peer == nil {
				if at != nil && at.linkTo != nil || pe.spec.kind > specTag {
					if !meets(pe, at) {
						return errors.New("a linked peer does not meet")
					}
					continue
				}
				pp, err := s.packageWith(pe.spec.name, at, model.Site{File: w.name})
				if err != nil {
					return err
				}
				peer = add(pe.name, pp, at)
				if at != nil && at.parent == level {
					problem.Require(peer.id, problem.Pick(peer.id, func(i int) bool { return pp.releases[i].text == at.version }), stated)
				}
			}
			ok := peer.pkg.satisfying(pe.spec)
			problem.Imply(w.id, problem.Pick(w.id, func(i int) bool { return i == candidate }), peer.id,
				problem.Pick(peer.id, func(i int) bool { return ok[i] }), stated)
		}
		return nil
	}
	solution, err := problem.Solve(s.ctx)
	if err != nil {
		return nil, err
	}
	set := map[string]*release{}
	for id, candidate := range solution {
		if candidate < 0 {
			continue
		}
		w := wishes[id]
		r := w.pkg.releases[candidate]
		if at := level.resolve(w.name); at != nil && w != first && at.version == r.text {
			continue
		}
		set[w.name] = r
	}
	return set, nil
}

// providePeer mends a peer that no longer meets: by another release in the
// peer's place, by placing it, or by placing n anew, deeper.
func (s *resolver) providePeer(n *node, e edge) error {
	if s.reg.settings.on("legacy-peer-deps") || e.spec.kind > specTag {
		return nil
	}
	at := n.get(e)
	p, err := s.reg.pkg(s.ctx, e.spec.name)
	if err != nil {
		return fmt.Errorf("%s: %w", describe(n, e), err)
	}
	if at != nil && s.replace(at, p, n, e) {
		return nil
	}
	level := n.parent
	if best := s.pick(p, e.spec); best != nil && level.kids[e.name] == nil && s.placeSet(level, level, edge{e.name, prodEdge, e.spec}, p, best) {
		return nil
	}
	if e.kind == peerOptionalEdge {
		asFound := at != nil && n.entry != nil && at.entry != nil
		if at == nil || asFound || at.pinned || at.inBundle || at.linkTo != nil || s.evicted[at.loc] >= maxReturns {
			return nil // said in the end, if nothing else mends it
		}
		// It is rather without than with the wrong one: those who need that
		// get it further down.
		return s.evict(at, n, e)
	}
	if n.pinned || n.inBundle {
		return s.unplaceable(n, e, fmt.Sprintf("%s has %s", atPlace(at), versionOf(at)))
	}
	return s.evict(n, n, e)
}

// maxReturns is how often a node may come back to a place that it was taken
// out of; from then on it has to go further down, and where it cannot,
// maxEvictions is the end of trying.
const (
	maxReturns   = 3
	maxEvictions = 20
)

// evict takes a node out, so that those who need it place it again, elsewhere
// or with its peers. n and e are what it is done for.
func (s *resolver) evict(out, n *node, e edge) error {
	s.t.remove(out)
	s.reached = nil
	s.evicted[out.loc]++
	for _, d := range s.t.dependents[out.name] {
		s.enqueue(d)
	}
	if s.evicted[out.loc] > maxEvictions {
		return s.unplaceable(n, e, "no place was found where it meets its peers")
	}
	return nil
}

func atPlace(n *node) string {
	if n == nil {
		return "its place"
	}
	return n.loc
}

func versionOf(n *node) string {
	if n == nil {
		return "nothing"
	}
	return n.target().version
}

// checkAll sees that every edge of the finished tree is content.
func (s *resolver) checkAll() error {
	if s.reg.settings.on("legacy-peer-deps") {
		return nil
	}
	var faults []error
	s.t.walk(func(n *node) {
		for _, e := range n.edgeList {
			to := n.get(e)
			if meets(e, to) || slices.Contains(bundledOf(n), e.name) {
				continue
			}
			if e.kind == peerOptionalEdge {
				s.notices = append(s.notices, fmt.Sprintf("%s as an optional peer, but gets %s", describe(n, e), versionOf(to)))
				continue
			}
			faults = append(faults, s.unplaceable(n, e, fmt.Sprintf("%s has %s", atPlace(to), versionOf(to))))
		}
	})
	return errors.Join(faults...)
}
