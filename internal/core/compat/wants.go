package compat

import (
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
)

// Wants are ranges of one runtime, tool, platform or image that must all hold.
type Wants struct {
	texts  []string
	ranges []version.Range
	not    []bool
}

const notMark = "not "

// ReadWants reads what a route keeps: ">=20", "not <18".
func ReadWants(texts []string) (Wants, error) {
	w := Wants{}
	for _, text := range texts {
		bare, not := strings.CutPrefix(text, notMark)
		rng, err := version.Plain{}.ParseRange(bare)
		if err != nil {
			return w, fmt.Errorf("what is needed: %w", err)
		}
		w.add(text, rng, not)
	}
	return w, nil
}

// WantsOf are what an answer's needs demand of a subject.
func (n *Answer) WantsOf(s model.Subject) Wants {
	return n.wantsOf(s, func(Link) bool { return true })
}

// UsersWant are those of them that count for who uses the project.
func (n *Answer) UsersWant(s model.Subject) Wants {
	return n.wantsOf(s, func(l Link) bool { return l.Demand == nil || !l.Demand.Development })
}

func (n *Answer) wantsOf(s model.Subject, counts func(l Link) bool) Wants {
	w := Wants{}
	for _, l := range n.Links {
		if l.Need.Subject != s || l.Need.Range == nil || !counts(l) {
			continue
		}
		text := l.Need.Text
		if l.Not {
			text = notMark + text
		}
		w.add(text, l.Need.Range, l.Not)
	}
	return w
}

func (w *Wants) add(text string, rng version.Range, not bool) {
	if !slices.Contains(w.texts, text) {
		w.texts, w.ranges, w.not = append(w.texts, text), append(w.ranges, rng), append(w.not, not)
	}
}

// Merge takes the ranges of others in.
func (w *Wants) Merge(others Wants) {
	for i, text := range others.texts {
		w.add(text, others.ranges[i], others.not[i])
	}
}

// Texts are the ranges in the form that ReadWants reads.
func (w Wants) Texts() []string { return w.texts }

// Hold tells whether a version is enough.
func (w Wants) Hold(v version.Version) bool { return len(w.Missed(v)) == 0 }

// Missed are the ranges that a version is not enough for, as texts.
func (w Wants) Missed(v version.Version) (texts []string) {
	for i, r := range w.ranges {
		if r.Contains(v) == w.not[i] {
			texts = append(texts, w.texts[i])
		}
	}
	return texts
}

// Lowest is the lowest version that the ranges are written with and that is
// enough, or otherwise the one given; zero where nothing is needed.
func (w Wants) Lowest(otherwise version.Version) version.Version {
	lowest := otherwise
	if len(w.ranges) == 0 {
		lowest, _ = version.Plain{}.Parse("0")
	}
	for _, r := range w.ranges {
		for _, v := range version.Bounds(version.Plain{}, r) {
			if w.Hold(v) && v.Compare(lowest) < 0 {
				lowest = v
			}
		}
	}
	return lowest
}
