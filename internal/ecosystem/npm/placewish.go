package npm

import (
	"cmp"
	"slices"

	"bellwether/internal/core/want"
)

// placeWishes puts what was solved for the tops into its places. What only members
// ask for goes up to the root where that is free, one version of each name; all
// others have theirs in their own folders.
func (s *resolver) placeWishes() {
	up := s.hoisted()
	for _, name := range collated(up) {
		s.placeIn(s.t.root, up[name], true)
	}
	for _, w := range s.wishes {
		if w.rel == nil || up[w.name] == w {
			continue
		}
		atHome := s.atHome(w, up)
		for _, top := range w.tops {
			s.placeIn(top, w, atHome)
		}
	}
	for _, name := range collated(up) {
		s.clear(up[name])
	}
}

// placeIn lets a top see what was solved for a wish, in its own folder if not
// above it. What lies above will only do if it is at home in the root.
func (s *resolver) placeIn(top *node, w *wish, atHome bool) {
	n := top.resolve(w.name)
	if n == nil || !n.holds(w.rel) || n.parent != top && !atHome {
		n = top.kids[w.name]
		if n == nil {
			n = s.t.add(top, w.name)
		}
		s.become(n, w.rel, w.tops[0].kidScope(edge{w.name, prodEdge, readSpec(w.name, w.rel.text)}))
	}
	n.pinned = true
	s.placed[n] = w
}

// clear takes out of its tops' own folders what they get from the root just as well,
// if the wish moved.
func (s *resolver) clear(w *wish) {
	for _, top := range w.tops {
		own := top.kids[w.name]
		if top == s.t.root || own == nil || own.linkTo != nil || own.entry != nil && own.holds(w.rel) {
			continue
		}
		s.t.remove(own)
	}
}

// hoisted are the wishes that have the root's place of their names. What the root
// asks for itself has it in any case. Of others one has it whose peers are at the root, too, as
// they were solved for those who ask for it.
func (s *resolver) hoisted() map[string]*wish {
	rivals := map[string][]*wish{}
	for _, w := range s.wishes {
		if w.rel != nil {
			rivals[w.name] = append(rivals[w.name], w)
		}
	}
	leaving := map[*node]bool{}
	for _, w := range s.wishes {
		for _, top := range w.tops {
			if at := top.resolve(w.name); w.rel != nil && at != nil && !at.holds(w.rel) {
				leaving[at] = true
			}
		}
	}
	up := map[string]*wish{}
	next := func(name string) {
		delete(up, name)
		if len(rivals[name]) > 0 {
			up[name], rivals[name] = rivals[name][0], rivals[name][1:]
		}
	}
	for name, list := range rivals {
		at := s.t.root.kids[name]
		if own := s.byKey[wishKey{s.t.root, name}]; own != nil && own.rel != nil {
			list = []*wish{own}
		} else {
			list = slices.DeleteFunc(slices.Clone(list), func(w *wish) bool {
				return (at == nil || !at.holds(w.rel)) && s.stays(w) || at != nil && !s.yields(at, w, leaving)
			})
			slices.SortStableFunc(list, func(a, b *wish) int {
				return cmp.Or(want.First(at != nil && at.holds(a.rel), at != nil && at.holds(b.rel)), len(b.tops)-len(a.tops))
			})
		}
		rivals[name] = list
		next(name)
	}
	for settled := false; !settled; {
		settled = true
		for _, name := range collated(up) {
			if !s.atHome(up[name], up) {
				next(name)
				settled = false
			}
		}
	}
	return up
}

// stays tells whether all who ask for a wish have it already.
func (s *resolver) stays(w *wish) bool {
	return !slices.ContainsFunc(w.tops, func(top *node) bool {
		at := top.resolve(w.name)
		return at == nil || !at.holds(w.rel)
	})
}

// yields tells whether what has a place in the root leaves it to a wish: all who get
// it can do with that, too, or are leaving, or several members ask for it, so that a
// copy for those who cannot is the smaller evil.
func (s *resolver) yields(at *node, w *wish, leaving map[*node]bool) bool {
	if at.holds(w.rel) {
		return true
	}
	if at.linkTo != nil || s.fetched[w.name] && at.resolved != w.rel.tarball() {
		return false
	}
	asking := map[*node]bool{}
	for _, other := range s.named[w.name] {
		for _, top := range other.tops {
			asking[top] = asking[top] || other.rel == w.rel
		}
	}
	content, members := true, 0
	for _, gets := range asking {
		if gets {
			members++
		}
	}
	probe := &node{name: at.name, pkgName: w.rel.pkg.name, version: w.rel.text, resolved: w.rel.tarball()}
	s.users(at, func(d *node, e edge) bool {
		_, asks := asking[d] // and has a wish of its own
		content = content && (asks || leaving[d] || meets(e, probe))
		return content
	})
	return content || members > 1
}

// atHome tells whether a wish meets in the root the peers that it was solved with.
func (s *resolver) atHome(w *wish, up map[string]*wish) bool {
	if slices.Contains(w.tops, s.t.root) {
		return true
	}
	for _, e := range bodyEdges(w.rel.body(), nil) {
		if !e.kind.peer() {
			continue
		}
		peer := s.seen(w.tops[0], e.name)
		switch at := up[e.name]; {
		case peer == nil || peer.rel == nil: // it is none of ours to place, or not there
			if own := s.t.root.kids[e.name]; at != nil && !meets(e, &node{pkgName: at.rel.pkg.name, version: at.rel.text}) ||
				at == nil && e.kind == peerEdge && !meets(e, own) {
				return false
			}
		case at == nil || at.rel != peer.rel:
			asBefore := s.t.root.kids[w.name] != nil && s.t.root.kids[w.name].holds(w.rel) && s.was[wishKey{w.tops[0], e.name}] == peer.rel.text
			if own := s.t.root.kids[e.name]; !asBefore || at != nil || !meets(e, own) {
				return false
			}
		}
	}
	return true
}
