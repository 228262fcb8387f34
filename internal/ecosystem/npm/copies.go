package npm

import (
	"context"
	"path"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/npm/project"
	"bellwether/internal/ecosystem/npm/tree"
)

// Families are none: no package of npm's says what it is released with.
func (*registries) Families(context.Context, *model.Component) ([][]string, error) { return nil, nil }

// Copies are the copies of a package in the lock, and who asks for each.
func (*registries) Copies(_ context.Context, c *model.Component, name string) ([]model.LockedCopy, error) {
	p := c.Detail.(*project.Project)
	t := p.Locked()
	var copies []model.LockedCopy
	t.Walk(func(n *tree.Node) {
		if n.IsTop() || n.Name != name && n.Package != name {
			return
		}
		l := model.LockedCopy{Version: n.Target().Version, Where: path.Join(p.Dir, n.Loc)}
		for _, d := range t.Dependents[n.Name] {
			for _, e := range d.EdgeList {
				if e.Name == n.Name && d.Get(e) == n {
					l.Askers = append(l.Askers, p.Asker(t, d, e))
				}
			}
		}
		slices.Sort(l.Askers)
		copies = append(copies, l)
	})
	return copies, nil
}
