package resolving

import (
	"cmp"
	"slices"

	"bellwether/internal/core/want"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/tree"
)

// placeWishes puts what was solved for the tops into its places. What only members
// ask for goes up to the root where that is free, one version of each name; all
// others have theirs in their own folders.
func (s *resolver) placeWishes() {
	up := s.hoisted()
	for _, name := range packagejson.Collated(up) {
		s.placeIn(s.Tree.Root, up[name], true)
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
	for _, name := range packagejson.Collated(up) {
		s.clear(up[name])
	}
}

// placeIn lets a top see what was solved for a wish, in its own folder if not
// above it. What lies above will only do if it is at home in the root.
func (s *resolver) placeIn(top *tree.Node, w *wish, atHome bool) {
	n := top.Resolve(w.name)
	if n == nil || !n.Holds(w.rel) || n.Parent != top && !atHome {
		n = top.Kids[w.name]
		if n == nil {
			n = s.Tree.Add(top, w.name)
		}
		s.Become(n, w.rel, w.tops[0].KidScope(packagejson.AskFor(w.name, w.rel.Text)))
	}
	n.Pinned = true
	s.placed[n] = w
}

// clear takes out of its tops' own folders what they get from the root just as well,
// if the wish moved.
func (s *resolver) clear(w *wish) {
	for _, top := range w.tops {
		own := top.Kids[w.name]
		if top == s.Tree.Root || own == nil || own.LinkTo != nil || own.Entry != nil && own.Holds(w.rel) {
			continue
		}
		s.Tree.Remove(own)
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
	leaving := map[*tree.Node]bool{}
	for _, w := range s.wishes {
		for _, top := range w.tops {
			if at := top.Resolve(w.name); w.rel != nil && at != nil && !at.Holds(w.rel) {
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
		at := s.Tree.Root.Kids[name]
		if own := s.byKey[wishKey{s.Tree.Root, name}]; own != nil && own.rel != nil {
			list = []*wish{own}
		} else {
			list = slices.DeleteFunc(slices.Clone(list), func(w *wish) bool {
				return (at == nil || !at.Holds(w.rel)) && s.stays(w) || at != nil && !s.yields(at, w, leaving)
			})
			slices.SortStableFunc(list, func(a, b *wish) int {
				return cmp.Or(want.First(at != nil && at.Holds(a.rel), at != nil && at.Holds(b.rel)), len(b.tops)-len(a.tops))
			})
		}
		rivals[name] = list
		next(name)
	}
	for settled := false; !settled; {
		settled = true
		for _, name := range packagejson.Collated(up) {
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
	return !slices.ContainsFunc(w.tops, func(top *tree.Node) bool {
		at := top.Resolve(w.name)
		return at == nil || !at.Holds(w.rel)
	})
}

// yields tells whether what has a place in the root leaves it to a wish: all who get
// it can do with that, too, or are leaving, or several members ask for it, so that a
// copy for those who cannot is the smaller evil.
func (s *resolver) yields(at *tree.Node, w *wish, leaving map[*tree.Node]bool) bool {
	if at.Holds(w.rel) {
		return true
	}
	if at.LinkTo != nil || s.fetched[w.name] && at.Resolved != w.rel.Archive() {
		return false
	}
	asking := map[*tree.Node]bool{}
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
	probe := &tree.Node{Name: at.Name, Package: w.rel.Pkg.Name, Version: w.rel.Text, Resolved: w.rel.Archive()}
	s.Users(at, func(d *tree.Node, e packagejson.Edge) bool {
		_, asks := asking[d] // and has a wish of its own
		content = content && (asks || leaving[d] || tree.Meets(e, probe))
		return content
	})
	return content || members > 1
}

// atHome tells whether a wish meets in the root the peers that it was solved with.
func (s *resolver) atHome(w *wish, up map[string]*wish) bool {
	if slices.Contains(w.tops, s.Tree.Root) {
		return true
	}
	for _, e := range tree.BodyEdges(w.rel.Manifest(), nil) {
		if !e.Kind.IsPeer() {
			continue
		}
		peer := s.seen(w.tops[0], e.Name)
		switch at := up[e.Name]; {
		case peer == nil || peer.rel == nil: // it is none of ours to place, or not there
			if own := s.Tree.Root.Kids[e.Name]; at != nil && !tree.Meets(e, &tree.Node{Package: at.rel.Pkg.Name, Version: at.rel.Text}) ||
				at == nil && e.Kind == packagejson.Peer && !tree.Meets(e, own) {
				return false
			}
		case at == nil || at.rel != peer.rel:
			there := s.Tree.Root.Kids[w.name]
			asBefore := there != nil && there.Holds(w.rel) && s.was[wishKey{w.tops[0], e.Name}] == peer.rel.Text
			if own := s.Tree.Root.Kids[e.Name]; !asBefore || at != nil || !tree.Meets(e, own) {
				return false
			}
		}
	}
	return true
}
