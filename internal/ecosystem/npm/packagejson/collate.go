package packagejson

import (
	"cmp"
	"slices"
	"strings"
)

// collationOrder lists the characters of package names and paths in the order
// of the Unicode collation root (CLDR), which npm sorts lock files by.
const collationOrder = "_-,;:!?.'\"()[]{}@*/\\&#%`^+<=>|~$0123456789"

var primaryWeight = func() (w [128]int) {
	for i, c := range collationOrder {
		w[c] = i + 1
	}
	for c := 'a'; c <= 'z'; c++ {
		w[c] = 100 + int(c)
		w[c-'a'+'A'] = 100 + int(c)
	}
	return w
}()

func primary(c byte) int {
	if c >= 128 {
		return 1000 + int(c)
	}
	return primaryWeight[c]
}

// Collate compares as JavaScript's localeCompare does in English: characters
// first, small before capital letters only where all else is equal.
func Collate(a, b string) int {
	for i := range min(len(a), len(b)) {
		if c := cmp.Compare(primary(a[i]), primary(b[i])); c != 0 {
			return c
		}
	}
	if c := cmp.Compare(len(a), len(b)); c != 0 {
		return c
	}
	return strings.Compare(b, a)
}

// Collated gives the keys of m in the order of lock files.
func Collated[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, Collate)
	return keys
}
