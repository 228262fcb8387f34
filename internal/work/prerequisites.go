package work

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/overlay"
	"bellwether/internal/core/route"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/pin"
)

// addPrerequisites puts legs before those that need them: runtimes, tools,
// platforms and images that are stated too low, and what a person has to do. It
// gives the packages that rules need, and that should go first.
func (p *Project) addPrerequisites(ctx context.Context, opt RouteOptions, r *planned) ([]destination, error) {
	s, err := p.shelf(ctx)
	if err != nil {
		return nil, err
	}
	w := &prerequisites{p: p, opt: opt, shelf: s, hold: append(slices.Clone(opt.Hold), p.Settings.Hold...), route: r, told: map[string]bool{}}
	if err := w.walk(ctx); err != nil {
		return nil, err
	}
	r.route.Legs = w.legs
	r.notices = append(r.notices, w.notices...)
	if opt.Reach == reachFix {
		parts, err := p.partsIn(r.end())
		if err != nil {
			return nil, err
		}
		if r.left, err = p.surveyAdvisories(packagesOf(r.end(), parts), opt.Advisories); err != nil {
			return nil, err
		}
	}
	return w.first(), nil
}

// prerequisites walks along a route from state to state.
type prerequisites struct {
	p       *Project
	opt     RouteOptions
	shelf   *shelf
	hold    []string
	route   *planned
	base    map[model.Subject]*need // what is needed as things are
	start   *state
	end     *compat.Answer
	legs    []model.Leg
	notices []string
	told    map[string]bool
	wishes  map[model.Subject]version.Range // runtimes and the like that are destinations
}

func (w *prerequisites) walk(ctx context.Context) error {
	var err error
	if w.start, err = w.p.now(); err != nil {
		return err
	}
	w.base = map[model.Subject]*need{}
	if a, err := w.answer(ctx, w.start); err == nil {
		for _, n := range w.p.needs(ctx, w.start, a) {
			w.base[n.subject] = n
			if n.raise {
				w.notices = append(w.notices, fmt.Sprintf("%s is stated too low for what is locked already; bellwether prereqs --now tells where", n.subject))
			}
		}
	}
	// The platform's places are changed in a tree of their own, beside packages.
	platform, err := w.asked(ctx)
	if err != nil {
		return err
	}
	var stops []*state
	parts := w.start.parts
	for _, s := range w.route.stops {
		parts = slices.Clone(parts)
		parts[slices.IndexFunc(parts, func(part *Part) bool { return part.Dir == s.part.Dir })] = s.part
		stops = append(stops, packagesOf(s.fsys, parts))
	}
	before := w.start
	for i, leg := range w.route.route.Legs {
		after := stops[i].with(platform)
		a, err := w.answer(ctx, before.with(platform), after)
		together := err != nil
		if err != nil {
			// What suits the state before does not suit the one after: both move
			// at once, if that goes.
			if a, err = w.answer(ctx, after); err != nil {
				return w.noWay(ctx, err, after)
			}
		}
		for _, d := range a.Unmet {
			if text := unmet(d); !w.told[text] {
				w.told[text] = true
				w.notices = append(w.notices, text)
			}
		}
		needs := w.p.needs(ctx, after, a)
		if !together {
			w.lookAhead(ctx, needs, append([]*state{before.with(platform)}, stops[i:]...))
		}
		if platform, err = w.prepare(ctx, platform, &leg, needs, after, together); err != nil {
			return err
		}
		w.legs = append(w.legs, leg)
		w.end, before = a, after
	}
	return nil
}

// unmet tells of advice that gave way.
func unmet(d compat.Demand) string {
	return d.String() + "; the rest needs a newer one, so that this gives way (installing warns of it, no more)"
}

// lookAhead lets what must be raised go at once to where the rest of the route
// needs it, if that goes now.
func (w *prerequisites) lookAhead(ctx context.Context, needs []*need, states []*state) {
	if len(states) < 3 || !slices.ContainsFunc(needs, func(n *need) bool { return n.raise }) {
		return
	}
	a, err := w.answer(ctx, states...)
	if err != nil {
		return
	}
	for _, n := range needs {
		if v := a.Chosen[n.subject]; n.raise && v != nil && v.Compare(n.to) > 0 {
			n.to = v
			n.wants.Merge(a.WantsOf(n.subject))
			n.links = slices.DeleteFunc(slices.Clone(a.Links), func(l compat.Link) bool { return l.Need.Subject != n.subject })
		}
	}
}

