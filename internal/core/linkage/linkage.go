// Package linkage tells what the archives of a class path refer to that was there before a change and
// that nothing provides after it: a renamed package, a class or a member that is gone. It works on small
// summaries, whatever the format of the archives is. What was missing before is no news.
package linkage

import (
	"cmp"
	"path"
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
	Was    string   // the archive that had it before; empty for what none had
	Lacks  string   // of what none had: the archive that has the rest of its package, or its unit; of what is hidden, the first copy's
	Former string   // of what none had: the unit of the same last name that was referred to in its place, and was there
	Hidden string   // of a member: the archive whose copy of the unit has it, behind another archive's copy
	Places []string // the units that refer to it, sorted
}

// Runtime is what the archives run on.
type Runtime interface {
	// Provides tells of units that are there whatever the archives are.
	Provides(unit string) bool
	// Has tells whether such a unit has a member; known is false where that is not known.
	Has(unit, member string) (has, known bool)
}

// Find gives what is missing after a change and was not before, sorted by who misses it and what. Of archives that come
// with the change that is also what nothing had before either, where another archive has the rest of the package or of
// the unit: that one is too old for them; and where the same unit referred to something of the same last name before: it
// was renamed, and what has it under its new name did not come along.
func Find(before, after []Archive, runtime Runtime) []Missing {
	was, is := newPath(before, runtime), newPath(after, runtime)
	found := map[[2]string]*Missing{}
	miss := func(by, what, unit string, had *provided, lacks string) {
		key := [2]string{by, what}
		if found[key] == nil {
			found[key] = &Missing{By: by, What: what, Lacks: lacks}
			if had != nil {
				found[key].Was = had.archive
			}
		}
		if m := found[key]; !slices.Contains(m.Places, unit) {
			m.Places = append(m.Places, unit)
		}
	}
	there := map[string]bool{}
	for _, a := range before {
		there[a.Name] = true
	}
	var lacks []lack
	for _, a := range after {
		for i := range a.Units {
			u := &a.Units[i]
			if is.units[u.Name].unit != u {
				continue // another archive comes before it
			}
			for _, name := range u.Uses {
				if is.units[name] != nil || runtime.Provides(name) {
					continue
				}
				if had := was.units[name]; had != nil {
					miss(a.Name, name, u.Name, had, "")
				} else if rest := is.packages[packageOf(name)]; !there[a.Name] && rest != "" && rest != a.Name {
					lacks = append(lacks, lack{a.Name, u.Name, rest, Call{Owner: name}})
				} else if former := was.former(u, name); former != "" {
					miss(a.Name, name, u.Name, was.units[former], "")
					found[[2]string{a.Name, name}].Former = former
				}
			}
			for _, c := range u.Calls {
				if at := is.units[c.Owner]; at != nil && at.archive == a.Name {
					continue // what was compiled together fits together, also where it is private
				}
				had, owner := was.units[c.Owner], is.units[c.Owner]
				if owner == nil || is.has(c) != no {
					continue
				}
				if had != nil && was.has(c) == yes {
					miss(a.Name, c.Owner+"."+c.Member, u.Name, had, "")
					if behind := is.hidden(c); behind != "" {
						m := found[[2]string{a.Name, c.Owner + "." + c.Member}]
						m.Hidden, m.Lacks = behind, owner.archive
					}
				} else if !there[a.Name] {
					lacks = append(lacks, lack{a.Name, u.Name, owner.archive, c})
				}
			}
		}
	}
	for _, l := range news(lacks, before) {
		miss(l.by, l.what(), l.unit, nil, l.lacks)
	}
	renamed := map[[2]string]int{} // how many units went from a package to another one
	for _, m := range found {
		if m.Former != "" {
			renamed[[2]string{packageOf(m.Former), packageOf(m.What)}]++
		}
	}
	var all []Missing
	for _, m := range found {
		if m.Former != "" && renamed[[2]string{packageOf(m.Former), packageOf(m.What)}] == 1 &&
			path.Base(packageOf(m.Former)) != path.Base(packageOf(m.What)) {
			continue // one that only has the same last name may be another thing
		}
		slices.Sort(m.Places)
		all = append(all, *m)
	}
	slices.SortFunc(all, func(a, b Missing) int { return cmp.Or(strings.Compare(a.By, b.By), strings.Compare(a.What, b.What)) })
	return all
}

// lack is a reference to what nothing had before either.
type lack struct {
	by, unit, lacks string
	call            Call // its member is empty for a unit
}

func (l lack) what() string {
	if l.call.Member == "" {
		return l.call.Owner
	}
	return l.call.Owner + "." + l.call.Member
}

// news leaves out of references those that some archive had before.
func news(all []lack, before []Archive) []lack {
	wanted := map[Call]bool{}
	for _, l := range all {
		wanted[l.call] = true
	}
	for _, a := range before {
		if len(wanted) == 0 {
			break
		}
		for _, u := range a.Units {
			for _, name := range u.Uses {
				delete(wanted, Call{Owner: name})
			}
			for _, c := range u.Calls {
				delete(wanted, c)
			}
		}
	}
	return slices.DeleteFunc(all, func(l lack) bool { return !wanted[l.call] })
}

// packageOf is what a unit's name has before its last slash, empty for none.
func packageOf(name string) string { return name[:max(strings.LastIndexByte(name, '/'), 0)] }

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

// classPath is archives, by its units.
type classPath struct {
	units    map[string]*provided
	copies   map[string][]*provided // of units that another archive before it provides
	packages map[string]string      // by their names, the first archive that has units of them; none for what has no package
	runtime  Runtime
}

func newPath(archives []Archive, runtime Runtime) classPath {
	p := classPath{map[string]*provided{}, map[string][]*provided{}, map[string]string{}, runtime}
	for _, a := range archives {
		for i := range a.Units {
			if u := &a.Units[i]; p.units[u.Name] == nil {
				p.units[u.Name] = &provided{a.Name, u}
			} else {
				p.copies[u.Name] = append(p.copies[u.Name], &provided{a.Name, u})
			}
			if in := packageOf(a.Units[i].Name); in != "" && p.packages[in] == "" {
				p.packages[in] = a.Name
			}
		}
	}
	return p
}

// former is what a unit of the same name referred to and had in the place of what a unit refers to now, by its last name;
// empty for nothing.
func (p classPath) former(u *Unit, now string) string {
	old := p.units[u.Name]
	if old == nil || slices.Contains(old.unit.Uses, now) {
		return ""
	}
	last := now[strings.LastIndexByte(now, '/')+1:]
	for _, name := range old.unit.Uses {
		if name[strings.LastIndexByte(name, '/')+1:] == last && p.units[name] != nil && !slices.Contains(u.Uses, name) {
			return name
		}
	}
	return ""
}

// hidden is the archive of a copy that has a member, and that the copy of another archive hides; empty for none.
func (p classPath) hidden(c Call) string {
	for _, other := range p.copies[c.Owner] {
		if slices.Contains(other.unit.Has, c.Member) {
			return other.archive
		}
	}
	return ""
}

// answer is whether a member is there.
type answer int

const (
	no answer = iota
	yes
	unknown // something that it may be inherited from is not known
)

// has tells whether a member is there, in its owner or in what that inherits from.
func (p classPath) has(c Call) answer {
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
