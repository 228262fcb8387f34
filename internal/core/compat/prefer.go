package compat

import (
	"cmp"
	"slices"

	"bellwether/internal/core/version"
)

// released tells whether a version that a range begins with can be: it is in one
// of the lines that are known, or newer than all of them.
func released(v version.Version, lines []version.Version) bool {
	if len(lines) == 0 {
		return true
	}
	newest := true
	for _, l := range lines {
		if l.Compare(v) >= 0 {
			newest = false
		}
		if rng, err := (version.Plain{}).ParseRange(l.String()); err == nil && rng.Contains(v) {
			return true
		}
	}
	return newest
}

// preference orders candidates: what is there; what is newer, by the question's
// preference; what is older.
func (a *asking) preference(s *Subject, all []version.Version) []int {
	order := make([]int, len(all))
	for i := range order {
		order[i] = i
	}
	class := func(i int) int {
		v := all[i]
		switch {
		case s.At != nil && v.Compare(s.At) == 0 && !s.Newest, s.At == nil && s.Ready != nil && v.Compare(s.Ready) == 0:
			return 0
		case s.At != nil && v.Compare(s.At) < 0:
			return 4
		case v.Preview() && s.Allow == nil:
			return 3
		case a.Prefer == Supported && a.Ended != nil && a.Ended(s.Subject, v):
			return 2
		}
		return 1
	}
	newest := s.Newest || a.Prefer == Newest && s.IsPin()
	slices.SortStableFunc(order, func(x, y int) int {
		if newest || class(x) == 4 {
			return cmp.Or(class(x)-class(y), y-x)
		}
		return cmp.Or(class(x)-class(y), x-y)
	})
	return order
}
