package npm

import (
	"context"
	"fmt"
	"path"
	"slices"

	"bellwether/internal/core/model"
)

// Families are none: no package of npm's says what it is released with.
func (r *registry) Families(context.Context, *model.Component) ([][]string, error) { return nil, nil }

// Copies are the copies of a package in the lock, and who asks for each.
func (r *registry) Copies(_ context.Context, c *model.Component, name string) ([]model.LockedCopy, error) {
	p := c.Detail.(*project)
	t := p.locked()
	var copies []model.LockedCopy
	t.walk(func(n *node) {
		if n.isTop() || n.name != name && n.pkgName != name {
			return
		}
		l := model.LockedCopy{Version: n.target().version, Where: path.Join(p.dir, n.loc)}
		for _, d := range t.dependents[n.name] {
			for _, e := range d.edgeList {
				if e.name == n.name && d.get(e) == n {
					l.Askers = append(l.Askers, p.asker(t, d, e))
				}
			}
		}
		slices.Sort(l.Askers)
		copies = append(copies, l)
	})
	return copies, nil
}

// asker says who asks for an edge, with the place for a manifest.
func (p *project) asker(t *tree, d *node, e edge) string {
	if !d.isTop() {
		text := fmt.Sprintf("%s %s needs %s", d.pkgName, d.version, shown(e.spec.text))
		if e.kind.peer() {
			text += " as a peer"
		}
		return text
	}
	for _, m := range p.manifests() {
		if t.tops[m.dir] != d {
			continue
		}
		for _, dep := range m.dependencies {
			if dep.name == e.name {
				return fmt.Sprintf("%s asks for %s", dep.site, shown(e.spec.text))
			}
		}
	}
	return d.loc
}
