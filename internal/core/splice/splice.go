// Package splice changes a text in places, and leaves the rest as it is.
package splice

import (
	"slices"
	"strings"
)

// Edit puts a text in the place of bytes.
type Edit struct {
	Start, End int // byte offsets, End exclusive
	New        string
}

// Sort orders edits by where they begin.
func Sort(edits []Edit) {
	slices.SortStableFunc(edits, func(a, b Edit) int { return a.Start - b.Start })
}

// Apply makes edits. Of two that overlap, only the one that begins first is made; how many were
// not is told.
func Apply(text string, edits []Edit) (result string, dropped int) {
	Sort(edits)
	var b strings.Builder
	at := 0
	for _, e := range edits {
		if e.Start < at {
			dropped++
			continue
		}
		b.WriteString(text[at:e.Start])
		b.WriteString(e.New)
		at = e.End
	}
	b.WriteString(text[at:])
	return b.String(), dropped
}
