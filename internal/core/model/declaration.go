package model

import (
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/condition"
)

// DeclarationID tells a declaration of a component from all others: its place and the name that it declares,
// "decks/package.json::hawser". The place is a file and, where that is not enough, what in it holds the declaration and when it
// counts: "pom.xml#dependencyManagement", "pom.xml#profile==old". It stays the same while versions change.
type DeclarationID string

// between stands between the place and the name of a declaration. No ecosystem has it in its names.
const between = "::"

// Declaration is the ID of what is declared under a name at a place.
func Declaration(place, name string) DeclarationID {
	return DeclarationID(strings.ReplaceAll(place, between, ":") + between + name)
}

// Parted splits a key into the place and the name of a declaration. The place is empty for a key that is a name alone,
// which means all declarations of that name.
func Parted(key string) (place, name string) {
	if place, name, ok := strings.Cut(key, between); ok {
		return place, name
	}
	return "", key
}

// Spoken is a key in sentences: "hawser", "hawser in decks/package.json".
func Spoken(key string) string {
	place, name := Parted(key)
	if place == "" {
		return name
	}
	return name + " in " + place
}

// Key is how goals, moves and routes speak of a declaration: by its name, or by its ID where others of that name are at
// other versions.
func (r Requirement) Key() string {
	if r.Apart {
		return string(r.ID)
	}
	return r.Name
}

// Identify gives each requirement that its reader gave no ID one of its own, and finds out which names are declared at
// several versions. Whoever reads a component calls it.
func (c *Component) Identify() {
	type spot struct{ name, file string }
	groups, whens := map[spot]map[string]bool{}, map[spot]map[string]bool{}
	note := func(of map[spot]map[string]bool, at spot, text string) {
		if of[at] == nil {
			of[at] = map[string]bool{}
		}
		of[at][text] = true
	}
	for _, r := range c.Requirements {
		at := spot{r.Name, r.Site.File}
		note(groups, at, r.Group)
		note(whens, at, condition.Text(r.When))
	}
	taken, version, apart := map[DeclarationID]int{}, map[string]string{}, map[string]bool{}
	for i := range c.Requirements {
		r := &c.Requirements[i]
		if r.ID == "" {
			place, at := r.Site.File, spot{r.Name, r.Site.File}
			if len(groups[at]) > 1 && r.Group != "" {
				place += "#" + r.Group
			}
			if len(whens[at]) > 1 && r.When != nil {
				place += "#" + strings.ReplaceAll(condition.Text(r.When), " ", "")
			}
			r.ID = Declaration(place, r.Name)
			if taken[r.ID]++; taken[r.ID] > 1 {
				r.ID = Declaration(fmt.Sprintf("%s#%d", place, taken[r.ID]), r.Name)
			}
		}
		if r.Locked == "" || r.Fixed != "" {
			continue
		}
		if v, known := version[r.Name]; known && v != r.Locked {
			apart[r.Name] = true
		}
		version[r.Name] = r.Locked
	}
	for i := range c.Requirements {
		r := &c.Requirements[i]
		r.Apart = apart[r.Name] && r.Fixed == ""
	}
}

// Find gives the declarations that a key speaks of: one by its ID, or all of a name.
func (c *Component) Find(key string) []Requirement {
	var found []Requirement
	place, _ := Parted(key)
	for _, r := range c.Requirements {
		if place == "" && r.Name == key || place != "" && string(r.ID) == key {
			found = append(found, r)
		}
	}
	return found
}

// Declares tells whether a key speaks of anything that the component declares.
func (c *Component) Declares(key string) bool {
	return slices.ContainsFunc(c.Requirements, func(r Requirement) bool { return r.Name == key || string(r.ID) == key })
}

// SubjectOf is the subject of the declarations that a key speaks of; ok is false where there are none.
func (c *Component) SubjectOf(key string) (s Subject, ok bool) {
	for _, r := range c.Requirements {
		if r.Name == key || string(r.ID) == key {
			return r.Subject, true
		}
	}
	return Subject{}, false
}

// LockedAt is the version in effect of the declarations that a key speaks of, and of each of them one by one where they
// are at several: "1.7.30, 2.0.7". It is empty where none has one.
func (c *Component) LockedAt(key string) string {
	var all []string
	for _, r := range c.Find(key) {
		if r.Locked != "" && !slices.Contains(all, r.Locked) {
			all = append(all, r.Locked)
		}
	}
	return strings.Join(all, ", ")
}
