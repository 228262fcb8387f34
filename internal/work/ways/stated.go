package ways

import (
	"context"
	"fmt"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/world"
)

// readStated finds of what the conflict is about the requirements that take their version from elsewhere, and lets each state it
// itself.
func (f *finder) readStated(ctx context.Context) error {
	stater, ok := f.world.Registry.(ecosystem.Stater)
	if !ok {
		return nil
	}
	for _, name := range f.met {
		version, goesOn, err := stater.Stated(ctx, f.part.Component, name)
		if err != nil {
			return err
		}
		if version == "" {
			continue
		}
		change := contract.Change{Old: name, New: name, Range: version, Title: "have " + name + " state its version itself", Asked: true}
		x := relaxation{
			text: fmt.Sprintf("have %s state its version itself, %s as it is now", name, version), option: "--to " + name + "@" + version,
			cost: costState, tells: name,
			relax: func(g *contract.Goal) { g.Changes = append(g.Changes, change) },
			take:  func(o *world.Request, _ string) { o.To = append(o.To, name+"@"+version) },
		}
		if goesOn != "" {
			x.risk = fmt.Sprintf("%s %s says that it goes on as %s, which is better in the end", name, version, goesOn)
		}
		f.stating = append(f.stating, x)
	}
	return nil
}

// StatesItself is the change by which a requirement that takes its version from elsewhere states one itself, as a destination asks:
// the newest release in its range. It is nil for other requirements, and where no release is in the range.
func StatesItself(ctx context.Context, part *tree.Part, registry ecosystem.Registry, d world.Destination) (*contract.Change, error) {
	stater, ok := registry.(ecosystem.Stater)
	if !ok {
		return nil, nil
	}
	present, _, err := stater.Stated(ctx, part.Component, d.Name)
	if err != nil || present == "" {
		return nil, err
	}
	order := part.Eco.Order()
	to := ""
	if _, err := order.Parse(d.Range); err == nil {
		to = d.Range
	} else {
		rng, err := order.ParseRange(d.Range)
		if err != nil {
			return nil, err
		}
		subject, _ := part.SubjectOf(d.Name)
		all, err := registry.Releases(ctx, subject)
		if err != nil {
			return nil, err
		}
		var newest version.Version
		for _, r := range all {
			v, err := order.Parse(r.Version)
			if err == nil && rng.Contains(v) && !v.Preview() && (newest == nil || v.Compare(newest) > 0) {
				newest, to = v, r.Version
			}
		}
	}
	if to == "" {
		return nil, nil
	}
	return &contract.Change{
		Old: d.Name, New: d.Name, Range: to, Why: "asked for; it states its version itself from here on",
		Title: "have " + d.Name + " state its version itself", Asked: true, First: true,
	}, nil
}
