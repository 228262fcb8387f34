package resolving

import (
	"fmt"
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/registry"
	"bellwether/internal/ecosystem/npm/tree"
)

// expand states what a chosen release wants to meet. Releases that say the
// same are covered at once, which makes proofs short.
func (s *resolver) expand(w *wish, candidate int) error {
	if rel := w.pkg.Releases[candidate]; rel.Text != s.was[wishKey{w.tops[0], w.name}] {
		if hole := s.Hole(rel); hole != "" {
			s.problem.Forbid(func() string {
				return fmt.Sprintf("%s %s wants %s for one platform, which was never published", w.name, rel.Text, hole)
			}, solve.Term{Subject: w.id, In: s.problem.Pick(w.id, func(i int) bool { return i == candidate })})
			return nil
		}
	}
	if s.Registry.Settings.On("legacy-peer-deps") {
		return nil
	}
	b := w.pkg.Releases[candidate].Asks()
	in := w.tops[0].KidScope(packagejson.AskFor(w.name, w.pkg.Releases[candidate].Text))
	for _, name := range b.PeerNames() {
		optional := slices.Contains(b.PeerOptional, name)
		wants := b.Peers[name]
		alike := w.pkg.Asking(registry.Asking{Peer: name, Wants: wants, Optional: optional})
		when := s.problem.Pick(w.id, func(i int) bool {
			return alike[i] && (len(in) == 0 || i == candidate) // overrides may be for this version alone
		})
		kind := packagejson.Peer
		if optional {
			kind = packagejson.PeerOptional
		}
		e, _ := in.Apply(packagejson.Edge{Name: name, Kind: kind, Spec: packagejson.ReadSpec(name, wants)})
		for _, top := range w.tops {
			if err := s.expandPeer(w, when, top, e); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *resolver) expandPeer(w *wish, when solve.Set, top *tree.Node, e packagejson.Edge) error {
	imply := func(peer *wish) {
		ok := peer.pkg.Satisfying(e.Spec)
		each := s.needs(seriesKey{of: w, peer: e.Name, optional: e.Kind == packagejson.PeerOptional, none: !slices.Contains(ok, true)}, e)
		in := s.problem.Pick(peer.id, func(i int) bool { return ok[i] })
		if e.Kind == packagejson.PeerOptional {
			in.Add(len(ok))
		}
		// What contradicts itself in the lock may stay as it is.
		if n, to := s.asLocked(top, w.name, e); n != nil {
			stays := func(i int) bool { return w.pkg.Releases[i].Text == n.Version }
			s.problem.ImplyEach(each, w.id, s.problem.Pick(w.id, func(i int) bool { return when.Has(i) && stays(i) }), peer.id,
				s.problem.Pick(peer.id, func(i int) bool { return ok[i] || peer.pkg.Releases[i].Text == to.Version }))
			when = s.problem.Pick(w.id, func(i int) bool { return when.Has(i) && !stays(i) })
		}
		s.problem.ImplyEach(each, w.id, when, peer.id, in)
	}
	if peer := s.seen(top, e.Name); peer != nil {
		imply(peer)
		return nil
	}
	if at := top.Resolve(e.Name); at != nil && (at.LinkTo != nil || s.fetched[e.Name]) {
		if !tree.Meets(e, at) {
			s.problem.ForbidEach(
				s.needs(seriesKey{of: w, peer: e.Name, optional: e.Kind == packagejson.PeerOptional}, e), solve.Term{Subject: w.id, In: when},
			)
		}
		return nil
	}
	if e.Spec.Kind > packagejson.SpecTag {
		return nil
	}
	if e.Kind == packagejson.PeerOptional {
		key := wishKey{top, e.Name}
		s.waiting[key] = append(s.waiting[key], imply)
		return nil
	}
	at := top.Resolve(e.Name)
	p, err := s.PackageWith(e.Spec.Name, at, model.Site{File: w.name})
	if registry.IsAbsent(err) {
		s.problem.ForbidEach(s.needs(seriesKey{of: w, peer: e.Name, unknown: true}, e), solve.Term{Subject: w.id, In: when})
		return nil
	}
	if err != nil {
		return err
	}
	peer := s.newWish(top, e.Name, p, e.Name)
	locked := ""
	if at != nil {
		locked = at.Version
	}
	peer.want = s.choice(e.Name, p, locked)
	s.problem.Prefer(peer.id, peer.want.Preference(&contract.Goal{}))
	imply(peer)
	return nil
}

// asLocked gives what a top has for a name in the lock, and what that gets for a peer,
// if it does not meet it; nil if it does.
func (s *resolver) asLocked(top *tree.Node, name string, e packagejson.Edge) (n, to *tree.Node) {
	n = top.Resolve(name)
	if n == nil || n.Entry == nil || s.Rewritten {
		return nil, nil
	}
	if to = n.Get(e); to == nil || to.Entry == nil || tree.Meets(e, to) || top.Resolve(e.Name) != to {
		return nil, nil
	}
	return n, to
}

// needs is a fact about what releases of a wish ask of a peer.
func (s *resolver) needs(key seriesKey, e packagejson.Edge) solve.Each {
	if s.series[key] == nil {
		s.series[key] = &solve.Series{Weak: key.optional, Say: func(which, wants string) string {
			text := fmt.Sprintf("%s %s needs %s %s as a peer", key.of.name, which, key.peer, wants)
			switch {
			case key.unknown:
				text += ", which the registry does not know"
			case key.optional:
				text += " where it is installed"
			case key.none:
				text += ", and there is no such release"
			}
			return text
		}}
	}
	return solve.Each{Series: s.series[key], Want: packagejson.Shown(e.Spec.Text)}
}

// seen is the wish that a top sees under a name: its own, else the root's.
func (s *resolver) seen(top *tree.Node, name string) *wish {
	if w := s.byKey[wishKey{top, name}]; w != nil {
		return w
	}
	return s.byKey[wishKey{s.Tree.Root, name}]
}
