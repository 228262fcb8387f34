package need

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
	"bellwether/internal/core/version"
	"bellwether/internal/host/machine"
	"bellwether/internal/work/world"
)

// follow are the packages that describe a runtime which was asked for, and that are older than it.
func (w *prerequisites) follow() (list []world.Destination) {
	for _, part := range w.along.Start.Parts {
		for _, r := range part.Requirements {
			of, _ := world.Describes(part, r.Name)
			to, moved := w.moved[of]
			if !moved {
				continue
			}
			at, err := part.Eco.Order().Parse(part.LockedAt(r.Name))
			if err != nil || r.Fixed != "" || version.CompareStated(at.String(), to.Line()) >= 0 || w.names(r.Name) {
				continue
			}
			list = append(list, world.Destination{
				Name: r.Name, Range: to.Line(), Text: r.Name + "@" + to.Line(), Because: fmt.Sprintf("describes %s %s", of, to), Follows: true,
			})
		}
	}
	return list
}

// tellBuilt tells of packages that run something when they are installed: they are built for one runtime, and may have nothing for
// another one yet.
func (w *prerequisites) tellBuilt(ctx context.Context, runtime model.Subject, to version.Version) error {
	var built []string
	for _, part := range w.along.Start.Parts {
		if !slices.ContainsFunc(part.Eco.Tools(), func(command []string) bool { return command[0] == machine.Program(runtime) }) {
			continue
		}
		packages, err := w.Desk.EffectiveIn(ctx, part)
		if err != nil {
			return err
		}
		for _, p := range packages {
			if text := p.Subject.Name + " " + p.Version; p.Builds && !slices.Contains(built, text) {
				built = append(built, text)
			}
		}
	}
	if len(built) > 0 {
		slices.Sort(built)
		w.notices = append(w.notices, fmt.Sprintf(
			"built or set up when they are installed, so that they may have nothing for %s %s yet: %s", runtime, to, spelling.Few(built, 8),
		))
	}
	return nil
}

// names tells whether a request says itself where a package is to be.
func (w *prerequisites) names(name string) bool {
	return slices.Contains(w.Hold, name) || slices.Contains(w.request.DoWithout, name) ||
		slices.ContainsFunc(w.request.To, func(text string) bool { return strings.HasPrefix(text, name+"@") })
}
