package verify

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/tree"
)

// Differences are the versions at work that are not those that the legs so far lead
// to: of what is installed, of what the started program tells, and of runtimes
// and tools as they run here. Route is nil for none.
func Differences(
	ctx context.Context, d *desk.Desk, t *tree.Tree, r *kept.Route, j *kept.Journey, v *finding.Verification,
) []finding.Difference {
	if r == nil {
		return nil
	}
	wanted, pins := wanted(r, j)
	var all []finding.Difference
	for _, e := range v.Effect {
		part := t.Part(e.Component)
		if part == nil {
			continue
		}
		name := e.Name
		for _, r := range part.Requirements {
			if r.Subject.String() == e.Name {
				name = r.Name
			}
		}
		to, known := wanted[[2]string{e.Component, name}]
		if known && !sameVersion(part.Eco.Order(), to, e.Version) {
			all = append(all, finding.Difference{Effect: e, Wanted: to})
		}
	}
	for _, m := range pins {
		wants, err := compat.ReadWants(m.Wants)
		if err != nil || len(m.Wants) == 0 {
			continue
		}
		for _, i := range d.Machine().Versions(ctx, m.Subject) {
			at, err := version.Plain{}.Parse(i.Version)
			if err == nil && i.Where == "" && !wants.Hold(at) {
				all = append(all, finding.Difference{
					Effect: finding.Effect{Component: ".", Name: m.Name, Version: i.Version, Where: "as it runs here"}, Wanted: strings.Join(m.Wants, " "),
				})
			}
			break // the first is what a bare command starts
		}
	}
	return all
}

// wanted are the versions that the legs which were carried out lead to, by component
// and name, and the moves of runtimes and the like among them.
func wanted(r *kept.Route, j *kept.Journey) (packages map[[2]string]string, pins []model.Move) {
	packages = map[[2]string]string{}
	for i := range r.Legs {
		l := &r.Legs[i]
		if j.Find(l.ID) == nil {
			continue
		}
		for _, m := range l.Moves {
			if _, isPin := m.Pin(); isPin {
				pins = slices.DeleteFunc(pins, func(o model.Move) bool { return o.Name == m.Name })
				pins = append(pins, m)
				continue
			}
			delete(packages, [2]string{l.Component, m.Name})
			if !slices.Contains(l.Apart, m.Name) && m.To != "" && m.Place == "" { // of one place of several nobody tells what it gets
				packages[[2]string{l.Component, cmp.Or(m.Becomes, m.Name)}] = m.To
			}
		}
	}
	return packages, pins
}

// sameVersion compares versions as they are told: with a "v" or without.
func sameVersion(order version.Order, a, b string) bool {
	a, b = strings.TrimPrefix(a, "v"), strings.TrimPrefix(b, "v")
	if a == b {
		return true
	}
	va, errA := order.Parse(a)
	vb, errB := order.Parse(b)
	return errA == nil && errB == nil && va.Compare(vb) == 0
}
