// Package version orders versions and reads ranges, one file per dialect.
// It computes only: no files, no network.
package version

import (
	"errors"
	"strings"
)

// Reach is how far a subject may move by itself.
type Reach int

// The reaches, from the smallest step to the largest.
const (
	Stay  Reach = iota // not at all
	Patch              // fixes only
	Minor              // within the current major
	Major              // anywhere
)

// String gives the word that users write for r.
func (r Reach) String() string {
	return [...]string{"stay", "patch", "minor", "major"}[r]
}

// ReachNamed reads the word for a reach; ok is false for any other word.
func ReachNamed(word string) (r Reach, ok bool) {
	for r := Stay; r <= Major; r++ {
		if r.String() == word {
			return r, true
		}
	}
	return Stay, false
}

// Version is one point in an ecosystem's version order.
type Version interface {
	// String is the text that the version was read from.
	String() string
	// Compare is negative, zero or positive as the receiver sorts before,
	// with or after other, which must come from the same Order.
	Compare(other Version) int
	// Preview tells whether this is a pre-release.
	Preview() bool
	// Line names the compatible series the version is in: two versions of
	// the same line may replace each other without a major step ("4" for
	// 4.2.1, "0.3" for 0.3.7 in Semantic Versioning).
	Line() string
}

// Range is a set of versions, as a requirement writes it.
type Range interface {
	// String is the text that the range was read from.
	String() string
	// Contains tells whether v is in the range.
	Contains(v Version) bool
}

// Order is the version order of one ecosystem, with its range dialect.
type Order interface {
	// Parse reads a version.
	Parse(text string) (Version, error)
	// ParseRange reads a range.
	ParseRange(text string) (Range, error)
	// Step is the size of the step between two versions.
	Step(from, to Version) Reach
	// Restate writes old anew so that it starts at v, keeping its style
	// (operator, number of components).
	Restate(old string, v Version) string
	// Onward is the range of what may take the place of v without a major step: v and what
	// comes later in its line.
	Onward(v Version) string
}

// Stated is an order in which an empty text is no version, though its dialect reads one as the lowest
// of all: where nothing is stated, nothing is to be compared.
type Stated struct{ Order }

// Parse reads a version.
func (s Stated) Parse(text string) (Version, error) {
	if strings.TrimSpace(text) == "" {
		return nil, errors.New("no version is stated")
	}
	return s.Order.Parse(text)
}

// numbered is a version with leading numbers.
type numbered interface {
	Version
	// number is one of them, "0" for one that is not written.
	number(i int) string
}

// stepByNumbers is the size of a step between two versions, by their lines and the first two numbers.
func stepByNumbers(from, to numbered) Reach {
	switch {
	case from.Compare(to) == 0:
		return Stay
	case from.Line() != to.Line():
		return Major
	case from.number(0) != to.number(0) || from.number(1) != to.number(1):
		return Minor
	}
	return Patch
}

// LineOf is the line of a version where that is a range which has it, else the version itself.
func LineOf(order Order, v Version) string {
	if line, err := order.ParseRange(v.Line()); err == nil && line.Contains(v) {
		return v.Line()
	}
	return v.String()
}

// Complete reads a version that may have been written in short: "5", "5.1".
func Complete(o Order, text string) (Version, error) {
	v, err := o.Parse(text)
	for range 2 {
		if err == nil {
			break
		}
		text += ".0"
		if longer, lerr := o.Parse(text); lerr == nil {
			return longer, nil
		}
	}
	return v, err
}
