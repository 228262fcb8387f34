// Package spelling finds the word that was meant, and lists words.
package spelling

import (
	"fmt"
	"strings"
)

// Nearest is the known word closest to word, "" if none is close.
func Nearest(word string, known []string) string {
	best, bestAt := "", len(word)/2+1
	for _, k := range known {
		if strings.HasSuffix(k, "/"+word) {
			return k // all but the beginning was written
		}
		if d := distance(word, k); d < bestAt {
			best, bestAt = k, d
		}
	}
	return best
}

// DidYouMean is the question after a word that is not known, "" if no known
// one is close.
func DidYouMean(word string, known []string) string {
	if near := Nearest(word, known); near != "" {
		return "did you mean \"" + near + "\"?"
	}
	return ""
}

// distance is the number of letters to change, add or drop (Levenshtein).
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		previous := row[0]
		row[0] = i + 1
		for j := range len(b) {
			change := previous
			if a[i] != b[j] {
				change++
			}
			previous = row[j+1]
			row[j+1] = min(change, row[j]+1, previous+1)
		}
	}
	return row[len(b)]
}

// Count is a number with what is counted: "1 test", "2 tests".
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
