package npm

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/solve"
)

// lesson is a fact that placing found: these choices do not all go together.
type lesson struct {
	terms []lessonTerm
	text  string // a sentence without a full stop
	known bool   // to the problem at hand
}

// lessonTerm says that what a top gets for a name is one of some releases.
type lessonTerm struct {
	top, name string
	in        func(rel *release) bool
}

// maxLessons bounds how often is solved anew.
const maxLessons = 100

// heed states the lessons whose wishes are known by now.
func (s *resolver) heed() {
	for _, l := range s.lessons {
		if l.known {
			continue
		}
		var terms []solve.Term
		for _, t := range l.terms {
			for key, w := range s.byKey {
				if key.top.loc == t.top && key.name == t.name {
					terms = append(terms, solve.Term{Subject: w.id, In: s.problem.Pick(w.id, func(i int) bool { return t.in(w.pkg.releases[i]) })})
				}
			}
		}
		if len(terms) == len(l.terms) {
			l.known = true
			s.problem.Forbid(func() string { return l.text }, terms...)
		}
	}
}

// learn makes a lesson of what could not be placed: what brought it does not go with
// what is in its way. It gives nil where no choice is to blame.
func (s *resolver) learn(err error) *lesson {
	var u *unplaced
	if !errors.As(err, &u) {
		return nil
	}
	for _, l := range s.lessons {
		l.known = false // the next problem is another
	}
	l := &lesson{}
	way := s.wayTo(u.n)
	l.add(s, way, func(rel *release) bool {
		return asksAlike(rel, s.placed[way[0]].rel, append(way, &node{name: u.e.name})[1].name)
	})
	text := u.text
	if len(way) > 1 {
		text = brought(way) + "; " + text
	}
	if to := s.wayTo(u.to); len(to) > 0 && s.placed[to[0]] != nil {
		l.add(s, to, func(rel *release) bool {
			if len(to) == 1 {
				return !meets(u.e, &node{pkgName: rel.pkg.name, version: rel.text})
			}
			return asksAlike(rel, s.placed[to[0]].rel, to[1].name)
		})
		if len(to) > 1 {
			text += ", which " + brought(to)
		}
	}
	if len(l.terms) == 0 {
		return nil
	}
	l.text = text
	return l
}

// add adds the choice that a way begins with, if it begins with one.
func (l *lesson) add(s *resolver, way []*node, in func(rel *release) bool) {
	if len(way) == 0 {
		return
	}
	w := s.placed[way[0]]
	if w == nil {
		return
	}
	if !in(w.rel) { // what is chosen is what the lesson is about
		in = func(rel *release) bool { return rel == w.rel }
	}
	t := lessonTerm{top: w.tops[0].loc, name: w.name, in: in}
	for i, o := range l.terms {
		if o.top == t.top && o.name == t.name {
			l.terms[i].in = func(rel *release) bool { return o.in(rel) && t.in(rel) }
			return
		}
	}
	l.terms = append(l.terms, t)
}

// brought says by which packages the last of a way is there.
func brought(way []*node) string {
	var via []string
	for _, n := range way[:len(way)-1] {
		via = append(via, strings.TrimSpace(n.pkgName+" "+n.version))
	}
	return fmt.Sprintf("%s comes by way of %s", way[len(way)-1].pkgName, strings.Join(via, " > "))
}

// wayTo is the shortest way to a node, from what was placed for a wish or from a top.
func (s *resolver) wayTo(n *node) []*node {
	if n == nil || n.isTop() {
		return nil
	}
	next := map[*node]*node{n: nil}
	queue := []*node{n}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		if s.placed[at] != nil {
			var way []*node
			for ; at != nil; at = next[at] {
				way = append(way, at)
			}
			return way
		}
		for _, d := range s.t.dependents[at.name] {
			if _, seen := next[d]; seen || d.gone() || d.isTop() {
				continue
			}
			if slices.ContainsFunc(d.edgeList, func(e edge) bool { return e.name == at.name && keeps(e) && d.get(e) == at }) {
				next[d] = at
				queue = append(queue, d)
			}
		}
	}
	return nil
}

// asksAlike tells whether a release asks the same of a name as another does.
func asksAlike(rel, as *release, name string) bool {
	if rel == as {
		return true
	}
	if rel.pkg != as.pkg {
		return false
	}
	a, b := rel.body(), as.body()
	return a.Dependencies[name] == b.Dependencies[name] && a.Peers[name] == b.Peers[name] && a.Optional[name] == b.Optional[name]
}
