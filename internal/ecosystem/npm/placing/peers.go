package placing

import (
	"errors"
	"fmt"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/registry"
	"bellwether/internal/ecosystem/npm/tree"
)

// fitting is a package whose release is to be found so that all who meet fit together.
type fitting struct {
	id   solve.ID
	name string
	pkg  *registry.Package
}

// meet solves the small problem of a package in level and its peers: those
// that are in level stay, others may be placed there too. It gives what is to
// be placed.
func (b *Builder) meet(
	level *tree.Node, e packagejson.Edge, p *registry.Package, rel *registry.Release, in packagejson.Scope,
) (map[string]*registry.Release, error) {
	problem := &solve.Problem{}
	var wishes []*fitting
	byName := map[string]*fitting{}
	add := func(name string, p *registry.Package, at *tree.Node) *fitting {
		w := &fitting{name: name, pkg: p, id: problem.Subject(name, p.Versions)}
		wishes = append(wishes, w)
		byName[name] = w
		prefer := make([]int, 0, len(p.Releases))
		if at != nil {
			if r := p.Find(at.Version); r != nil {
				prefer = append(prefer, r.Index)
			}
		}
		if r := b.Registry.Pick(p, packagejson.Spec{Kind: packagejson.SpecRange, Range: packagejson.Everything, Text: "*"}); r != nil {
			prefer = append(prefer, r.Index)
		}
		problem.Prefer(w.id, prefer)
		return w
	}
	stated := func() string { return Describe(level, e) }
	first := add(e.Name, p, nil)
	ok := p.Satisfying(e.Spec)
	problem.Require(first.id, problem.Pick(first.id, func(i int) bool { return ok[i] && (rel == nil || rel.Index == i) }), stated)
	problem.Expand = func(id solve.ID, candidate int) error {
		w := wishes[id]
		for _, pe := range tree.BodyEdges(w.pkg.Releases[candidate].Manifest(), in) {
			if pe.Kind != packagejson.Peer {
				continue // optional peers bring nothing in
			}
			at := level.Resolve(pe.Name)
			peer := byName[pe.Name]
			if peer == nil {
				if at != nil && at.LinkTo != nil || pe.Spec.Kind > packagejson.SpecTag {
					if !tree.Meets(pe, at) {
						return errors.New("a linked peer does not meet")
					}
					continue
				}
				pp, err := b.PackageWith(pe.Spec.Name, at, model.Site{File: w.name})
				if err != nil {
					return err
				}
				peer = add(pe.Name, pp, at)
				if specs := b.lookingPast(level, at, pe.Name); len(specs) > 0 {
					problem.Require(peer.id, problem.Pick(peer.id, func(i int) bool {
						stays := at != nil && pp.Releases[i].Text == at.Version
						return stays || !slices.ContainsFunc(specs, func(s packagejson.Spec) bool { return !pp.Satisfying(s)[i] })
					}), stated)
				}
				if at != nil && at.Parent == level {
					problem.Require(peer.id, problem.Pick(peer.id, func(i int) bool { return pp.Releases[i].Text == at.Version }), stated)
				}
			}
			ok := peer.pkg.Satisfying(pe.Spec)
			problem.Imply(w.id, problem.Pick(w.id, func(i int) bool { return i == candidate }), peer.id,
				problem.Pick(peer.id, func(i int) bool { return ok[i] }), stated)
		}
		return nil
	}
	solution, err := problem.Solve(b.Ctx)
	if err != nil {
		return nil, err
	}
	set := map[string]*registry.Release{}
	for id, candidate := range solution {
		if candidate < 0 {
			continue
		}
		w := wishes[id]
		r := w.pkg.Releases[candidate]
		if at := level.Resolve(w.name); at != nil && w != first && at.Version == r.Text {
			continue
		}
		set[w.name] = r
	}
	return set, nil
}

// lookingPast are what those ask for who get at under a name, and would get what is
// placed in level instead.
func (b *Builder) lookingPast(level, at *tree.Node, name string) (specs []packagejson.Spec) {
	if at == nil || at.Parent == level {
		return nil
	}
	b.Users(at, func(d *tree.Node, e packagejson.Edge) bool {
		if below(d, level) && e.Spec.Kind <= packagejson.SpecTag {
			specs = append(specs, e.Spec)
		}
		return true
	})
	return specs
}

// providePeer mends a peer that no longer meets: by another release in the
// peer's place, by placing it, or by placing n anew, deeper.
func (b *Builder) providePeer(n *tree.Node, e packagejson.Edge) error {
	if b.Registry.Settings.On("legacy-peer-deps") || e.Spec.Kind > packagejson.SpecTag {
		return nil
	}
	at := n.Get(e)
	if b.asFound(n, at) {
		n.Forced = n.Forced || e.Kind == packagejson.Peer // said in the end
		return nil
	}
	p, err := b.Registry.Package(b.Ctx, e.Spec.Name)
	switch {
	case registry.IsAbsent(err) && e.Kind == packagejson.PeerOptional:
		return nil
	case registry.IsAbsent(err):
		return b.unplaceable(n, e, "the registry does not know it")
	case err != nil:
		return fmt.Errorf("%s: %w", Describe(n, e), err)
	}
	if at != nil && b.replace(at, p, n, e) {
		return nil
	}
	level := n.Parent
	if best := b.pick(p, e.Spec); best != nil && level.Kids[e.Name] == nil &&
		b.placeSet(level, level, packagejson.Edge{Name: e.Name, Kind: packagejson.Prod, Spec: e.Spec}, p, best) {
		return nil
	}
	if e.Kind == packagejson.PeerOptional {
		if at == nil || at.Pinned || at.InBundle || at.LinkTo != nil || b.evicted[at.Loc] >= maxReturns {
			return nil // said in the end, if nothing else mends it
		}
		// It is rather without than with the wrong one: those who need that
		// get it further down.
		b.evict(at)
		return nil
	}
	switch {
	case n.Pinned:
		return b.unplaceable(n, e, fmt.Sprintf("%s has %s", atPlace(at), VersionOf(at)))
	case n.InBundle, b.evicted[n.Loc] >= maxEvictions:
		n.Forced = true // said in the end
		return nil
	}
	b.evict(n)
	return nil
}

// asFound tells whether a node, and what it gets for a peer, are as the lock has
// them, for which the manifests are as they were.
func (b *Builder) asFound(n, peer *tree.Node) bool {
	return !b.Rewritten && n.Entry != nil && peer != nil && peer.Entry != nil
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
func (b *Builder) evict(out *tree.Node) {
	b.Tree.Remove(out)
	b.reached = nil
	b.evicted[out.Loc]++
	for _, d := range b.Tree.Dependents[out.Name] {
		b.enqueue(d)
	}
}

func atPlace(n *tree.Node) string {
	if n == nil {
		return "its place"
	}
	return n.Loc
}

// VersionOf is the version at a place of the tree, as messages say it.
func VersionOf(n *tree.Node) string {
	if n == nil {
		return "nothing"
	}
	return n.Target().Version
}
