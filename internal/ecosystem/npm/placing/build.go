package placing

import (
	"context"
	"errors"
	"slices"

	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/registry"
	"bellwether/internal/ecosystem/npm/tree"
)

// Builder puts packages into a tree by npm's rule: as high as they can be,
// nested where ranges differ, a package and its peers where they meet.
type Builder struct {
	Ctx      context.Context
	Registry *registry.Registry
	Tree     *tree.Tree
	file     string // the root manifest, for errors
	queue    []*tree.Node
	queued   map[*tree.Node]bool
	peers    []*tree.Node        // whose peers are still to be looked at
	reached  map[*tree.Node]bool // what is known to be in use at present
	holes    map[*registry.Release]string
	Avoid    func(name, version string) bool // what is not to be taken where there is something else; nil for nothing
	All      bool                            // copies that nobody needs go, even those of the lock
	Notices  []string
	// What is to be known of the tree, and held of the lock that was found.
	AsBefore []string
	// The manifests are not as they were when the lock was written.
	Rewritten bool
	// How often providing for a node was put off.
	deferred map[*tree.Node]int
	// How often what was at a location was taken out, and replaced.
	evicted, replaced map[string]int
}

// New gives a builder for a tree that asks reg; file is the root manifest, for errors.
func New(ctx context.Context, reg *registry.Registry, t *tree.Tree, file string) *Builder {
	return &Builder{
		Ctx: ctx, Registry: reg, Tree: t, file: file,
		queued: map[*tree.Node]bool{}, deferred: map[*tree.Node]int{}, holes: map[*registry.Release]string{},
		evicted: map[string]int{}, replaced: map[string]int{},
	}
}

// Build provides everything that some node of the tree misses or is not
// content with, and takes out what nobody needs any more.
func (b *Builder) Build() error {
	b.Tree.Walk(b.enqueue)
	for passes := 0; ; passes++ {
		if err := b.fill(); err != nil {
			return err
		}
		b.Tree.Prune()
		hoisted := b.hoist()
		if b.dedupe(b.All) || hoisted {
			if err := b.fill(); err != nil {
				return err
			}
			b.Tree.Prune()
		}
		// What went may have been what an optional peer was content with, since that alone keeps nothing.
		if b.peers = b.wronglyMet(); len(b.peers) == 0 || passes == maxPasses {
			return b.checkAll()
		}
	}
}

// maxPasses bounds how often optional peers are looked at again once the tree is there.
const maxPasses = 3

// wronglyMet are the nodes with an optional peer that gets what it cannot do with, and not as the lock had it.
func (b *Builder) wronglyMet() (all []*tree.Node) {
	b.Tree.Walk(func(n *tree.Node) {
		if n.IsTop() || n.Forced {
			return
		}
		for _, e := range n.EdgeList {
			if to := n.Get(e); e.Kind == packagejson.PeerOptional && !tree.Meets(e, to) && !packedWith(n, to) && !b.asFound(n, to) {
				all = append(all, n)
				return
			}
		}
	})
	return all
}

// fill provides what the nodes that are listed miss, and those whom that concerns.
func (b *Builder) fill() error {
	for rounds := 0; len(b.queue)+len(b.peers) > 0; rounds++ {
		if err := b.Ctx.Err(); err != nil {
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
	return nil
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
func (b *Builder) settle(n *tree.Node, peers bool) error {
	later := false
	if err := b.unpack(n); err != nil {
		return err
	}
	for _, e := range slices.Clone(n.EdgeList) {
		if Gone(n) {
			return nil
		}
		if peers != (e.Kind.IsPeer() && !n.IsTop()) || n.Forced && e.Kind.IsPeer() {
			continue
		}
		to := n.Get(e)
		if tree.Meets(e, to) && !(to == nil && e.Kind == packagejson.Optional) || packedWith(n, to) {
			continue
		}
		err := b.provide(n, e)
		switch {
		case errors.As(err, new(*Unplaced)) && b.deferred[n] < maxDeferred:
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
func packedWith(n *tree.Node, to *tree.Node) bool { return to != nil && n.InBundle && to.InBundle }

// Gone tells whether n was taken out of the tree.
func Gone(n *tree.Node) bool {
	return n.Parent != nil && (n.Parent.Kids[n.Name] != n || Gone(n.Parent))
}

func (b *Builder) enqueue(n *tree.Node) {
	if !b.queued[n] {
		b.queued[n] = true
		b.queue = append(b.queue, n)
	}
}

// changed puts on the list all whom the node of that name may concern.
func (b *Builder) changed(n *tree.Node) {
	b.reached = nil
	b.enqueue(n)
	for _, d := range b.Tree.Dependents[n.Name] {
		b.enqueue(d)
	}
}
