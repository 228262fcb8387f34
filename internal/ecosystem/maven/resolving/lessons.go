package resolving

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/flat"
	"bellwether/internal/core/mediate"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/mavenrepo"
)

// maxLessons is how many times trees may show that releases do not go together, before that is told as it is.
const maxLessons = 60

// lesson is that releases which the project states do not go together: below them, no version of a package does what all ask for.
type lesson struct {
	parts []mediate.Module
	why   string
	// minor is that all releases of the only part's minor version are meant, as far as anybody knows.
	minor bool
	// over is a version above whose minor no release of the only part goes with the rest; empty where the part's own version is meant.
	over string
}

// about tells whether a lesson is about a release.
func (l lesson) about(name, release string) bool {
	if l.minor {
		return l.parts[0].Name == name && sameMinor(release, l.parts[0].Version)
	}
	if l.over != "" {
		return l.parts[0].Name == name && mavenrepo.Compare(release, l.over) > 0 && !sameMinor(release, l.over)
	}
	return slices.Contains(l.parts, mediate.Module{Name: name, Version: release})
}

// errLearned is that a lesson was taken, and the state is to be sought anew.
var errLearned = errors.New("a lesson was learned")

// learn takes the lesson of a conflict in a tree; false where there is none to take.
func (x *index) learn(c *mediate.Conflict) bool {
	l := x.lessonOf(c)
	return len(l.parts) > 0 && x.take(l)
}

// take remembers a lesson; false where enough was learned, or where it is known.
func (x *index) take(l lesson) bool {
	known := func(o lesson) bool { return o.minor == l.minor && o.over == l.over && slices.Equal(o.parts, l.parts) }
	if len(x.lessons) >= maxLessons || slices.ContainsFunc(x.lessons, known) {
		return false
	}
	x.lessons = append(slices.Clip(x.lessons), l)
	return true
}

// lessonOf is what a conflict in a tree teaches, without parts where nothing that can move has part in it.
func (x *index) lessonOf(c *mediate.Conflict) (l lesson) {
	var asks []string
	for _, s := range c.Asked {
		asks = append(asks, s.By()+" asks for "+s.Wants)
		way := s.Way.Modules()
		if len(way) < 2 || !x.component.Declares(way[1].Name) || slices.Contains(l.parts, way[1]) {
			continue
		}
		l.parts = append(l.parts, way[1])
	}
	l.why = fmt.Sprintf("of %s, %s", c.Name, strings.Join(asks, ", and "))
	if c.Why != "" {
		l.why += ", and " + c.Why
	}
	return l
}

// learned are the needs that lessons make of a release: one of the others is another one.
func (x index) learned(k flat.Key, release string) (needs []flat.Need) {
	for _, l := range x.lessons {
		whole := l.over != "" || l.minor
		if !l.about(k.Name, release) || whole && x.present.gets[k.Name] == release { // what is there may stay
			continue
		}
		need := flat.Need{Sense: flat.IfPresent, About: k.Name}
		var others []string
		for _, part := range l.parts {
			if part.Name == k.Name {
				continue
			}
			others = append(others, part.Name+" other than "+part.Version)
			for _, q := range x.component.Find(part.Name) {
				if q.Fixed == "" {
					need.Options = append(need.Options, flat.Option{
						Key: x.key(q), Allows: func(v version.Version) bool { return v.String() != part.Version },
					})
				}
			}
		}
		switch {
		case whole:
			need.Text = l.why
		case len(others) == 0:
			need.Text = "what cannot be had: " + l.why
		default:
			need.Text = strings.Join(others, ", or ") + " (" + l.why + ")"
		}
		if len(need.Options) == 0 {
			need.Sense = 0
		}
		needs = append(needs, need)
	}
	return needs
}
