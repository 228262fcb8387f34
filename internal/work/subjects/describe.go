package subjects

import (
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/version"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/world"
)

// descriptions lets packages that describe others move with them, and never ahead of them.
func (b *bookApplier) descriptions() {
	done := map[string]bool{}
	for _, t := range b.plan.Subjects {
		name := nameOf(t)
		of, ok := world.Describes(b.part, name)
		if !ok || of.IsPin() || done[name] {
			continue
		}
		done[name] = true
		described := b.named(of.Name)
		if len(described) == 0 {
			continue
		}
		for _, s := range described {
			if !slices.Contains(s.Family, name) {
				s.Family = append(s.Family, name)
			}
		}
		s := described[0]
		for i, line := range t.Releases {
			first := slices.IndexFunc(s.Releases, func(v version.Version) bool { return v.Line() == line.Line() })
			if first < 0 || i > 0 && t.Releases[i-1].Line() == line.Line() {
				continue
			}
			begins := s.Releases[first]
			ahead := func(v version.Version) bool { return v.Line() == line.Line() }
			before := func(v version.Version) bool { return v.Compare(begins) < 0 }
			b.put(contract.Rule{
				Why:   fmt.Sprintf("%s %s describes %s %s", name, line.Line(), of.Name, line.Line()),
				Terms: []contract.Term{{Name: of.Name, In: before}, {Name: name, In: ahead}},
			})
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
