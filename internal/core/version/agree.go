package version

import (
	"strconv"
	"strings"
)

// numbers are those that a version begins with: 20 and 11 for "v20.11-slim".
func numbers(text string) []int {
	text = strings.TrimPrefix(strings.TrimPrefix(text, "go"), "v")
	var all []int
	for part := range strings.SplitSeq(text, ".") {
		n := 0
		for n < len(part) && part[n] >= '0' && part[n] <= '9' {
			n++
		}
		value, err := strconv.Atoi(part[:n])
		if err != nil {
			break
		}
		if all = append(all, value); n < len(part) {
			break
		}
	}
	return all
}

// CompareStated orders two statements of a version of any kind ("20",
// "20.11.1", "go1.24"), by their numbers, as far as both go: what is not stated
// can be anything, so that "20" and "20.11.1" come out equal.
func CompareStated(a, b string) int {
	x, y := numbers(a), numbers(b)
	for i := range min(len(x), len(y)) {
		if x[i] != y[i] {
			return x[i] - y[i]
		}
	}
	return 0
}