// noWay is the error of a conflict, with what would do if it did not stay.
func (w *prerequisites) noWay(ctx context.Context, err error, st *state) error {
	c, ok := conflictOf(err)
	if !ok {
		return err
	}
	no := &NoWay{Conflict: c}
	held := w.hold
	defer func() { w.hold = held }()
	for i, name := range held {
		s, ok := model.ReadSubject(name)
		if !ok || !s.IsPin() {
			continue
		}
		w.hold = slices.Concat(held[:i], held[i+1:])
		if a, err := w.answer(ctx, st); err == nil && a.Chosen[s] != nil {
			no.Ways = append(no.Ways, model.WayOut{Text: fmt.Sprintf("let %s go to %s", s, a.Chosen[s]), Option: "without --hold " + name, Cost: costRelease})
			no.take = append(no.take, func(_ *Project, o *RouteOptions) {
				o.Hold = slices.DeleteFunc(o.Hold, func(held string) bool { return held == name })
			})
		}
	}
	return no
}

// asked makes the legs of runtimes, tools, platforms and images that are
// destinations themselves.
func (w *prerequisites) asked(ctx context.Context) (*state, error) {
	platform := w.start
	w.wishes = map[model.Subject]version.Range{}
	for _, text := range w.opt.To {
		d, err := readDestination(text)
		if err != nil {
			return nil, err
		}
		s, ok := model.ReadSubject(d.name)
		if !ok || !s.IsPin() || w.p.requiredAs(s) != "" {
			continue
		}
		if len(w.start.pinsOf(s)) == 0 {
			return nil, &model.Fault{Doing: "reading --to " + text, Wrong: fmt.Sprintf("no file states %s", s), Next: "bellwether survey lists what files state"}
		}
		if w.wishes[s], err = (version.Plain{}).ParseRange(d.rng); err != nil {
			return nil, &model.Fault{Doing: "reading --to " + text, Wrong: err.Error()}
		}
	}
	if len(w.wishes) == 0 {
		return platform, nil
	}
	a, err := w.answer(ctx, w.start)
	if err != nil {
		return nil, w.noWay(ctx, err, w.start)
	}
	for _, pins := range w.start.pins {
		s := pins[0].Subject
		if w.wishes[s] == nil || a.Chosen[s] == nil {
			continue
		}
		n := &need{subject: s, wants: a.WantsOf(s), pins: pins, to: a.Chosen[s], installed: w.p.machine().Versions(ctx, s)}
		if exact, err := (version.Plain{}).Newest(w.wishes[s].String()); err == nil {
			n.to = exact // as it was written, rather than a release of it
		}
		n.judge()
		if at := stated(pins); at != nil && n.to.Compare(at) < 0 {
			return nil, &model.Fault{Doing: fmt.Sprintf("reading --to %s@%s", s, w.wishes[s]), Wrong: fmt.Sprintf("%s is stated as %s already, and places are never lowered", s, at), Next: "edit the places that bellwether survey lists, if lower is what you want"}
		}
		if lines := w.shelf.lines(s); len(lines) > 0 {
			if newest := slices.MaxFunc(lines, version.Version.Compare); version.CompareStated(n.to.String(), newest.String()) > 0 {
				w.notices = append(w.notices, fmt.Sprintf("%s %s is newer than any line that the compat books know, which is %s", s, n.to, newest))
			}
		}
		if n.install {
			w.person(n, "asked for")
		}
		if platform, err = w.raise(ctx, platform, n, "asked for", nil); err != nil {
			return nil, err
		}
	}
	return platform, nil
}

