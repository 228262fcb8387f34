package plan

import (
	"fmt"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/world"
)

// supported refuses what no ecosystem of the project honours that it is about, before anything is planned.
func (p *planner) supported(opt world.Request, wishes []world.Destination) error {
	for _, d := range wishes {
		place, name := model.Parted(d.Name)
		if place == "" {
			continue
		}
		for _, part := range p.tree.Parts {
			if part.Declares(d.Name) && !part.Eco.Supports().Places && len(part.Find(name)) > 1 {
				return &model.Fault{
					Doing: "reading the destination", Wrong: fmt.Sprintf("%s has one version in all places of %s", name, part.Manifest),
					Next: fmt.Sprintf("name it alone: --to %s@%s", name, d.Range),
				}
			}
		}
	}
	for _, of := range []struct {
		option string
		names  []string
	}{{"--do-without", opt.DoWithout}, {"--together", opt.Together}, {"--apart", opt.Apart}, {"--override", opt.Override}} {
		for _, name := range of.names {
			if place, bare := model.Parted(name); place != "" {
				return &model.Fault{
					Doing: "reading " + of.option, Wrong: name + " is one place of several, and " + of.option + " is about all of them",
					Next: "name it alone: " + bare,
				}
			}
		}
	}
	for _, name := range opt.Apart {
		apart := func(part *tree.Part) bool { return part.Declares(name) && part.Eco.Supports().Apart }
		if err := p.knownNames(nil, []string{name}); err != nil {
			return err
		}
		if !slices.ContainsFunc(p.tree.Parts, apart) {
			return &model.Fault{
				Doing: "reading --apart", Wrong: fmt.Sprintf("%s has one version in all places here, whatever asks for it", name),
				Next: "leave it out of --apart",
			}
		}
	}
	if opt.Dedupe && !p.some(func(s ecosystem.Support) bool { return s.Dedupe }) {
		return &model.Fault{
			Doing: "reading --dedupe", Wrong: "no component here can have more than one copy of a package", Next: "leave --dedupe out",
		}
	}
	return nil
}

// some tells whether an ecosystem of the project supports something.
func (p *planner) some(has func(s ecosystem.Support) bool) bool {
	return slices.ContainsFunc(p.tree.Parts, func(part *tree.Part) bool { return has(part.Eco.Supports()) })
}
