package ways

import (
	"fmt"
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/world"
)

// Without is the change that takes a requirement out of the manifests.
func Without(name string) contract.Change {
	return contract.Change{Old: name, Why: "to be done without", Title: "do without " + name, Asked: true}
}

// doWithout takes out a requirement that is in the way, where a manifest can be written and
// nothing else that is required wants to meet it; nil where that is not so.
func (f *finder) doWithout(s *route.Subject) *relaxation {
	if _, ok := f.part.Eco.(ecosystem.Rewriter); !ok {
		return nil
	}
	for _, other := range f.plan.Subjects {
		if other.Name != s.Name && other.PeersAt != nil && other.At != nil && slices.Contains(other.PeersAt(other.At), nameOf(s.Name)) {
			return nil
		}
	}
	name := nameOf(s.Name)
	x := &relaxation{
		text: "do without " + name, option: "--do-without " + name, cost: costDrop, tells: name, risk: f.imported(name),
		relax: func(g *contract.Goal) { g.Changes = append(g.Changes, Without(name)) },
		take:  func(o *world.Request, _ string) { o.DoWithout = append(o.DoWithout, name) },
	}
	if by := f.plan.Within[name]; by != "" {
		x.text, x.cost = fmt.Sprintf("do without %s: %s, which is required already, goes on with it", name, by), costWithin
	}
	return x
}

// imported says where the project's own files use a requirement.
func (f *finder) imported(name string) string {
	importer, ok := f.part.Eco.(ecosystem.Importer)
	if !ok {
		return "what imports it has to change"
	}
	places, err := importer.Imports(f.world.Files(), f.part.Component, name)
	switch {
	case err != nil:
		return "what imports it has to change"
	case len(places) == 0:
		return "no source file here imports it; configuration files were not looked at"
	case len(places) == 1:
		return "what imports it has to change: " + places[0].String()
	}
	return fmt.Sprintf("what imports it has to change: %s", few(places, 3))
}

// few names some places, and counts the rest.
func few(places []model.Site, most int) string {
	text := ""
	for i, at := range places {
		if i == most {
			return text + fmt.Sprintf(" and %d more", len(places)-most)
		}
		if i > 0 {
			text += ", "
		}
		text += at.String()
	}
	return text
}
