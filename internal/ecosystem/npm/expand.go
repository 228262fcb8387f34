package npm

import (
	"fmt"
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
)

// expand states what a chosen release wants to meet. Releases that say the
// same are covered at once, which makes proofs short.
func (s *resolver) expand(w *wish, candidate int) error {
	if rel := w.pkg.releases[candidate]; rel.text != s.was[wishKey{w.tops[0], w.name}] {
		if hole := s.hole(rel); hole != "" {
			s.problem.Forbid(func() string {
				return fmt.Sprintf("%s %s wants %s for one platform, which was never published", w.name, rel.text, hole)
			}, solve.Term{Subject: w.id, In: s.problem.Pick(w.id, func(i int) bool { return i == candidate })})
			return nil
		}
	}
	if s.reg.settings.on("legacy-peer-deps") {
		return nil
	}
	b := w.pkg.releases[candidate].terms()
	in := w.tops[0].kidScope(edge{w.name, prodEdge, readSpec(w.name, w.pkg.releases[candidate].text)})
	for _, name := range b.peers() {
		optional := slices.Contains(b.PeerOptional, name)
		wants := b.Peers[name]
		alike := w.pkg.asking(asking{name, wants, optional})
		when := s.problem.Pick(w.id, func(i int) bool {
			return alike[i] && (len(in) == 0 || i == candidate) // overrides may be for this version alone
		})
		kind := peerEdge
		if optional {
			kind = peerOptionalEdge
		}
		e, _ := in.apply(edge{name, kind, readSpec(name, wants)})
		for _, top := range w.tops {
			if err := s.expandPeer(w, when, top, e); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *resolver) expandPeer(w *wish, when solve.Set, top *node, e edge) error {
	imply := func(peer *wish) {
		ok := peer.pkg.satisfying(e.spec)
		each := s.needs(seriesKey{of: w, peer: e.name, optional: e.kind == peerOptionalEdge, none: !slices.Contains(ok, true)}, e)
		in := s.problem.Pick(peer.id, func(i int) bool { return ok[i] })
		if e.kind == peerOptionalEdge {
			in.Add(len(ok))
		}
		// What contradicts itself in the lock may stay as it is.
		if n, to := s.asLocked(top, w.name, e); n != nil {
			stays := func(i int) bool { return w.pkg.releases[i].text == n.version }
			s.problem.ImplyEach(each, w.id, s.problem.Pick(w.id, func(i int) bool { return when.Has(i) && stays(i) }), peer.id,
				s.problem.Pick(peer.id, func(i int) bool { return ok[i] || peer.pkg.releases[i].text == to.version }))
			when = s.problem.Pick(w.id, func(i int) bool { return when.Has(i) && !stays(i) })
		}
		s.problem.ImplyEach(each, w.id, when, peer.id, in)
	}
	if peer := s.seen(top, e.name); peer != nil {
		imply(peer)
		return nil
	}
	if at := top.resolve(e.name); at != nil && (at.linkTo != nil || s.fetched[e.name]) {
		if !meets(e, at) {
			s.problem.ForbidEach(
				s.needs(seriesKey{of: w, peer: e.name, optional: e.kind == peerOptionalEdge}, e), solve.Term{Subject: w.id, In: when},
			)
		}
		return nil
	}
	if e.spec.kind > specTag {
		return nil
	}
	if e.kind == peerOptionalEdge {
		key := wishKey{top, e.name}
		s.waiting[key] = append(s.waiting[key], imply)
		return nil
	}
	at := top.resolve(e.name)
	p, err := s.packageWith(e.spec.name, at, model.Site{File: w.name})
	if isAbsent(err) {
		s.problem.ForbidEach(s.needs(seriesKey{of: w, peer: e.name, unknown: true}, e), solve.Term{Subject: w.id, In: when})
		return nil
	}
	if err != nil {
		return err
	}
	peer := s.newWish(top, e.name, p, e.name)
	locked := ""
	if at != nil {
		locked = at.version
	}
	peer.want = s.choice(e.name, p, locked)
	s.problem.Prefer(peer.id, peer.want.Preference(&contract.Goal{}))
	imply(peer)
	return nil
}

// asLocked gives what a top has for a name in the lock, and what that gets for a peer,
// if it does not meet it; nil if it does.
func (s *resolver) asLocked(top *node, name string, e edge) (n, to *node) {
	n = top.resolve(name)
	if n == nil || n.entry == nil || s.rewritten {
		return nil, nil
	}
	if to = n.get(e); to == nil || to.entry == nil || meets(e, to) || top.resolve(e.name) != to {
		return nil, nil
	}
	return n, to
}

// needs is a fact about what releases of a wish ask of a peer.
func (s *resolver) needs(key seriesKey, e edge) solve.Each {
	if s.series[key] == nil {
		s.series[key] = &solve.Series{Say: func(which, wants string) string {
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
	return solve.Each{Series: s.series[key], Want: shown(e.spec.text)}
}

// seen is the wish that a top sees under a name: its own, else the root's.
func (s *resolver) seen(top *node, name string) *wish {
	if w := s.byKey[wishKey{top, name}]; w != nil {
		return w
	}
	return s.byKey[wishKey{s.t.root, name}]
}
