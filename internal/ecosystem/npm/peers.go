package npm

import (
	"errors"
	"fmt"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
)

// meet solves the small problem of a package in level and its peers: those
// that are in level stay, others may be placed there too. It gives what is to
// be placed.
func (b *builder) meet(level *node, e edge, p *pkg, rel *release, in scope) (map[string]*release, error) {
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
		if r := b.reg.pick(p, spec{kind: specRange, rng: everything, text: "*"}); r != nil {
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
		for _, pe := range bodyEdges(w.pkg.releases[candidate].body(), in) {
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
				pp, err := b.packageWith(pe.spec.name, at, model.Site{File: w.name})
				if err != nil {
					return err
				}
				peer = add(pe.name, pp, at)
				if specs := b.lookingPast(level, at, pe.name); len(specs) > 0 {
					problem.Require(peer.id, problem.Pick(peer.id, func(i int) bool {
						stays := at != nil && pp.releases[i].text == at.version
						return stays || !slices.ContainsFunc(specs, func(s spec) bool { return !pp.satisfying(s)[i] })
					}), stated)
				}
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
	solution, err := problem.Solve(b.ctx)
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

// lookingPast are what those ask for who get at under a name, and would get what is
// placed in level instead.
func (b *builder) lookingPast(level, at *node, name string) (specs []spec) {
	if at == nil || at.parent == level {
		return nil
	}
	b.users(at, func(d *node, e edge) bool {
		if below(d, level) && e.spec.kind <= specTag {
			specs = append(specs, e.spec)
		}
		return true
	})
	return specs
}

// providePeer mends a peer that no longer meets: by another release in the
// peer's place, by placing it, or by placing n anew, deeper.
func (b *builder) providePeer(n *node, e edge) error {
	if b.reg.settings.on("legacy-peer-deps") || e.spec.kind > specTag {
		return nil
	}
	at := n.get(e)
	if b.asFound(n, at) {
		n.forced = n.forced || e.kind == peerEdge // said in the end
		return nil
	}
	p, err := b.reg.pkg(b.ctx, e.spec.name)
	switch {
	case isAbsent(err) && e.kind == peerOptionalEdge:
		return nil
	case isAbsent(err):
		return b.unplaceable(n, e, "the registry does not know it")
	case err != nil:
		return fmt.Errorf("%s: %w", describe(n, e), err)
	}
	if at != nil && b.replace(at, p, n, e) {
		return nil
	}
	level := n.parent
	if best := b.pick(p, e.spec); best != nil && level.kids[e.name] == nil &&
		b.placeSet(level, level, edge{e.name, prodEdge, e.spec}, p, best) {
		return nil
	}
	if e.kind == peerOptionalEdge {
		if at == nil || at.pinned || at.inBundle || at.linkTo != nil || b.evicted[at.loc] >= maxReturns {
			return nil // said in the end, if nothing else mends it
		}
		// It is rather without than with the wrong one: those who need that
		// get it further down.
		b.evict(at)
		return nil
	}
	switch {
	case n.pinned:
		return b.unplaceable(n, e, fmt.Sprintf("%s has %s", atPlace(at), versionOf(at)))
	case n.inBundle, b.evicted[n.loc] >= maxEvictions:
		n.forced = true // said in the end
		return nil
	}
	b.evict(n)
	return nil
}

// asFound tells whether a node, and what it gets for a peer, are as the lock has
// them, for which the manifests are as they were.
func (b *builder) asFound(n, peer *node) bool {
	return !b.rewritten && n.entry != nil && peer != nil && peer.entry != nil
}

// maxReturns is how often a node may come back to a place that it was taken
// out of; from then on it has to go further down, and where it cannot,
// maxEvictions is the end of trying.
const (
	maxReturns   = 3
	maxEvictions = 20
)

// evict takes a node out, so that those who need it place it again, elsewhere
// or with its peers.
func (b *builder) evict(out *node) {
	b.t.remove(out)
	b.reached = nil
	b.evicted[out.loc]++
	for _, d := range b.t.dependents[out.name] {
		b.enqueue(d)
	}
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
