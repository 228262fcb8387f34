// Package companion finds packages that are usually moved together although none of them
// says that it needs another: their names are related, they number their lines alike, and
// they are released on the same days.
package companion

import (
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/version"
)

// History is a required package with its releases, oldest version first.
type History struct {
	Name     string
	At       version.Version // nil if none is in use
	Releases []Release
}

// Release is one of its versions.
type Release struct {
	Version   version.Version
	Published time.Time // zero if it is not known
}

const (
	// fewest is how many lines two packages must have in common: fewer are chance.
	fewest = 2
	// latest is how many of the newest lines must be numbered alike.
	latest = 3
	// sameDays is how far the first releases of a line may lie apart.
	sameDays = 14 * 24 * time.Hour
)

// Groups are the names that are usually moved together, each group in the order of the
// histories.
func Groups(all []History) (groups [][]string) {
	lines := make([]map[string]Release, len(all))
	for i, h := range all {
		lines[i] = h.lines()
	}
	of := map[string]int{} // the group of a name, counted from 1
	for _, pair := range pairs(all) {
		a, b := all[pair[0]], all[pair[1]]
		ga, gb := of[a.Name], of[b.Name]
		if ga != 0 && gb != 0 || a.Name == b.Name || !alike(a, b, lines[pair[0]], lines[pair[1]]) {
			continue
		}
		switch {
		case ga == 0 && gb == 0:
			groups = append(groups, []string{a.Name, b.Name})
			of[a.Name], of[b.Name] = len(groups), len(groups)
		case ga == 0:
			groups[gb-1], of[a.Name] = append(groups[gb-1], a.Name), gb
		case gb == 0:
			groups[ga-1], of[b.Name] = append(groups[ga-1], b.Name), ga
		}
	}
	return groups
}

// kin is how many packages of one house each is compared with, at most: the next ones that are numbered like it.
const kin = 50

// pairs are the packages that may belong together, by their numbers in ascending order: those whose names are related, and
// whose newest lines are the same.
func pairs(all []History) (found [][2]int) {
	numbered := make([]string, len(all)) // how a package is numbered
	houses := map[string][]int{}         // by a name that packages share, and how they are numbered
	for i, h := range all {
		if h.At == nil {
			continue
		}
		numbered[i] = strings.Join(append(h.newest(), h.At.Line()), " ")
		for _, word := range words(h.Name) {
			key := word + " " + numbered[i]
			houses[key] = append(houses[key], i)
		}
	}
	seen := map[[2]int]bool{}
	for i, h := range all {
		if h.At == nil {
			continue
		}
		for _, word := range words(h.Name) {
			house := houses[word+" "+numbered[i]]
			at, _ := slices.BinarySearch(house, i)
			for _, k := range house[at+1 : min(at+1+kin, len(house))] {
				if pair := [2]int{i, k}; !seen[pair] && related(h.Name, all[k].Name) {
					seen[pair] = true
					found = append(found, pair)
				}
			}
		}
	}
	slices.SortFunc(found, func(a, b [2]int) int { return slices.Compare(a[:], b[:]) })
	return found
}

// words are the names by which a package may be related to another one: its scope, its bare name, and the parts of that
// between dashes, and what begins it up to a dash.
func words(name string) (all []string) {
	scope, bare := split(name)
	if scope != "" {
		all = append(all, scope)
	}
	all = append(all, bare)
	pieces := parts(bare)
	if len(pieces) > longest {
		pieces = pieces[:longest]
	}
	for i := range pieces {
		all = append(all, pieces[i], strings.Join(pieces[:i], "-"))
	}
	all = slices.DeleteFunc(all, func(word string) bool { return word == "" })
	slices.Sort(all)
	return slices.Compact(all)
}

// longest is how many parts of a name count.
const longest = 12

// lines are the first releases of each line, by its name.
func (h History) lines() map[string]Release {
	lines := map[string]Release{}
	for _, r := range h.Releases {
		if _, known := lines[r.Version.Line()]; !known && !r.Version.Preview() {
			lines[r.Version.Line()] = r
		}
	}
	return lines
}

// newest are the names of the newest lines, the newest first.
func (h History) newest() (names []string) {
	for _, r := range slices.Backward(h.Releases) {
		if line := r.Version.Line(); !r.Version.Preview() && !slices.Contains(names, line) {
			if names = append(names, line); len(names) == latest {
				break
			}
		}
	}
	return names
}

// alike tells whether two packages are in the same line, number their newest lines alike,
// and began most of those that they share on about the same days.
func alike(a, b History, linesA, linesB map[string]Release) bool {
	if a.At == nil || b.At == nil || a.At.Line() != b.At.Line() || !slices.Equal(a.newest(), b.newest()) {
		return false
	}
	shared, dated, close := 0, 0, 0
	for line, ra := range linesA {
		rb, both := linesB[line]
		if !both {
			continue
		}
		shared++
		if ra.Published.IsZero() || rb.Published.IsZero() {
			continue
		}
		dated++
		if ra.Published.Sub(rb.Published).Abs() <= sameDays {
			close++
		}
	}
	return shared >= fewest && dated >= fewest && 3*close >= 2*dated
}

// related tells whether two names belong to one house: they have the same scope, or one is a
// part of the other, between dashes.
func related(a, b string) bool {
	scopeA, bareA := split(a)
	scopeB, bareB := split(b)
	if scopeA != "" && scopeA == scopeB {
		return true
	}
	for _, pair := range [][2]string{{bareA, bareB}, {bareB, bareA}, {scopeA, bareB}, {scopeB, bareA}} {
		if pair[0] != "" && slices.Contains(parts(pair[1]), pair[0]) || strings.HasPrefix(pair[1], pair[0]+"-") && pair[0] != "" {
			return true
		}
	}
	return false
}

func split(name string) (scope, bare string) {
	if scope, bare, found := strings.Cut(strings.TrimPrefix(name, "@"), "/"); found && strings.HasPrefix(name, "@") {
		return scope, bare
	}
	return "", name[strings.LastIndex(name, "/")+1:]
}

func parts(name string) []string { return strings.Split(name, "-") }
