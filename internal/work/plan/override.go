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
		o, err := readOverride(text)
		if err != nil {
			return nil, err
		}
		if o.Range != "" {
			if _, err := part.Eco.Order().ParseRange(o.Range); err != nil {
				return nil, &model.Fault{Doing: "reading --override " + text, Wrong: err.Error()}
			}
		}
		if overridable(part, o) {
			all = append(all, o)
		}
	}
	for _, o := range opt.Dropped {
		if o.Component == part.ID {
			all = append(all, o.Override)
		}
	}
	return all, nil
}

// readOverride reads OF:NAME, OF:NAME@RANGE, or NAME@RANGE for all packages.
func readOverride(text string) (o model.Override, err error) {
	of, name, one := strings.Cut(text, ":")
	if !one {
		of, name = "", text
	}
	o = model.Override{Of: of, Name: name, Because: "asked for"}
	if at := strings.LastIndex(name, "@"); at > 0 {
		o.Name, o.Range = name[:at], name[at+1:]
	}
	if one && of == "" || o.Name == "" || !one && o.Range == "" {
		return o, &model.Fault{
			Doing: "reading --override " + text, Wrong: "it is not OF:NAME, OF:NAME@RANGE or NAME@RANGE",
			Next: "write which package is to get what: --override tide-form:quayside",
		}
	}
	return o, nil
}

// overridable tells whether a component can have an override, and has what it is about.
func overridable(part *tree.Part, o model.Override) bool {
	if o.Of == "" {
		return part.Eco.Supports().Everywhere && part.Has(o.Name)
	}
	return part.CanOverride() && part.Has(o.Of)
}

// knownOverrides refuses overrides that no component can have, or that are about what none has.
func (p *planner) knownOverrides(opt world.Request) error {
	for _, text := range opt.Override {
		o, err := readOverride(text)
		if err != nil {
			return err
		}
		about := o.Of
		if about == "" {
			about = o.Name
		}
		var names []string
		found := false
		for _, part := range p.tree.Parts {
			found = found || overridable(part, o)
			for _, r := range part.Requirements {
				names = append(names, r.Name)
			}
		}
		if !found {
			return &model.Fault{
				Doing: "reading --override " + text, Next: spelling.DidYouMean(about, names),
				Wrong: fmt.Sprintf("no component whose manifest can have such an override has the package %q", about),
			}
		}
	}
	return nil
}