func (w *prerequisites) answer(ctx context.Context, states ...*state) (*compat.Answer, error) {
	q, err := w.p.question(ctx, w.opt.Prefer, w.hold, states...)
	if err != nil {
		return nil, err
	}
	for _, s := range q.Subjects {
		if rng := w.wishes[s.Subject]; rng != nil {
			s.Allow, s.Newest = rng.Contains, true
			s.Candidates = append(s.Candidates, version.Bounds(version.Plain{}, rng)...)
			s.Why = fmt.Sprintf("%s@%s is asked for", s.Subject, rng)
		}
	}
	return q.Answer(ctx)
}

// prepare makes the legs that a leg needs before it, what is needed by others
// first. With together, places change in the leg itself.
func (w *prerequisites) prepare(ctx context.Context, platform *state, leg *model.Leg, needs []*need, after *state, together bool) (*state, error) {
	first := len(w.legs)
	defer func() {
		for i := first; w.opt.Explain && i < len(w.legs); i++ {
			w.legs[i].Why = []string{fmt.Sprintf("in this place: before the leg %q, which needs it", leg.Title)}
		}
	}()
	for _, n := range inOrder(needs) {
		wants := strings.Join(n.wants.Texts(), ", ")
		known := w.base[n.subject]
		same := known != nil && strings.Join(known.wants.Texts(), ", ") == wants
		if next := n.next(); next != "" && !(same && known.next() != "") {
			w.person(n, n.reason())
		}
		brought := w.brings(n, after)
		if !n.raise || same && known.raise && brought == "" {
			continue // it was too low before, and what moves asks for nothing that is not there
		}
		into := leg
		if !together && !slices.ContainsFunc(leg.Moves, func(m model.Move) bool { return m.Subject == n.subject }) {
			into = nil
		}
		var err error
		because := n.reason()
		if same && known.raise && !strings.HasPrefix(brought, because) {
			because = brought + "; " + because + ", as it did before"
		}
		if platform, err = w.raise(ctx, platform, n, because, into); err != nil {
			return nil, err
		}
	}
	return platform, nil
}

// brings is what a package that was not there at the start needs of a subject and the
// places do not state, in words; "" for nothing.
func (w *prerequisites) brings(n *need, after *state) string {
	known := map[string]bool{}
	for subject, all := range w.start.packages {
		for _, pkg := range all {
			known[subject.String()+"@"+pkg.Version] = true
		}
	}
	for _, subject := range after.order {
		for _, pkg := range after.packages[subject] {
			if known[subject.String()+"@"+pkg.Version] {
				continue
			}
			for _, needed := range pkg.Needs {
				rng, err := version.Plain{}.ParseRange(needed.Range)
				if err == nil && needed.Subject == n.subject && n.lacks(rng, false) {
					return stating(subject.String()+" "+pkg.Version, needed.Range)
				}
			}
		}
	}
	return ""
}

// lacks tells whether some place that states the subject is not in a range, or with not,
// is.
func (n *need) lacks(rng version.Range, not bool) bool {
	return slices.ContainsFunc(n.pins, func(q model.Pin) bool { low := pin.Low(q); return low != nil && rng.Contains(low) == not })
}

func stating(by, wanted string) string { return by + " states that it needs " + wanted }

// person makes a leg of what a person has to do, once.
func (w *prerequisites) person(n *need, because string) {
	text := n.next()
	if w.told[text] {
		return
	}
	w.told[text] = true
	verb := "install "
	if n.unknown {
		verb = "see to "
	}
	w.legs = append(w.legs, model.Leg{
		ID: "0-" + route.Slug(verb+n.subject.Name), Title: "for you: " + verb + n.subject.String() + " " + strings.Join(n.wants.Texts(), ", "),
		Steps: []model.Step{{Text: text, Because: because, Subject: n.subject, Wants: n.wants.Texts()}},
	})
}

