package npm

import (
	"bellwether/internal/core/model"
)

// Packages are the packages of the lock, each copy once, breadth first from the
// manifests, so that what leads to each is as short as can be.
func (Ecosystem) Packages(c *model.Component) []model.Package {
	p := c.Detail.(*project)
	if p.lock == nil {
		return nil
	}
	t := p.tree()
	type step struct {
		n    *node
		via  []string
		site model.Site
	}
	seen := map[*node]bool{}
	var all []model.Package
	var queue []step
	visit := func(n *node, via []string, site model.Site) {
		if n == nil || seen[n] || n.isTop() || n.linkTo != nil || n.inBundle {
			return
		}
		seen[n] = true
		pkg := model.Package{Subject: model.Subject{Kind: Name, Name: n.pkgName}, Version: n.version, Via: via, Site: site}
		if n.body != nil && n.body.Node != "" {
			pkg.Needs = append(pkg.Needs, model.Need{Subject: model.Subject{Kind: "runtime", Name: "node"}, Range: n.body.Node})
		}
		all = append(all, pkg)
		queue = append(queue, step{n, append(via[:len(via):len(via)], n.pkgName+" "+n.version), site})
	}
	for _, m := range p.manifests() {
		top := t.tops[m.dir]
		if top == nil {
			continue
		}
		for _, d := range m.dependencies {
			visit(top.resolve(d.name), nil, d.site)
		}
	}
	for len(queue) > 0 {
		s := queue[0]
		queue = queue[1:]
		for _, e := range s.n.edgeList {
			visit(s.n.get(e), s.via, s.site)
		}
	}
	return all
}
