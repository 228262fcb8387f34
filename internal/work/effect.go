package work

import (
	"context"
	"slices"
	"strings"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/finding"
	"bellwether/internal/core/version"
)

// differences are the versions at work that are not those that the legs so far lead
// to: of what is installed, of what the started program tells, and of runtimes
// and tools as they run here.
func (p *Project) differences(ctx context.Context, j *journey, v *finding.Verification) ([]finding.Difference, error) {
	file, err := p.readRoute(ctx)
	if err != nil || file == nil {
		return nil, err
	}
	wanted, pins := file.wanted(j)
	var all []finding.Difference
	for _, e := range v.Effect {
		part := p.partIn(e.Component)
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
		if known && !sameVersion(part.eco.Order(), to, e.Version) {
			all = append(all, finding.Difference{Effect: e, Wanted: to})
		}
	}
	for _, m := range pins {
		subject, _ := m.pin()
		wants, err := compat.ReadWants(m.Needs)
		if err != nil || len(m.Needs) == 0 {
			continue
		}
		for _, i := range p.machine().Versions(ctx, subject) {
			at, err := version.Plain{}.Parse(i.Version)
			if err == nil && i.Where == "" && !wants.Hold(at) {
				all = append(all, finding.Difference{Effect: finding.Effect{Component: ".", Name: m.Name, Version: i.Version, Where: "as it runs here"}, Wanted: strings.Join(m.Needs, " ")})
			}
			break // the first is what a bare command starts
		}
	}
	return all, nil
}

// wanted are the versions that the legs which were carried out lead to, by component
// and name, and the moves of runtimes and the like among them.
func (f *routeFile) wanted(j *journey) (packages map[[2]string]string, pins []fileMove) {
	packages = map[[2]string]string{}
	for i := range f.Legs {
		l := &f.Legs[i]
		if j.find(l.ID) == nil {
			continue
		}
		for _, m := range l.Moves {
			if _, isPin := m.pin(); isPin {
				pins = slices.DeleteFunc(pins, func(o fileMove) bool { return o.Name == m.Name })
				pins = append(pins, m)
				continue
			}
			delete(packages, [2]string{l.Component, m.Name})
			if !slices.Contains(l.Apart, m.Name) && m.To != "" {
				packages[[2]string{l.Component, cmpOr(m.Becomes, m.Name)}] = m.To
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
