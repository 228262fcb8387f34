package plan

import (
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/spelling"
	"bellwether/internal/core/version"
	"bellwether/internal/work/settings"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/world"
)

// knownNames refuses names that no component requires.
func (p *planner) knownNames(wishes []world.Destination, holds []string) error {
	var known []string
	for _, part := range p.tree.Parts {
		for _, r := range part.Requirements {
			known = append(known, r.Name, r.Subject.String(), string(r.ID))
		}
		for _, w := range wishes {
			if p.shelf.Replaces(part, w.Name) != nil {
				known = append(known, w.Name)
			}
		}
	}
	check := func(doing, name string) error {
		if s, ok := model.ReadSubject(name); ok && s.IsPin() || slices.Contains(known, name) {
			return nil // a runtime or tool may be stated anywhere
		}
		return &model.Fault{
			Doing: doing, Wrong: fmt.Sprintf("no manifest of this project requires %q", name), Next: spelling.DidYouMean(name, known),
		}
	}
	for _, name := range holds {
		if err := check("reading what is to be held", name); err != nil {
			return err
		}
	}
	for _, w := range wishes {
		if err := check("reading the destination", w.Name); err != nil {
			return err
		}
	}
	return nil
}

// askedPreviews allows pre-releases of what a wish is about that only they meet:
// whoever names one asks for it. It gives the names.
func askedPreviews(plan *route.Plan) (names []string) {
	for _, w := range plan.Wishes {
		for _, s := range plan.Subjects {
			released := func(v version.Version) bool { return w.Range.Contains(v) && !v.Preview() }
			if s.Name == w.Name && !s.Previews && slices.ContainsFunc(s.Releases, w.Range.Contains) && !slices.ContainsFunc(s.Releases, released) {
				s.Previews = true
				names = append(names, s.Name)
			}
		}
	}
	plan.Previews = append(plan.Previews, names...)
	return names
}

// byLine lets a wish for a version that there is no release of by that name stand for the releases that begin with it: "8" for 8.0.6.
func byLine(plan *route.Plan) {
	for i, w := range plan.Wishes {
		text := w.Range.String()
		if _, err := plan.Order.Parse(text); err != nil {
			continue
		}
		for _, s := range plan.Subjects {
			begins := func(v version.Version) bool { return strings.HasPrefix(v.String(), text+".") }
			named := func(v version.Version) bool { return v.String() == text }
			if s.Name == w.Name && !slices.ContainsFunc(s.Releases, named) && slices.ContainsFunc(s.Releases, begins) {
				plan.Wishes[i].Range = beginning{w.Range, text + "."}
			}
		}
	}
}

// beginning is the releases whose names begin with a text.
type beginning struct {
	version.Range
	prefix string
}

// Contains tells whether a release is one of them.
func (r beginning) Contains(v version.Version) bool { return strings.HasPrefix(v.String(), r.prefix) }

// narrow takes wishes that nobody named to the lowest line that will do.
func narrow(plan *route.Plan) {
	for i, w := range plan.Wishes {
		for _, s := range plan.Subjects {
			if s.Name != w.Name || w.Because == "" {
				continue
			}
			at := slices.IndexFunc(s.Releases, func(v version.Version) bool { return w.Range.Contains(v) && !v.Preview() })
			if at >= 0 {
				plan.Wishes[i].Range = inLine{w.Range, s.Releases[at].Line()}
			}
		}
	}
}

// inLine is the part of a range that is in one line.
type inLine struct {
	version.Range
	line string
}

// Contains tells whether v is in the range and in the line.
func (r inLine) Contains(v version.Version) bool { return v.Line() == r.line && r.Range.Contains(v) }

// eachDeclared gives a wish about a name that is declared at several versions as one about each declaration. One about a
// single declaration counts before one about its name.
func eachDeclared(part *tree.Part, wishes []route.Wish) (all []route.Wish) {
	named := map[string]bool{}
	for _, w := range wishes {
		named[w.Name] = true
	}
	goal := contract.Goal{Bounds: map[string]contract.Bound{}}
	for name := range named {
		goal.Bounds[name] = contract.Bound{}
	}
	keys := goal.Keys()
	for _, w := range wishes {
		if place, _ := model.Parted(w.Name); place != "" {
			all = append(all, w)
			continue
		}
		told := map[string]bool{}
		for _, r := range part.Find(w.Name) {
			key := keys(r)
			if r.Fixed != "" || told[key] || key != w.Name && named[key] {
				continue
			}
			told[key] = true
			one := w
			one.Name = key
			all = append(all, one)
		}
		if len(told) == 0 {
			all = append(all, w)
		}
	}
	return all
}

// Immovable is the conflict of a wish about a requirement that has no version to move.
func Immovable(part *tree.Part, key, wish string) *solve.Conflict {
	found := part.Find(key)
	at := slices.IndexFunc(found, func(r model.Requirement) bool { return r.Fixed != "" })
	r := found[max(at, 0)]
	return solve.Refute(r.Name, wish, fmt.Sprintf("%s asks for %s, which has no version to move: %s", r.Site, r.Name, r.Fixed))
}

// checkWishes refuses a destination that has no release.
func checkWishes(part *tree.Part, plan *route.Plan) error {
	for _, wish := range plan.Wishes {
		for _, s := range plan.Subjects {
			if s.Name != wish.Name || slices.ContainsFunc(s.Releases, wish.Range.Contains) {
				continue
			}
			newest := "there are no releases"
			if n := len(s.Releases); n > 0 {
				newest = "the newest is " + s.Releases[n-1].String()
			}
			fault := &model.Fault{
				Doing: "reading --to " + wish.Text, Wrong: fmt.Sprintf("no release of %s is in the range %s; %s", s, wish.Range, newest),
			}
			_, name := model.Parted(wish.Name)
			fault.Next = "bellwether explain " + name + " lists the releases"
			for _, r := range slices.Backward(part.Find(wish.Name)) {
				fault.File, fault.Line = r.Site.File, r.Site.Line
			}
			return fault
		}
	}
	return nil
}

// familiesAsked are the families of --together, as the settings would have them.
func familiesAsked(lists []string) (families []settings.Family, err error) {
	for _, list := range lists {
		names := strings.Split(list, ",")
		if len(names) < 2 {
			return nil, &model.Fault{
				Doing: "reading --together", Wrong: fmt.Sprintf("%q is one name", list), Next: "write the names with commas between them",
			}
		}
		families = append(families, settings.Family{Names: names, Share: compat.ShareMajor})
	}
	return families, nil
}
