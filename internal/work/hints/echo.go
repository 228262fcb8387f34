package hints

import (
	"slices"
	"strings"
	"unicode"

	"bellwether/internal/core/notes"
	worknotes "bellwether/internal/work/notes"
)

// echoed are entries of weight that say what a failure says in nearly the same words: those that share most of them first.
func echoed(texts []string, said []worknotes.Noted) []worknotes.Noted {
	type echo struct {
		of     worknotes.Noted
		shared int
	}
	var all []echo
	for _, n := range said {
		kind := notes.Kind(n.Shown.Kind)
		if kind == notes.Added || kind == notes.Fixed || kind == notes.Other && !n.Shown.Major {
			continue
		}
		most := 0
		own := telling(n.Entry.Text, n.Of)
		for _, text := range texts {
			shared, number := 0, false
			for word := range telling(text, n.Of) {
				if own[word] {
					shared++
					number = number || word[0] >= '0' && word[0] <= '9'
				}
			}
			if shared >= 4 || shared == 3 && number {
				most = max(most, shared)
			}
		}
		if most > 0 {
			all = append(all, echo{n, most})
		}
	}
	slices.SortStableFunc(all, func(a, b echo) int { return b.shared - a.shared })
	var found []worknotes.Noted
	for _, e := range all {
		found = append(found, e.of)
	}
	return found
}

// telling are the words of a text that tell something: no small or usual ones, and not the package's own name.
func telling(text, pkg string) map[string]bool {
	words := map[string]bool{}
	for _, word := range strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		number := len(word) > 1 && word[0] <= '9'
		if number || len(word) > 3 && !notes.Common(word) && !usual[word] && !strings.Contains(pkg, word) {
			words[word] = true
		}
	}
	return words
}

// usual are words of messages and of notes that say nothing of what they are about.
var usual = func() map[string]bool {
	all := map[string]bool{}
	for _, word := range strings.Fields(`about after also argument arguments before being cannot change changed could does during each
		errors every expected fail failed fails from have into invalid longer many more most must need needs node only other should some
		support supported such than that them there these this throw throws update when where which while will with would`) {
		all[word] = true
	}
	return all
}()
