package npm

import (
	"bellwether/internal/core/model"
)

// Packages are the packages of the lock, each copy once, breadth first from the
// manifests, so that what leads to each is as short as can be. What is there only
// as an optional dependency needs nothing: npm leaves it out where it does not
// run.
func (Ecosystem) Packages(c *model.Component) []model.Package {
	p := c.Detail.(*project)
	if p.foreign != nil {
		return p.foreignPackages(c)
	}
	if p.lock == nil {
		return nil
	}
	f := &packageFinder{t: p.locked(), seen: map[*node]bool{}, advice: !p.engineStrict}
	f.from(p, false)
	f.from(p, true)
	return f.all
}

// foreignPackages are the packages that another client's lock names. What leads to
// those that no manifest requires is not told.
func (p *project) foreignPackages(c *model.Component) []model.Package {
	var all []model.Package
	direct := map[foreignPackage]bool{}
	for _, r := range c.Requirements {
		key := foreignPackage{name: r.Subject.Name, version: r.Locked}
		if r.Locked != "" && !direct[key] {
			direct[key] = true
			all = append(all, model.Package{Subject: r.Subject, Version: r.Locked, Site: r.Site})
		}
	}
	for _, f := range p.foreign.packages {
		if !direct[foreignPackage{name: f.name, version: f.version}] {
			all = append(
				all,
				model.Package{
					Subject: model.Subject{Kind: Name, Name: f.name}, Version: f.version, Site: model.Site{File: p.foreign.file, Line: f.line},
				},
			)
		}
	}
	return all
}

// packageFinder walks along the edges of a tree.
type packageFinder struct {
	t    *tree
	seen map[*node]bool
	all  []model.Package
	done []found // all packages that were found, with what leads to them
	// What packages state that they run on is no more than advice.
	advice bool
}

// found is a package with what leads to it.
type found struct {
	n    *node
	via  []string
	site model.Site
}

// from walks from the manifests, in the second round along optional edges, too.
func (f *packageFinder) from(p *project, optional bool) {
	queue := f.done // whose optional edges are still to be followed
	for _, m := range p.manifests() {
		top := f.t.tops[m.dir]
		if top == nil {
			continue
		}
		for _, d := range m.dependencies {
			if optional || !d.kind.optional() {
				queue = f.visit(queue, found{top.resolve(d.name), nil, d.site}, !optional)
			}
		}
	}
	for i := 0; i < len(queue); i++ {
		q := queue[i]
		via := further(q.via, q.n.pkgName+" "+q.n.version)
		for _, e := range q.n.edgeList {
			if optional || !e.kind.optional() {
				queue = f.visit(queue, found{q.n.get(e), via, q.site}, !optional)
			}
		}
	}
	f.done = queue
}

// maxVia is how many packages are named that lead to another one. Of a longer chain, the
// beginning and the end are.
const maxVia = 16

// further is a chain with one more at its end.
func further(via []string, last string) []string {
	if len(via) < maxVia {
		return append(via[:len(via):len(via)], last)
	}
	const first = maxVia / 2
	short := append(make([]string, 0, maxVia), via[:first]...)
	return append(append(append(short, "…"), via[first+2:]...), last)
}

func (f *packageFinder) visit(queue []found, q found, needs bool) []found {
	n := q.n
	if n == nil || f.seen[n] || n.isTop() || n.linkTo != nil || n.inBundle {
		return queue
	}
	f.seen[n] = true
	pkg := model.Package{Subject: model.Subject{Kind: Name, Name: n.pkgName}, Version: n.version, Via: q.via, Site: q.site}
	if needs && n.body != nil && n.body.Node != "" {
		pkg.Needs = append(pkg.Needs, model.Need{Subject: model.Subject{Kind: "runtime", Name: "node"}, Range: n.body.Node, Advice: f.advice})
	}
	f.all = append(f.all, pkg)
	return append(queue, q)
}

// BuildsWith are the folders of members and linked packages that lie outside of the component's.
func (Ecosystem) BuildsWith(c *model.Component) (dirs []string) {
	for _, top := range c.Detail.(*project).tops {
		dirs = append(dirs, top.dir)
	}
	return dirs
}
