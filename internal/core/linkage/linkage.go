// Package linkage tells what the archives of a class path refer to that was there before a change and
// that nothing provides after it: a renamed package, a class or a member that is gone. It works on small
// summaries, whatever the format of the archives is. What was missing before is no news.
package linkage

import (
	"cmp"
	"slices"
	"strings"
)

// Archive is a part of a class path.
type Archive struct {
	Name  string // what people call it: "pier:report-kit 2.9"
	Units []Unit
}

// Unit is a class, or what is like it.
type Unit struct {
	Name  string   // "old/servlet/Filter"
	Bases []string // what it inherits members from
	Has   []string // the members that it declares, by name and signature: "open(I)V"
	Uses  []string // other units that it refers to
	Calls []Call   // members of others that it refers to
}

// Call is a member of another unit.
type Call struct{ Owner, Member string }

// Missing is something that an archive refers to, and that nothing provides any more.
type Missing struct {
	By     string   // the archive
	What   string   // the unit, or its member behind a dot
	Was    string   // the archive that had it before
	Places []string // the units that refer to it, sorted
}

// Runtime is what the archives run on.
type Runtime interface {
	// Provides tells of units that are there whatever the archives are.
	Provides(unit string) bool
	// Has tells whether such a unit has a member; known is false where that is not known.
	Has(unit, member string) (has, known bool)
}

// Find gives what is missing after a change and was not before, sorted by who misses it and what.
func Find(before, after []Archive, runtime Runtime) []Missing {
	was, is := newPath(before, runtime), newPath(after, runtime)
	found := map[[2]string]*Missing{}
	miss := func(by, what, unit string, had *provided) {
		key := [2]string{by, what}
		if found[key] == nil {
			found[key] = &Missing{By: by, What: what, Was: had.archive}
		}
		if m := found[key]; !slices.Contains(m.Places, unit) {
			m.Places = append(m.Places, unit)
		}
	}
	for _, a := range after {
		for i := range a.Units {
			u := &a.Units[i]
			if is.units[u.Name].unit != u {
				continue // another archive comes before it
			}
			for _, name := range u.Uses {
				if had := was.units[name]; had != nil && is.units[name] == nil && !runtime.Provides(name) {
					miss(a.Name, name, u.Name, had)
				}
			}
			for _, c := range u.Calls {
				if at := is.units[c.Owner]; at != nil && at.archive == a.Name {
					continue // what was compiled together fits together, also where it is private
				}
				if had := was.units[c.Owner]; had != nil && is.units[c.Owner] != nil && was.has(c) == yes && is.has(c) == no {
					miss(a.Name, c.Owner+"."+c.Member, u.Name, had)
				}
			}
		}
	}
	var all []Missing
	for _, m := range found {
		slices.Sort(m.Places)
		all = append(all, *m)
	}
	slices.SortFunc(all, func(a, b Missing) int { return cmp.Or(strings.Compare(a.By, b.By), strings.Compare(a.What, b.What)) })
	return all
}

// Refers tells whether any of some units refers to what is missing, a unit or its member behind a dot.
func Refers(units []Unit, what string) bool {
	return slices.ContainsFunc(units, func(u Unit) bool {
		return slices.Contains(u.Uses, what) ||
			slices.ContainsFunc(u.Calls, func(c Call) bool { return c.Owner == what || c.Owner+"."+c.Member == what })
	})
}

// provided is a unit with the archive that provides it: the first that has it.
type provided struct {
	archive string
	unit    *Unit
}

// path is a class path, by its units.
type path struct {
	units   map[string]*provided
	runtime Runtime
}

func newPath(archives []Archive, runtime Runtime) path {
	p := path{map[string]*provided{}, runtime}
	for _, a := range archives {
		for i := range a.Units {
			if u := &a.Units[i]; p.units[u.Name] == nil {
				p.units[u.Name] = &provided{a.Name, u}
			}
		}
	}
	return p
}

// answer is whether a member is there.
type answer int

const (
	no answer = iota
	yes
	unknown // something that it may be inherited from is not known
)

// has tells whether a member is there, in its owner or in what that inherits from.
func (p path) has(c Call) answer {
	result := no
	seen := map[string]bool{}
	queue := []string{c.Owner}
	for len(queue) > 0 {
		name := queue[0]
		queue = queue[1:]
		if seen[name] {
			continue
		}
		seen[name] = true
		at := p.units[name]
		if at == nil {
			switch has, known := p.runtime.Has(name, c.Member); {
			case has:
				return yes
			case !known:
				result = unknown
			}
			continue
		}
		if slices.Contains(at.unit.Has, c.Member) {
			return yes
		}
		queue = append(queue, at.unit.Bases...)
	}
	return result
}
