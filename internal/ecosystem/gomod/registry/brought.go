package registry

import (
	"context"
	"slices"

	"golang.org/x/mod/module"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/gomod/project"
	"bellwether/internal/ecosystem/gomod/selection"
)

// Brought are the modules that a module is built with, each with the modules that bring it by the shortest way from what go.mod
// requires for the module itself. From Go 1.17 on these are those that go.mod lists, since it lists all that packages come from; before,
// all that are selected.
func (r *Registry) Brought(ctx context.Context, c *model.Component) ([]model.Package, error) {
	p := c.Detail.(*project.Project)
	pruned := selection.Prunes(p.GoVersion())
	g, err := selection.Load(ctx, p.Path(), p.Roots(), pruned, r.Summarizer(p))
	if err != nil {
		return nil, err
	}
	by := map[string]model.Requirement{}
	var queue []module.Version
	way := map[string][]string{} // to each module, those that bring it
	for _, q := range c.Requirements {
		if q.Subject == project.RuntimeGo {
			continue
		}
		by[q.Name] = q
		if !q.Asked {
			queue = append(queue, module.Version{Path: q.Name, Version: g.Selected[q.Name]})
			way[q.Name] = []string{}
		}
	}
	for ; len(queue) > 0; queue = queue[1:] {
		m := queue[0]
		for _, q := range g.Requires[m] {
			if _, known := way[q.Path]; known || g.Selected[q.Path] == "" || q.Path == "go" || q.Path == "toolchain" {
				continue
			}
			way[q.Path] = append(slices.Clone(way[m.Path]), m.Path+" "+m.Version)
			queue = append(queue, module.Version{Path: q.Path, Version: g.Selected[q.Path]})
		}
	}
	var all []model.Package
	for _, m := range g.BuildList() {
		q, listed := by[m.Path]
		if pruned && !listed || m.Path == p.Path() {
			continue
		}
		all = append(all, model.Package{
			Subject: model.Subject{Kind: project.Name, Name: m.Path}, Version: m.Version, Site: q.Site, Via: way[m.Path],
		})
	}
	return all, nil
}
