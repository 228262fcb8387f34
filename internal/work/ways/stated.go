package ways

import (
	"context"
	"fmt"

	"bellwether/internal/core/contract"
	"bellwether/internal/ecosystem"
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
