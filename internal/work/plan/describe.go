package plan

import (
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/route"
	"bellwether/internal/core/version"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/world"
)

// descriptions lets packages that describe others move with them, and never ahead of them.
func (b *bookApplier) descriptions() {
	for _, t := range b.plan.Subjects {
		of, ok := world.Describes(b.part, t.Name)
		at := slices.IndexFunc(b.plan.Subjects, func(s *route.Subject) bool { return ok && !of.IsPin() && s.Name == of.Name })
		if at < 0 {
			continue
		}
		s := b.plan.Subjects[at]
		if !slices.Contains(s.Family, t.Name) {
			s.Family = append(s.Family, t.Name)
		}
		for i, line := range t.Releases {
			first := slices.IndexFunc(s.Releases, func(v version.Version) bool { return v.Line() == line.Line() })
			if first < 0 || i > 0 && t.Releases[i-1].Line() == line.Line() {
				continue
			}
			begins := s.Releases[first]
			ahead := func(v version.Version) bool { return v.Line() == line.Line() }
			before := func(v version.Version) bool { return v.Compare(begins) < 0 }
			b.put(route.Rule{
				Why:   fmt.Sprintf("%s %s describes %s %s", t.Name, line.Line(), s.Name, line.Line()),
				Terms: []route.Term{{Name: s.Name, In: before}, {Name: t.Name, In: ahead}},
			}, s.At != nil && t.At != nil && before(s.At) && ahead(t.At))
		}
	}
}

// beyondRuntime says why nobody should move to a description of a runtime that is for a newer
// one than files state; "" where that is not so.
func beyondRuntime(part *tree.Part, places *tree.Places, name string, v version.Version) string {
	of, ok := world.Describes(part, name)
	if !ok || !of.IsPin() || places == nil {
		return ""
	}
	stated := places.Stated(of)
	if stated == nil {
		return ""
	}
	if major, _, _ := strings.Cut(stated.String(), "."); version.CompareStated(v.Line(), major) > 0 {
		return fmt.Sprintf("it describes %s %s, and files state %s", of.Name, v.Line(), stated)
	}
	return ""
}
