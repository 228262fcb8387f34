package work

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/overlay"
	"bellwether/internal/core/route"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/pin"
	"bellwether/internal/host/machine"
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

// stateOf reads the project as it is in a tree of files.
func (p *Project) stateOf(fsys fs.FS) (*state, error) {
	s := &state{fsys: fsys, packages: map[model.Subject][]model.Package{}}
	var components []*model.Component
	for _, part := range p.Components {
		if fsys != p.fsys {
			var err error
			if part, err = part.after(fsys); err != nil {
				return nil, err
			}
		}
		s.parts = append(s.parts, part)
		components = append(components, part.Component)
		for _, pkg := range part.eco.Packages(part.Component) {
			if s.packages[pkg.Subject] == nil {
				s.order = append(s.order, pkg.Subject)
			}
			s.packages[pkg.Subject] = append(s.packages[pkg.Subject], pkg)
		}
	}
	var err error
	s.pins, s.unread, err = p.readPins(fsys, components)
	return s, err
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
	}
	nearest := map[key]model.Package{}
	var order []key
	for _, subject := range s.order {
		for _, pkg := range s.packages[subject] {
			for _, n := range pkg.Needs {
				k := key{n.Subject, n.Range}
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
		all = append(all, compat.Demand{By: pkg.Subject, Which: pkg.Version, Via: pkg.Via, Need: compat.Condition{Subject: k.subject, Text: k.text, Range: rng}, Place: pkg.Site.String()})
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

// machine is what is installed here.
func (p *Project) machine() *machine.Machine {
	home, _ := os.UserHomeDir()
	return &machine.Machine{Ask: p.prober.Ask, Env: os.Getenv, Home: home}
}

// question asks which runtimes, tools, platforms and images meet what all of the
// states need. Where they are stated is taken from the first state.
func (p *Project) question(ctx context.Context, prefer compat.Prefer, hold []string, states ...*state) (*compat.Question, error) {
	s, err := p.shelf(ctx)
	if err != nil {
		return nil, err
	}
	q := &compat.Question{Orders: orders, Rules: s.rules, Prefer: prefer}
	q.Ended = func(subject model.Subject, v version.Version) bool {
		on, _ := s.ends(subject, v)
		return !on.IsZero() && on.Before(p.today())
	}
	var subjects []model.Subject
	mention := func(subject model.Subject) {
		if subject.IsPin() && !slices.Contains(subjects, subject) {
			subjects = append(subjects, subject)
		}
	}
	for _, pins := range states[0].pins {
		mention(pins[0].Subject)
	}
	for _, st := range states {
		q.Worlds = append(q.Worlds, st.world())
		for _, d := range st.demands() {
			mention(d.Need.Subject)
			q.Demands = append(q.Demands, d)
		}
	}
	for _, r := range s.rules {
		if r.Kind != compat.Needs && r.Kind != compat.Clashes {
			continue
		}
		for _, subject := range r.Mentions() {
			mention(subject)
		}
	}
	for _, subject := range subjects {
		v := &compat.Subject{Subject: subject, Candidates: s.lines(subject), At: stated(states[0].pinsOf(subject))}
		for _, i := range p.machine().Versions(ctx, subject) {
			installed, err := version.Plain{}.Parse(i.Version)
			if err != nil {
				continue
			}
			v.Candidates = append(v.Candidates, installed)
			if i.Where == "" {
				v.Ready = installed
			}
		}
		if slices.Contains(hold, subject.String()) && v.At != nil {
			at := v.At
			v.Allow = func(o version.Version) bool { return o.Compare(at) == 0 }
			v.Why = fmt.Sprintf("%s is held at %s", subject, at)
		}
		q.Subjects = append(q.Subjects, v)
	}
	return q, nil
}

// need is what one state needs of a runtime, tool, platform or image.
type need struct {
	subject   model.Subject
	wants     compat.Wants
	links     []compat.Link
	pins      []model.Pin
	to        version.Version // what is to be stated
	installed []machine.Installed
	raise     bool               // some place is not enough
	install   bool               // nothing that is installed is enough, where that can be told
	elsewhere *machine.Installed // what is enough, but is not what a bare command starts; nil for nothing
	unknown   bool               // nothing states it, and it cannot be asked for
}

// needs gives what an answer demands of each subject, in the order of the links.
func (p *Project) needs(ctx context.Context, st *state, a *compat.Answer) []*need {
	var all []*need
	byName := map[model.Subject]*need{}
	for _, l := range a.Links {
		s := l.Need.Subject
		if !s.IsPin() {
			continue
		}
		n := byName[s]
		if n == nil {
			n = &need{subject: s, wants: a.WantsOf(s), pins: st.pinsOf(s), to: a.Chosen[s], installed: p.machine().Versions(ctx, s)}
			n.judge()
			byName[s] = n
			all = append(all, n)
		}
		n.links = append(n.links, l)
	}
	return all
}

// judge compares what is needed with what is stated and installed.
func (n *need) judge() {
	known := false
	for _, q := range n.pins {
		low := pin.Low(q)
		if low == nil {
			continue
		}
		known = true
		n.raise = n.raise || !n.wants.Hold(low)
	}
	enough := false
	for _, i := range n.installed {
		v, err := version.Plain{}.Parse(i.Version)
		switch {
		case err != nil || !n.wants.Hold(v):
		case i.Where == "":
			enough = true
		case !enough && n.elsewhere == nil:
			n.elsewhere = &i
		}
	}
	askable := machine.Askable(n.subject)
	// What a build in an image uses need not be installed beside it.
	n.install = askable && !enough && (len(n.installed) > 0 || n.subject.Kind == "tool" || len(n.pins) == 0)
	n.unknown = !askable && !known
}

// aim is where the places that state the subject are to go.
func (n *need) aim() pin.Aim { return aimOf(n.to, n.wants) }

func aimOf(to version.Version, wants compat.Wants) pin.Aim {
	return pin.Aim{To: to, Low: wants.Lowest(to), Enough: wants.Hold}
}

// raisePins gives the edits that take all places that state a subject, in a tree,
// to an aim. Manifests are settled again afterwards, so that their locks say the
// same as they do. With others, what ecosystems move themselves is left out.
func (p *Project) raisePins(ctx context.Context, st *state, subject model.Subject, aim pin.Aim, others bool) (*pin.Raised, error) {
	pins := st.pinsOf(subject)
	own := map[string]bool{} // manifests whose ecosystem moves the subject itself
	var inFiles []model.Pin
	for _, q := range pins {
		part := partWith(st.parts, q.Site.File)
		if part != nil && slices.ContainsFunc(part.Requirements, func(r model.Requirement) bool { return r.Subject == subject }) {
			own[q.Site.File] = !others
			continue
		}
		inFiles = append(inFiles, q)
	}
	raised, err := pin.Raise(st.fsys, inFiles, aim)
	if err != nil {
		return nil, err
	}
	return raised, p.settle(ctx, st, raised, subject, aim, own)
}

func partWith(parts []*Part, manifest string) *Part {
	for _, part := range parts {
		if part.Manifest == manifest || strings.HasPrefix(manifest, part.Dir+"/") && strings.HasSuffix(manifest, "/"+part.eco.Manifest()) {
			return part
		}
	}
	return nil
}

// settle lets ecosystems follow where manifests changed, and where they state
// the subject themselves.
func (p *Project) settle(ctx context.Context, st *state, raised *pin.Raised, subject model.Subject, aim pin.Aim, own map[string]bool) error {
	fsys := overlay.With(st.fsys, raised.Edits)
	for _, part := range st.parts {
		touched := slices.ContainsFunc(raised.Edits, func(e model.FileEdit) bool { return partWith([]*Part{part}, e.File) != nil })
		if !touched && !own[part.Manifest] {
			continue
		}
		edits, sites, err := p.restate(ctx, part, fsys, subject, aim, own[part.Manifest])
		if err != nil {
			return err
		}
		raised.Sites = append(raised.Sites, sites...)
		raised.Edits = mergeEdits(raised.Edits, edits)
		fsys = overlay.With(st.fsys, raised.Edits)
	}
	return nil
}

// mergeEdits puts later edits behind earlier ones of the same files.
func mergeEdits(first, then []model.FileEdit) []model.FileEdit {
	all := slices.Clone(first)
	for _, e := range then {
		at := slices.IndexFunc(all, func(o model.FileEdit) bool { return o.File == e.File })
		if at < 0 {
			all = append(all, e)
		} else {
			all[at].New = e.New
		}
	}
	return all
}

// restate lets a component's ecosystem write its files anew where they state the
// subject themselves, or where its manifest has changed, with every package where
// it is.
func (p *Project) restate(ctx context.Context, part *Part, fsys fs.FS, subject model.Subject, aim pin.Aim, own bool) ([]model.FileEdit, []model.Site, error) {
	after, err := part.after(fsys)
	if err != nil || after.Lock == "" && !own {
		return nil, nil, err
	}
	registry, err := p.connect(ctx, p.partIn(part.Dir))
	if err != nil {
		return nil, nil, err
	}
	goal := route.Goal{Bounds: staying(after, "a runtime moves and packages do not")}
	if own {
		low, err := after.eco.Order().Parse(aim.Low.String())
		if err != nil {
			return nil, nil, err
		}
		goal.Bounds[subject.Name] = route.Bound{
			Allow: func(v version.Version) bool { return v.Compare(low) >= 0 },
			Why:   fmt.Sprintf("%s is to be %s at least", subject, aim.Low),
		}
	}
	o, err := registry.Resolve(ctx, ecosystem.Ask{Component: after.Component, Goal: goal})
	if err != nil {
		return nil, nil, err
	}
	var sites []model.Site
	for _, m := range o.Moves {
		sites = append(sites, m.Sites...)
	}
	return o.Edits, sites, nil
}

// partIn is the component in a folder.
func (p *Project) partIn(dir string) *Part {
	for _, part := range p.Components {
		if part.Dir == dir {
			return part
		}
	}
	return nil
}

// staying are bounds that leave every requirement where it is locked.
func staying(part *Part, why string) map[string]route.Bound {
	order := part.eco.Order()
	bounds := map[string]route.Bound{}
	for _, r := range part.Requirements {
		if r.Fixed != "" || r.Locked == "" || r.Asked && r.Subject.Kind == part.Ecosystem {
			continue
		}
		at, err := order.Parse(r.Locked)
		if err != nil {
			continue
		}
		bounds[r.Name] = route.Bound{
			Allow: func(v version.Version) bool { return v.Compare(at) == 0 },
			Why:   fmt.Sprintf("%s stays at %s, since %s", r.Name, r.Locked, why),
		}
	}
	return bounds
}
