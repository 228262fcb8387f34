package rewrite

import (
	"strings"

	"bellwether/internal/core/splice"
)

// difference gives the edits that make one text of another: line by line where lines were only
// changed, else what lies between the same beginning and the same end.
func difference(before, after string) []splice.Edit {
	if before == after {
		return nil
	}
	a, b := strings.SplitAfter(before, "\n"), strings.SplitAfter(after, "\n")
	if len(a) != len(b) {
		return []splice.Edit{between(before, after, 0)}
	}
	var edits []splice.Edit
	at := 0
	for i := range a {
		if a[i] != b[i] {
			edits = append(edits, between(a[i], b[i], at))
		}
		at += len(a[i])
	}
	return edits
}

// between is the edit of what lies between the same beginning and the same end of two texts.
func between(before, after string, at int) splice.Edit {
	from := 0
	for from < len(before) && from < len(after) && before[from] == after[from] {
		from++
	}
	to := 0
	for to < len(before)-from && to < len(after)-from && before[len(before)-1-to] == after[len(after)-1-to] {
		to++
	}
	return splice.Edit{Start: at + from, End: at + len(before) - to, New: after[from : len(after)-to]}
}
