package verify

import (
	"cmp"
	"slices"
	"strings"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/version"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/tree"
)

// Differences are the versions at work that are not those that the legs so far lead
// to: of what is installed, and of what the started program tells. Route is nil for none.
func Differences(t *tree.Tree, r *kept.Route, j *kept.Journey, v *finding.Verification) []finding.Difference {
	if r == nil {
		return nil
	}
	wanted := wanted(r, j)
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
	return all
}

// wanted are the versions that the legs which were carried out lead to, by component and name.
func wanted(r *kept.Route, j *kept.Journey) map[[2]string]string {
	packages := map[[2]string]string{}
	for i := range r.Legs {
		l := &r.Legs[i]
		if j.Find(l.ID) == nil {
			continue
		}
		for _, m := range l.Moves {
			if _, isPin := m.Pin(); isPin {
				continue
			}
			delete(packages, [2]string{l.Component, m.Name})
			if !slices.Contains(l.Apart, m.Name) && m.To != "" && m.Place == "" { // of one place of several nobody tells what it gets
				packages[[2]string{l.Component, cmp.Or(m.Becomes, m.Name)}] = m.To
			}
		}
	}
	return packages
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
