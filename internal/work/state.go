package work

import (
	"cmp"
	"io/fs"
	"slices"
	"strings"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/pin"
)

// state is the project as its files are at one stop of a route.
type state struct {
	fsys     fs.FS
	parts    []*Part
	packages map[model.Subject][]model.Package // in effect
	order    []model.Subject                   // of packages, as they come
	pins     [][]model.Pin                     // by subject
	unread   []string                          // files that were not read, and why
}

// now is the project as it lies on disk, read once.
func (p *Project) now() (*state, error) {
	if p.start == nil {
		s, err := p.stateOf(p.fsys)
		if err != nil {
			return nil, err
		}
		p.start = s
	}
	return p.start, nil
}

// stateOf reads the project as it is in a tree of files.
func (p *Project) stateOf(fsys fs.FS) (*state, error) {
	parts, err := p.partsIn(fsys)
	if err != nil {
		return nil, err
	}
	s := packagesOf(fsys, parts)
	var components []*model.Component
	for _, part := range parts {
		components = append(components, part.Component)
	}
	s.pins, s.unread, err = p.readPins(fsys, components)
	return s, err
}

// partsIn are the components as they are in a tree of files.
func (p *Project) partsIn(fsys fs.FS) ([]*Part, error) {
	if fsys == p.fsys {
		return p.Components, nil
	}
	var parts []*Part
	for _, part := range p.Components {
		part, err := part.after(fsys)
		if err != nil {
			return nil, err
		}
		parts = append(parts, part)
	}
	return parts, nil
}

// packagesOf is a state of which only the components are known: of the places that
// state something, those of manifests.
func packagesOf(fsys fs.FS, parts []*Part) *state {
	s := &state{fsys: fsys, parts: parts, packages: map[model.Subject][]model.Package{}}
	var pins []model.Pin
	for _, part := range parts {
		pins = append(pins, part.Pins...)
		for _, pkg := range part.eco.Packages(part.Component) {
			if s.packages[pkg.Subject] == nil {
				s.order = append(s.order, pkg.Subject)
			}
			s.packages[pkg.Subject] = append(s.packages[pkg.Subject], pkg)
		}
	}
	s.pins = bySubject(pins)
	return s
}

// world is the state's packages as a question wants them.
func (s *state) world() compat.World {
	w := compat.World{}
	for subject, all := range s.packages {
		order := orders(subject.Kind)
		for _, pkg := range all {
			if v, err := order.Parse(pkg.Version); err == nil {
				w[subject] = append(w[subject], v)
			}
		}
	}
	return w
}

// demands are what the packages of the state need: the strictest needs, each
// told of the package that the shortest way leads to.
func (s *state) demands() []compat.Demand {
	type key struct {
		subject model.Subject
		text    string
		advice  bool
	}
	nearest := map[key]model.Package{}
	var order []key
	for _, subject := range s.order {
		for _, pkg := range s.packages[subject] {
			for _, n := range pkg.Needs {
				k := key{n.Subject, n.Range, n.Advice}
				known, seen := nearest[k]
				if !seen {
					order = append(order, k)
				}
				if !seen || len(pkg.Via) < len(known.Via) {
					nearest[k] = pkg
				}
			}
		}
	}
	var all []compat.Demand
	for _, k := range order {
		rng, err := version.Plain{}.ParseRange(k.text)
		if err != nil {
			continue // some state what nobody can read
		}
		pkg := nearest[k]
		all = append(all, compat.Demand{By: pkg.Subject, Which: pkg.Version, Via: pkg.Via, Need: compat.Condition{Subject: k.subject, Text: k.text, Range: rng}, Place: pkg.Site.String(), Advice: k.advice})
	}
	return compat.Strictest(all, version.Plain{})
}

// pinsOf are the places that state a subject.
func (s *state) pinsOf(subject model.Subject) []model.Pin {
	for _, pins := range s.pins {
		if pins[0].Subject == subject {
			return pins
		}
	}
	return nil
}

// with gives the state with the places of another: what manifests require
// themselves is as in the state, all other places are the other's.
func (s *state) with(places *state) *state {
	both := *s
	both.pins = nil
	own := func(st *state, q model.Pin) bool {
		part := partWith(st.parts, q.Site.File)
		return part != nil && slices.ContainsFunc(part.Requirements, func(r model.Requirement) bool { return r.Subject == q.Subject })
	}
	for _, group := range places.pins {
		pins := slices.DeleteFunc(slices.Clone(group), func(q model.Pin) bool { return own(places, q) })
		for _, q := range s.pinsOf(group[0].Subject) {
			if own(s, q) {
				pins = append(pins, q)
			}
		}
		if len(pins) > 0 {
			both.pins = append(both.pins, pins)
		}
	}
	return &both
}

// stated is what counts as the version that places state: the highest that one
// of them names, else the highest that a range begins with. Places of lists, all
// of which are tried, and those that resolving alone looks at, do not count.
func stated(pins []model.Pin) version.Version {
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

// readPins gives what the files of the project state in a tree, those of its
// components' manifests last, by subject, and the files that were not read.
func (p *Project) readPins(fsys fs.FS, components []*model.Component) (groups [][]model.Pin, unread []string, err error) {
	pins, unread, err := pin.Read(fsys, func(dir string) bool { return slices.Contains(p.Settings.LeaveOut, dir) || dir == keepDir }, p.Settings.Pins)
	if err != nil {
		return nil, nil, err
	}
	for _, c := range components {
		pins = append(pins, c.Pins...)
	}
	return bySubject(pins), unread, nil
}

// bySubject groups places, runtimes first, in the order of their names.
func bySubject(pins []model.Pin) (groups [][]model.Pin) {
	slices.SortStableFunc(pins, func(a, b model.Pin) int {
		return cmp.Or(slices.Index(model.PinKinds, a.Subject.Kind)-slices.Index(model.PinKinds, b.Subject.Kind), strings.Compare(a.Subject.Name, b.Subject.Name))
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
