package plan

import (
	"fmt"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/world"
)

// readOverrides gives the overrides that are asked for, as far as a component can
// have them: those about what is in it.
func readOverrides(part *tree.Part, opt world.Request) ([]model.Override, error) {
	var all []model.Override
	for _, text := range opt.Override {
		of, name, ok := strings.Cut(text, ":")
		if !ok || of == "" || name == "" {
			return nil, &model.Fault{
				Doing: "reading --override " + text, Wrong: "it is not OF:NAME or OF:NAME@RANGE",
				Next: "write which package is to get what: --override tide-form:quayside",
			}
		}
		o := model.Override{Of: of, Name: name, Because: "asked for"}
		if at := strings.LastIndex(name, "@"); at > 0 {
			o.Name, o.Range = name[:at], name[at+1:]
			if _, err := part.Eco.Order().ParseRange(o.Range); err != nil {
				return nil, &model.Fault{Doing: "reading --override " + text, Wrong: err.Error()}
			}
		}
		if part.CanOverride() && part.Has(of) {
			all = append(all, o)
		}
	}
	for _, o := range opt.Dropped {
		if o.Component == part.Dir {
			all = append(all, o.Override)
		}
	}
	return all, nil
}

// knownOverrides refuses overrides for packages that no component has which could
// have one.
func (p *planner) knownOverrides(opt world.Request) error {
	for _, text := range opt.Override {
		of, _, _ := strings.Cut(text, ":")
		var names []string
		found := false
		for _, part := range p.tree.Parts {
			if part.CanOverride() {
				found = found || part.Has(of)
				for _, r := range part.Requirements {
					names = append(names, r.Name)
				}
			}
		}
		if !found {
			return &model.Fault{
				Doing: "reading --override " + text, Wrong: fmt.Sprintf("no component whose manifest can have overrides has the package %q", of),
				Next: spelling.DidYouMean(of, names),
			}
		}
	}
	return nil
}
