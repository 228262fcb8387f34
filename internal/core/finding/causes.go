package finding

import (
	"cmp"
	"slices"
	"strings"
)

// Cause is findings that one change cures: the same thing, said of several places.
type Cause struct {
	Finding
	Places int    `json:"places"`         // files that it is said of; 0 where no place is told
	Cure   string `json:"cure,omitempty"` // the release of the package from which on it may be gone
}

// Causes groups findings of a kind by what is said, the project's own first, then
// the most frequent.
func Causes(all []Finding, k Kind) []Cause {
	type key struct{ code, pkg, text string }
	at := map[key]int{}
	var causes []Cause
	for _, f := range Of(all, k) {
		id := key{f.Code, f.Package, normal(f.Text)}
		i, known := at[id]
		if !known {
			i = len(causes)
			at[id] = i
			causes = append(causes, Cause{Finding: f})
			causes[i].Count = 0
		}
		causes[i].Count += f.Count
		if f.Place != "" {
			causes[i].Places++
			causes[i].Place = cmp.Or(causes[i].Place, f.Place)
		}
	}
	slices.SortStableFunc(causes, func(a, b Cause) int {
		own := func(c Cause) int {
			if c.Own() {
				return 0
			}
			return 1
		}
		return cmp.Or(own(a)-own(b), b.Count-a.Count, strings.Compare(a.Package, b.Package), strings.Compare(a.Text, b.Text))
	})
	return causes
}

// OwnCount is how many causes there are of a kind in the project itself.
func OwnCount(all []Finding, k Kind) (n int) {
	for _, c := range Causes(all, k) {
		if c.Own() {
			n++
		}
	}
	return n
}
