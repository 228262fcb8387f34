package project

import (
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/tree"
)

// InEffect are the packages of a tree of the project, each copy once, breadth first from the
// manifests, so that what leads to each is as short as can be. What is there only
// as an optional dependency needs nothing: npm leaves it out where it does not
// run.
func (p *Project) InEffect(t *tree.Tree) []model.Package {
	f := &packageFinder{t: t, seen: map[*tree.Node]bool{}, advice: !p.EngineStrict}
	f.used = f.t.Reach(func(from *tree.Node, e packagejson.Edge) bool { return !from.IsTop() || e.Kind != packagejson.Dev })
	f.from(p, false)
	f.from(p, true)
	return f.all
}

// packageFinder walks along the edges of a tree.
type packageFinder struct {
	t    *tree.Tree
	seen map[*tree.Node]bool
	all  []model.Package
	done []found // all packages that were found, with what leads to them
	// What packages state that they run on is no more than advice.
	advice bool
	used   map[*tree.Node]bool // what who uses the project gets
}

// found is a package with what leads to it.
type found struct {
	n    *tree.Node
	via  []string
	site model.Site
}

// from walks from the manifests, in the second round along optional edges, too.
func (f *packageFinder) from(p *Project, optional bool) {
	queue := f.done // whose optional edges are still to be followed
	for _, m := range p.Manifests() {
		top := f.t.Tops[m.Dir]
		if top == nil {
			continue
		}
		for _, d := range m.Dependencies {
			if optional || !d.Kind.IsOptional() {
				queue = f.visit(queue, found{top.Resolve(d.Name), nil, d.Site}, !optional)
			}
		}
	}
	for i := 0; i < len(queue); i++ {
		q := queue[i]
		via := further(q.via, q.n.Package+" "+q.n.Version)
		for _, e := range q.n.EdgeList {
			if optional || !e.Kind.IsOptional() {
				queue = f.visit(queue, found{q.n.Get(e), via, q.site}, !optional)
			}
		}
	}
	f.done = queue
}

// MaxVia is how many packages are named that lead to another one. Of a longer chain, the
// beginning and the end are.
const MaxVia = 16

// further is a chain with one more at its end.
func further(via []string, last string) []string {
	if len(via) < MaxVia {
		return append(via[:len(via):len(via)], last)
	}
	const first = MaxVia / 2
	short := append(make([]string, 0, MaxVia), via[:first]...)
	return append(append(append(short, "…"), via[first+2:]...), last)
}

func (f *packageFinder) visit(queue []found, q found, needs bool) []found {
	n := q.n
	if n == nil || f.seen[n] || n.IsTop() || n.LinkTo != nil || n.InBundle {
		return queue
	}
	f.seen[n] = true
	pkg := model.Package{Subject: model.Subject{Kind: packagejson.Name, Name: n.Package}, Version: n.Version, Via: q.via, Site: q.site}
	pkg.Development, pkg.Builds = !f.used[n], n.Body != nil && n.Body.Script
	if needs && n.Body != nil && n.Body.Node != "" {
		pkg.Needs = append(pkg.Needs, model.Need{Subject: model.Subject{Kind: "runtime", Name: "node"}, Range: n.Body.Node, Advice: f.advice})
	}
	f.all = append(f.all, pkg)
	return append(queue, q)
}
