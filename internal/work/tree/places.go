package tree

import (
	"cmp"
	"slices"
	"strings"
	"sync"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/pin"
)

// Places are what the files of a project state of runtimes, tools, platforms and images.
type Places struct {
	Groups [][]model.Pin // by subject, runtimes first, in the order of their names
	Unread []string      // files that were not read, and why
}

// Places are what the files state, read when they are asked for first.
func (t *Tree) Places() (*Places, error) { return t.places() }

// readPlaces reads what the files state, those of the components' manifests last. A place that
// a manifest's own reader finds, too, is one place.
func (t *Tree) readPlaces() (*Places, error) {
	pins, unread, err := pin.Read(t.Files, t.settings.LeavesOut, t.settings.Pins)
	if err != nil {
		return nil, err
	}
	type place struct {
		file  string
		start int
	}
	own := map[place]bool{}
	for _, part := range t.Parts {
		for _, q := range part.Pins {
			own[place{q.Site.File, q.Site.Start}] = true
		}
	}
	pins = slices.DeleteFunc(pins, func(q model.Pin) bool { return own[place{q.Site.File, q.Site.Start}] })
	for _, part := range t.Parts {
		pins = append(pins, part.Pins...)
	}
	return &Places{bySubject(pins), unread}, nil
}

// bySubject groups places, runtimes first, in the order of their names.
func bySubject(pins []model.Pin) (groups [][]model.Pin) {
	slices.SortStableFunc(pins, func(a, b model.Pin) int {
		kinds := slices.Index(model.PinKinds, a.Subject.Kind) - slices.Index(model.PinKinds, b.Subject.Kind)
		return cmp.Or(kinds, strings.Compare(a.Subject.Name, b.Subject.Name))
	})
	for len(pins) > 0 {
		n := slices.IndexFunc(pins, func(q model.Pin) bool { return q.Subject != pins[0].Subject })
		if n < 0 {
			n = len(pins)
		}
		groups, pins = append(groups, pins[:n]), pins[n:]
	}
	return groups
}

// Of are the places that state a subject.
func (p *Places) Of(subject model.Subject) []model.Pin {
	for _, pins := range p.Groups {
		if pins[0].Subject == subject {
			return pins
		}
	}
	return nil
}

// Stated is what counts as the version that places state of a subject; see [Stated].
func (p *Places) Stated(subject model.Subject) version.Version { return Stated(p.Of(subject)) }

// Add puts what places state among the packages of a world.
func (p *Places) Add(w compat.World) {
	for _, pins := range p.Groups {
		if v := Stated(pins); v != nil {
			w[pins[0].Subject] = []version.Version{v}
		}
	}
}

// Stated is what counts as the version that places state: the highest that one
// of them names, else the highest that a range begins with. Places of lists, all
// of which are tried, and those that resolving alone looks at, do not count. It is nil for
// none.
func Stated(pins []model.Pin) version.Version {
	var exact, low version.Version
	for _, q := range pins {
		v := pin.Low(q)
		switch {
		case v == nil || q.List != nil || q.Assumed:
		case pin.Exact(q):
			if exact == nil || v.Compare(exact) > 0 {
				exact = v
			}
		case low == nil || v.Compare(low) > 0:
			low = v
		}
	}
	if exact != nil {
		return exact
	}
	return low
}

// WithPlaces gives the tree with the places of another: what manifests require
// themselves is as in the tree, all other places are the other's.
func (t *Tree) WithPlaces(of *Tree) *Tree {
	both := *t
	both.places = sync.OnceValues(func() (*Places, error) {
		theirs, err := of.Places()
		if err != nil {
			return nil, err
		}
		merged := &Places{Unread: theirs.Unread}
		for _, group := range theirs.Groups {
			pins := slices.DeleteFunc(slices.Clone(group), of.Moves)
			for _, part := range t.Parts {
				for _, q := range part.Pins {
					if q.Subject == group[0].Subject && t.Moves(q) {
						pins = append(pins, q)
					}
				}
			}
			if len(pins) > 0 {
				merged.Groups = append(merged.Groups, pins)
			}
		}
		return merged, nil
	})
	return &both
}

// Moves tells whether a component requires what a place in its manifest states, so that its
// ecosystem moves it.
func (t *Tree) Moves(q model.Pin) bool {
	part := t.PartWith(q.Site.File)
	return part != nil && part.states(q.Subject)
}
