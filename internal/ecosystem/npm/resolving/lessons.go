package resolving

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/solve"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/placing"
	"bellwether/internal/ecosystem/npm/registry"
	"bellwether/internal/ecosystem/npm/tree"
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
	in        func(rel *registry.Release) bool
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
				if key.top.Loc == t.top && key.name == t.name {
					terms = append(terms, solve.Term{Subject: w.id, In: s.problem.Pick(w.id, func(i int) bool { return t.in(w.pkg.Releases[i]) })})
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
	var u *placing.Unplaced
	if !errors.As(err, &u) {
		return nil
	}
	for _, l := range s.lessons {
		l.known = false // the next problem is another
	}
	l := &lesson{}
	way := s.wayTo(u.Node)
	l.add(s, way, func(rel *registry.Release) bool {
		return asksAlike(rel, s.placed[way[0]].rel, append(way, &tree.Node{Name: u.Edge.Name})[1].Name)
	})
	text := u.Text
	if len(way) > 1 {
		text = brought(way) + "; " + text
	}
	if to := s.wayTo(u.To); len(to) > 0 && s.placed[to[0]] != nil {
		l.add(s, to, func(rel *registry.Release) bool {
			if len(to) == 1 {
				return !tree.Meets(u.Edge, &tree.Node{Package: rel.Pkg.Name, Version: rel.Text})
			}
			return asksAlike(rel, s.placed[to[0]].rel, to[1].Name)
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
func (l *lesson) add(s *resolver, way []*tree.Node, in func(rel *registry.Release) bool) {
	if len(way) == 0 {
		return
	}
	w := s.placed[way[0]]
	if w == nil {
		return
	}
	if !in(w.rel) { // what is chosen is what the lesson is about
		in = func(rel *registry.Release) bool { return rel == w.rel }
	}
	t := lessonTerm{top: w.tops[0].Loc, name: w.name, in: in}
	for i, o := range l.terms {
		if o.top == t.top && o.name == t.name {
			l.terms[i].in = func(rel *registry.Release) bool { return o.in(rel) && t.in(rel) }
			return
		}
	}
	l.terms = append(l.terms, t)
}

// brought says by which packages the last of a way is there.
func brought(way []*tree.Node) string {
	var via []string
	for _, n := range way[:len(way)-1] {
		via = append(via, strings.TrimSpace(n.Package+" "+n.Version))
	}
	return fmt.Sprintf("%s comes by way of %s", way[len(way)-1].Package, strings.Join(via, " > "))
}

// wayTo is the shortest way to a node, from what was placed for a wish or from a top.
func (s *resolver) wayTo(n *tree.Node) []*tree.Node {
	if n == nil || n.IsTop() {
		return nil
	}
	next := map[*tree.Node]*tree.Node{n: nil}
	queue := []*tree.Node{n}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		if s.placed[at] != nil {
			var way []*tree.Node
			for ; at != nil; at = next[at] {
				way = append(way, at)
			}
			return way
		}
		for _, d := range s.Tree.Dependents[at.Name] {
			if _, seen := next[d]; seen || placing.Gone(d) || d.IsTop() {
				continue
			}
			if slices.ContainsFunc(d.EdgeList, func(e packagejson.Edge) bool { return e.Name == at.Name && tree.Keeps(e) && d.Get(e) == at }) {
				next[d] = at
				queue = append(queue, d)
			}
		}
	}
	return nil
}

// asksAlike tells whether a release asks the same of a name as another does.
func asksAlike(rel, as *registry.Release, name string) bool {
	if rel == as {
		return true
	}
	if rel.Pkg != as.Pkg {
		return false
	}
	a, b := rel.Manifest(), as.Manifest()
	return a.Dependencies[name] == b.Dependencies[name] && a.Peers[name] == b.Peers[name] && a.Optional[name] == b.Optional[name]
}
