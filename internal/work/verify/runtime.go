package verify

import (
	"context"
	"fmt"
	"path"
	"path/filepath"
	"slices"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/pin"
	"bellwether/internal/host/machine"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/tree"
)

// running are the runtimes that the stages of a component run with.
type running struct {
	runtimes []finding.Runtime
	first    []string // folders whose programs come before those of the PATH
	env      []string
}

// runWith chooses the runtimes for a component: what a bare command starts, unless the places state another one and a folder
// of a version manager has that.
func runWith(ctx context.Context, d *desk.Desk, t *tree.Tree, part *tree.Part) (*running, error) {
	places, err := t.Places()
	if err != nil {
		return nil, err
	}
	r := &running{}
	for _, command := range part.Eco.Tools() {
		subject, ok := machine.Runtime(command[0])
		if !ok {
			continue
		}
		var pins []model.Pin
		for _, q := range places.Of(subject) {
			if counts(t, q, part.Dir) {
				pins = append(pins, q)
			}
		}
		chosen, folder := choose(ctx, d, subject, command, pins)
		if chosen == nil {
			continue
		}
		chosen.Component = part.ID
		r.runtimes = append(r.runtimes, *chosen)
		if folder == "" {
			continue
		}
		r.first = append(r.first, folder)
		if subject.Name == "java" {
			r.env = append(r.env, "JAVA_HOME="+chosen.Where)
		}
	}
	return r, nil
}

// choose gives the version that a component is to run with, nil where none is known, and the folder that its programs lie in,
// "" for what the PATH has.
func choose(ctx context.Context, d *desk.Desk, s model.Subject, command []string, pins []model.Pin) (*finding.Runtime, string) {
	var bare *finding.Runtime
	for _, i := range d.Machine().Versions(ctx, s) {
		v, err := version.Plain{}.Parse(i.Version)
		if err != nil {
			continue
		}
		r := &finding.Runtime{Name: s.String(), Version: i.Version, Where: i.Where, Other: otherwise(pins, v, machine.Line(s))}
		if i.Where == "" {
			if bare = r; len(r.Other) == 0 {
				break
			}
			continue
		}
		folder := i.Folder(command[0])
		if len(r.Other) > 0 || folder == "" {
			continue
		}
		if _, err := d.Ask(ctx, append([]string{filepath.Join(folder, command[0])}, command[1:]...)...); err == nil {
			return r, folder
		}
	}
	return bare, ""
}

// otherwise are the places that state another version than the one that runs. Of a list it is enough that one entry has it.
func otherwise(pins []model.Pin, v version.Version, line int) (other []string) {
	for i, q := range pins {
		listed := func(o model.Pin) bool {
			return o.List != nil && o.Site.File == q.Site.File && o.List.Start == q.List.Start
		}
		switch {
		case pin.Admits(q, v, line):
		case q.List != nil && slices.ContainsFunc(pins, func(o model.Pin) bool { return listed(o) && pin.Admits(o, v, line) }):
		case q.List != nil && slices.ContainsFunc(pins[:i], listed): // told with the first of it
		default:
			other = append(other, fmt.Sprintf("%s (%s)", q.Site.Text, q.Site))
		}
	}
	return other
}

// counts tells whether a place counts for a component: it stands around it or in it, and not in another one there.
func counts(t *tree.Tree, q model.Pin, dir string) bool {
	if inside(dir, path.Dir(q.Site.File)) {
		return true
	}
	return inside(q.Site.File, dir) && !slices.ContainsFunc(t.Parts, func(o *tree.Part) bool {
		return o.Dir != dir && inside(o.Dir, dir) && inside(q.Site.File, o.Dir)
	})
}

// Apart are the reasons why a runtime did not run as files state it, as sentences.
func Apart(runtimes []finding.Runtime, s model.Subject) (all []string) {
	for _, r := range runtimes {
		if len(r.Other) == 0 || r.Name != s.String() {
			continue
		}
		if text := fmt.Sprintf("%s %s is not what runs here: %s is", r.Name, r.Other[0], r.Version); !slices.Contains(all, text) {
			all = append(all, text)
		}
	}
	return all
}

// Runtimes are those that the stages of a project would run with.
func Runtimes(ctx context.Context, d *desk.Desk, t *tree.Tree) (all []finding.Runtime, err error) {
	for _, part := range t.Parts {
		with, err := runWith(ctx, d, t, part)
		if err != nil {
			return nil, err
		}
		all = append(all, with.runtimes...)
	}
	return all, nil
}
