package plan

import (
	"errors"
	"fmt"

	"bellwether/internal/core/model"
	"bellwether/internal/work/world"
)

// follow are packages that follow what was asked for, as long as they can: nobody named them, so that none of them is a reason to
// refuse a route.
type follow struct {
	known  map[string]bool
	wishes []world.Destination
	stay   []string // what of those is told that could not follow
}

// add takes more of them, and tells whether there are any.
func (f *follow) add(found []world.Destination) bool {
	before := len(f.wishes)
	for _, d := range found {
		if f.known[d.Text] {
			continue
		}
		if f.known == nil {
			f.known = map[string]bool{}
		}
		f.known[d.Text] = true
		f.wishes = append(f.wishes, d)
	}
	return len(f.wishes) > before
}

// gaveWay tells whether a route is to be planned again without them, since there is no release to go to.
func (f *follow) gaveWay(err error) bool {
	var fault *model.Fault
	if len(f.wishes) == 0 || !errors.As(err, &fault) {
		return false
	}
	for _, d := range f.wishes {
		f.stay = append(f.stay, fmt.Sprintf("%s stays, and does not go to %s, which %s: %s", d.Name, d.Range, d.Because, fault.Wrong))
	}
	f.wishes = nil
	return true
}
