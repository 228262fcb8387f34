package world

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
)

// ReachFix is the reach of moves that leave no known vulnerability, and nothing
// more.
const ReachFix = "fix"

// ReachStated is the reach of moves within the ranges that manifests state.
const ReachStated = "stated"

// Request says where a route is to lead. It is a value: what changes it works on a copy.
type Request struct {
	To    []string // destinations, NAME@RANGE
	Reach string   // stated, patch, minor, major or fix; empty for the settings'
	Hold  []string // names that stay, besides those of the settings
	// Prefer is which version of a runtime or tool is taken where the one that is
	// stated will not do; empty for the lowest.
	Prefer    compat.Prefer
	AllowDown []string // names that may go to older versions
	Few       int      // moves at most in a leg that only refreshes, if it can be split; 0 for any number
	Stepwise  bool     // through every major
	Explain   bool     // legs say why they are as they are
	LeaveOut  []string // folders of components, and packages, that the route does not touch
	Apart     []string // names that members of a workspace may have at versions of their own
	Settle    bool     // before the first major, the project's own deprecations are to be repaired
	Dedupe    bool     // at last, as few copies of packages as there can be
	Together  []string // names that move in one leg, with commas between them
	DoWithout []string // names of requirements that go
	Override  []string // OF:NAME or OF:NAME@RANGE; what packages get of others, whatever they ask for
	Previews  []string // names whose pre-releases may be taken, besides those of the call and the settings
	// Advisories is a folder of vulnerability records, which the reach "fix" needs.
	Advisories string
	// DropBridges goes to where temporary measures are no longer needed.
	DropBridges bool
	Take        int // the way out to take if there is no way, counted from 1; 0 for none

	// Also are requirements that are to move for what comes by way of them, above a version.
	Also map[string]string
	// Dropped are overrides that are to go.
	Dropped []OverrideIn
}

// OverrideIn is an override with the folder of the component that it is in.
type OverrideIn struct {
	Component string
	model.Override
}

// Clone is a copy that shares nothing with the request.
func (r Request) Clone() Request {
	for _, list := range []*[]string{
		&r.To, &r.Hold, &r.AllowDown, &r.LeaveOut, &r.Apart, &r.Together, &r.DoWithout, &r.Override, &r.Previews,
	} {
		*list = slices.Clone(*list)
	}
	r.Also, r.Dropped = maps.Clone(r.Also), slices.Clone(r.Dropped)
	return r
}

// Destination is one wish, taken apart.
type Destination struct {
	Name, Range, Text string
	Because           string // why another destination needs it; empty for one that was asked for
	Follows           bool   // it follows what was asked for, and stays where it cannot
}

// ReadDestination reads NAME@RANGE.
func ReadDestination(text string) (Destination, error) {
	at := strings.Index(text[min(1, len(text)):], "@") + 1 // a scope starts with one, too
	if at == 0 {
		return Destination{}, &model.Fault{
			Doing: "reading --to", Wrong: fmt.Sprintf("%q is not NAME@RANGE", text), Next: "write --to " + text + "@ and a range",
		}
	}
	return Destination{Name: text[:at], Range: text[at+1:], Text: text}, nil
}
