package version

import (
	"slices"
	"strconv"
	"strings"

	"bellwether/internal/core/lazyregexp"
)

var (
	numberText = lazyregexp.New(`[0-9]{1,9}(?:\.[0-9]{1,9})*`)
	prefixed   = lazyregexp.New(`(?:^|[^A-Za-z])v[0-9]`)
)

// Bounds are versions that lie in a range if any does: those that it is written
// with, and where they are not in it, those that come next.
func Bounds(order Order, rng Range) []Version {
	points := Points(order, rng.String())
	var found []Version
	for i, p := range points {
		// Of a stated version and the ones after it, the first that is in will do.
		if rng.Contains(p.Version) && (p.next == 0 || !rng.Contains(points[i-p.next].Version)) {
			found = append(found, p.Version)
		}
	}
	slices.SortFunc(found, Version.Compare)
	return slices.CompactFunc(found, func(a, b Version) bool { return a.Compare(b) == 0 })
}

// Point is a version where a range may begin or end.
type Point struct {
	Version
	next int // how many points before it the stated one is that it comes after; 0 for a stated one
}

// Points are the versions that a text states, zero, and for each the ones that
// come next after its numbers. Two ranges with the same points in them are the
// same range, as far as can be told from what they are written with.
func Points(order Order, text string) []Point {
	var points []Point
	prefix := [2]string{"", "v"}
	if prefixed.MatchString(text) { // an order may read both, as different things
		prefix = [2]string{"v", ""}
	}
	put := func(numbers []string, next int) bool {
		for n := len(numbers); n <= max(3, len(numbers)); n++ {
			padded := strings.Join(numbers, ".") + strings.Repeat(".0", n-len(numbers))
			for _, v := range prefix {
				if v, err := order.Parse(v + padded); err == nil {
					points = append(points, Point{v, next})
					return true
				}
			}
		}
		return false
	}
	for _, text := range append(numberText.FindAllString(text, -1), "0") {
		numbers := strings.Split(text, ".")
		if !put(numbers, 0) {
			continue
		}
		for i, after := len(numbers)-1, 1; i >= 0; i-- {
			n, _ := strconv.Atoi(numbers[i])
			if put(slices.Concat(numbers[:i], []string{strconv.Itoa(n + 1)}), after) {
				after++
			}
		}
	}
	return points
}