// raise takes all places of a subject to where they are to go, in a leg of its
// own or in one that is given, and gives the platform's tree afterwards.
func (w *prerequisites) raise(ctx context.Context, platform *state, n *need, because string, into *model.Leg) (*state, error) {
	raised, err := w.p.raisePins(ctx, platform, n.subject, n.aim(), into != nil && slices.ContainsFunc(into.Moves, func(m model.Move) bool { return m.Subject == n.subject }))
	if err != nil || len(raised.Edits) == 0 {
		return platform, err
	}
	from := lowestOf(n.pins, raised.Sites)
	move := model.Move{Subject: n.subject, Name: n.subject.String(), From: from, To: n.to.String(), Sites: raised.Sites, Because: because, Wants: n.wants.Texts()}
	if into != nil {
		into.Moves = append(into.Moves, move)
	} else {
		title := fmt.Sprintf("%s to %s", n.subject, n.to)
		w.legs = append(w.legs, model.Leg{ID: "0-" + route.Slug(title), Title: title, Moves: []model.Move{move}})
	}
	w.notices = append(w.notices, raised.Notes...)
	return w.p.stateOf(overlay.With(platform.fsys, raised.Edits))
}

// lowestOf is the lowest text among the places that change, of those that state
// one version where there are any.
func lowestOf(pins []model.Pin, changed []model.Site) string {
	var lowest model.Pin
	for _, q := range pins {
		low := pin.Low(q)
		if low == nil || q.List != nil || !slices.Contains(changed, q.Site) {
			continue
		}
		exacter := pin.Exact(q) && !pin.Exact(lowest)
		if lowest.Range == "" || exacter || pin.Exact(q) == pin.Exact(lowest) && low.Compare(pin.Low(lowest)) < 0 {
			lowest = q
		}
	}
	return cmpOr(lowest.Range, "unstated")
}

// reason is the need that decides where the places have to go, in words: of those that are
// not met as things are, the one that begins highest.
func (n *need) reason() string {
	var decides *compat.Link
	var highest version.Version
	for i, l := range n.links {
		if !n.lacks(l.Need.Range, l.Not) {
			continue
		}
		least := lowestIn(l.Need.Range)
		if decides == nil || !l.Not && least != nil && (highest == nil || least.Compare(highest) > 0) {
			decides, highest = &n.links[i], least
		}
	}
	l := n.links[0]
	if decides != nil {
		l = *decides
	}
	wanted := l.Need.Text
	if l.Not {
		wanted = "other than " + wanted
	}
	by := l.By.String()
	if l.Rule != nil {
		return fmt.Sprintf("%s needs %s (%s)", by, wanted, l.Rule.ID)
	}
	return stating(strings.TrimSpace(by+" "+l.Demand.Which), wanted)
}

// lowestIn is the lowest version that a range is written with and contains, nil for
// none.
func lowestIn(rng version.Range) (lowest version.Version) {
	if rng == nil {
		return nil
	}
	for _, v := range version.Bounds(version.Plain{}, rng) {
		if rng.Contains(v) && (lowest == nil || v.Compare(lowest) < 0) {
			lowest = v
		}
	}
	return lowest
}

// inOrder puts what others need before them.
func inOrder(needs []*need) []*need {
	var list []*need
	done := map[model.Subject]bool{}
	var visit func(n *need)
	visit = func(n *need) {
		if done[n.subject] {
			return
		}
		done[n.subject] = true
		for _, other := range needs {
			for _, l := range other.links {
				if l.By == n.subject {
					visit(other)
				}
			}
		}
		list = append(list, n)
	}
	for _, n := range needs {
		visit(n)
	}
	return list
}

// first are the packages that rules need at the end, that did not do at the
// start, and that nobody asked for.
func (w *prerequisites) first() []destination {
	if w.end == nil {
		return nil
	}
	var list []destination
	now := w.start.world()
	for _, l := range w.end.Links {
		if l.Need.Subject.IsPin() || l.Not || now.Holds(l.Need) {
			continue
		}
		for _, part := range w.p.Components {
			for _, r := range part.Requirements {
				asked := slices.ContainsFunc(w.opt.To, func(text string) bool { return strings.HasPrefix(text, r.Name+"@") })
				if r.Subject == l.Need.Subject && r.Fixed == "" && !asked {
					list = append(list, destination{name: r.Name, rng: l.Need.Text, text: r.Name + "@" + l.Need.Text, because: fmt.Sprintf("%s needs it (%s)", l.By, l.Rule.ID)})
				}
			}
		}
	}
	return list
}
