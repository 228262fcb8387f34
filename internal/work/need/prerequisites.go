package need

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/route"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/pin"
	"bellwether/internal/host/machine"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/ways"
	"bellwether/internal/work/world"
)

// Along is a route of legs that move packages, with the project after each of them.
type Along struct {
	Start *tree.Tree
	Legs  []model.Leg
	Stops []*tree.Tree
}

// Found is what a route needs besides.
type Found struct {
	Legs    []model.Leg // the route's, with those that must come before them
	Notices []string
	First   []world.Destination // packages that rules need, and that should go first
	Follow  []world.Destination // packages that describe a runtime that was asked for: they follow it where they can
}

// Before puts legs before those that need them: runtimes, tools, platforms and
// images that are stated too low, and what a person has to do. Legs say why they stand
// where they do if the request wants that.
func Before(ctx context.Context, asker Asker, r world.Request, along Along) (*Found, error) {
	w := &prerequisites{Asker: asker, request: r, along: along, told: map[string]bool{}}
	if err := w.walk(ctx); err != nil {
		return nil, err
	}
	first, err := w.first(ctx)
	return &Found{Legs: w.legs, Notices: w.notices, First: first, Follow: w.follow()}, err
}

// prerequisites walks along a route from state to state.
type prerequisites struct {
	Asker
	request world.Request
	along   Along
	base    map[model.Subject]*Need // what is needed as things are
	end     *compat.Answer
	legs    []model.Leg
	notices []string
	told    map[string]bool
	wishes  map[model.Subject]version.Range   // runtimes and the like that are destinations
	moved   map[model.Subject]version.Version // where these go
}

func (w *prerequisites) walk(ctx context.Context) error {
	start := w.along.Start
	w.base = map[model.Subject]*Need{}
	if a, err := w.answer(ctx, start); err == nil {
		needs, err := w.Needs(ctx, start, a)
		if err != nil {
			return err
		}
		for _, n := range needs {
			w.base[n.Subject] = n
			if n.Raise {
				w.notices = append(
					w.notices, fmt.Sprintf("%s is stated too low for what is locked already; bellwether prereqs --now tells where", n.Subject),
				)
			}
		}
	}
	// The platform's places are changed in a tree of their own, beside packages.
	platform, err := w.asked(ctx)
	if err != nil {
		return err
	}
	stops, before := w.along.Stops, start
	for i, leg := range w.along.Legs {
		after := stops[i].WithPlaces(platform)
		a, err := w.answer(ctx, before.WithPlaces(platform), after)
		together := err != nil
		if err != nil {
			// What suits the state before does not suit the one after: both move
			// at once, if that goes.
			if a, err = w.answer(ctx, after); err != nil {
				return w.noWay(ctx, err, after)
			}
		}
		for _, d := range a.Unmet {
			if text := Unmet(d); !w.told[text] {
				w.told[text] = true
				w.notices = append(w.notices, text)
			}
		}
		needs, err := w.Needs(ctx, after, a)
		if err != nil {
			return err
		}
		if !together {
			w.lookAhead(ctx, needs, append([]*tree.Tree{before.WithPlaces(platform)}, stops[i:]...))
		}
		if platform, err = w.prepare(ctx, platform, &leg, needs, after, together); err != nil {
			return err
		}
		w.legs = append(w.legs, leg)
		w.end, before = a, after
	}
	return nil
}

// Unmet tells of advice that gave way.
func Unmet(d compat.Demand) string {
	return d.String() + "; the rest needs a newer one, so that this gives way (installing warns of it, no more)"
}

// lookAhead lets what must be raised go at once to where the rest of the route
// needs it, if that goes now.
func (w *prerequisites) lookAhead(ctx context.Context, needs []*Need, states []*tree.Tree) {
	if len(states) < 3 || !slices.ContainsFunc(needs, func(n *Need) bool { return n.Raise }) {
		return
	}
	a, err := w.answer(ctx, states...)
	if err != nil {
		return
	}
	for _, n := range needs {
		if v := a.Chosen[n.Subject]; n.Raise && v != nil && v.Compare(n.To) > 0 {
			n.To = v
			n.Wants.Merge(a.WantsOf(n.Subject))
			n.Users.Merge(a.UsersWant(n.Subject))
			n.Links = slices.DeleteFunc(slices.Clone(a.Links), func(l compat.Link) bool { return l.Need.Subject != n.Subject })
		}
	}
}

// noWay is the error of a conflict, with what would do if it did not stay.
func (w *prerequisites) noWay(ctx context.Context, err error, st *tree.Tree) error {
	var c *solve.Conflict
	if !errors.As(err, &c) {
		return err
	}
	no := &ways.NoWay{Conflict: c}
	held := w.Hold
	defer func() { w.Hold = held }()
	for i, name := range held {
		s, ok := model.ReadSubject(name)
		if !ok || !s.IsPin() {
			continue
		}
		w.Hold = slices.Concat(held[:i], held[i+1:])
		if a, err := w.answer(ctx, st); err == nil && a.Chosen[s] != nil {
			no.Ways = append(
				no.Ways,
				output.WayOut{Text: fmt.Sprintf("let %s go to %s", s, a.Chosen[s]), Option: "without --hold " + name, Cost: ways.CostRelease},
			)
			no.Take = append(no.Take, func(r *world.Request) {
				r.Hold = slices.DeleteFunc(r.Hold, func(held string) bool { return held == name })
			})
		}
	}
	return no
}

// asked makes the legs of runtimes, tools, platforms and images that are
// destinations themselves.
func (w *prerequisites) asked(ctx context.Context) (*tree.Tree, error) {
	platform := w.along.Start
	places, err := platform.Places()
	if err != nil {
		return nil, err
	}
	w.wishes, w.moved = map[model.Subject]version.Range{}, map[model.Subject]version.Version{}
	for _, text := range w.request.To {
		d, err := world.ReadDestination(text)
		if err != nil {
			return nil, err
		}
		s, ok := model.ReadSubject(d.Name)
		if !ok || !s.IsPin() || platform.RequiredAs(s) != "" {
			continue
		}
		if len(places.Of(s)) == 0 {
			return nil, &model.Fault{
				Doing: "reading --to " + text, Wrong: fmt.Sprintf("no file states %s", s), Next: "bellwether survey lists what files state",
			}
		}
		if w.wishes[s], err = (version.Plain{}).ParseRange(d.Range); err != nil {
			return nil, &model.Fault{Doing: "reading --to " + text, Wrong: err.Error()}
		}
	}
	if len(w.wishes) == 0 {
		return platform, nil
	}
	a, err := w.answer(ctx, platform)
	if err != nil {
		return nil, w.noWay(ctx, err, platform)
	}
	for _, pins := range places.Groups {
		s := pins[0].Subject
		if w.wishes[s] == nil || a.Chosen[s] == nil {
			continue
		}
		n := &Need{Subject: s, Wants: a.WantsOf(s), Pins: pins, To: a.Chosen[s], Installed: w.Desk.Machine().Versions(ctx, s)}
		if exact, err := (version.Plain{}).Newest(w.wishes[s].String()); err == nil {
			n.To = exact // as it was written, rather than a release of it
		}
		n.judge()
		if at := tree.Stated(pins); at != nil && n.To.Compare(at) < 0 {
			return nil, &model.Fault{
				Doing: fmt.Sprintf("reading --to %s@%s", s, w.wishes[s]),
				Wrong: fmt.Sprintf("%s is stated as %s already, and places are never lowered", s, at),
				Next:  "edit the places that bellwether survey lists, if lower is what you want",
			}
		}
		if lines := w.Shelf.Lines(s); len(lines) > 0 {
			if newest := slices.MaxFunc(lines, version.Version.Compare); version.CompareStated(n.To.String(), newest.String()) > 0 {
				w.notices = append(w.notices, fmt.Sprintf("%s %s is newer than any line that the compat books know, which is %s", s, n.To, newest))
			}
		}
		if here, err := n.here(w.wishes[s]); err != nil {
			return nil, err
		} else if here.Install && verifiedWith(platform, s) && !w.served(here) {
			w.person(here, "asked for")
		}
		if platform, err = w.raise(ctx, platform, n, "asked for", nil); err != nil {
			return nil, err
		}
		w.moved[s] = n.To
		if err := w.tellBuilt(ctx, s, n.To); err != nil {
			return nil, err
		}
	}
	return platform, nil
}

// served tells whether the stages find what is needed in the folder of a version manager, since files state it, and tells that.
func (w *prerequisites) served(n *Need) bool {
	exact := slices.ContainsFunc(n.Pins, func(q model.Pin) bool { return q.List == nil && pin.Low(q) != nil })
	if !n.Install || n.Elsewhere == nil || !exact || n.Elsewhere.Folder(machine.Program(n.Subject)) == "" {
		return false
	}
	text := fmt.Sprintf(
		"stages run with %s %s, which lies in %s; what starts without them is %s", n.Subject, n.Elsewhere.Version, n.Elsewhere.Where,
		starts(n.Installed),
	)
	if !w.told[text] {
		w.told[text] = true
		w.notices = append(w.notices, text)
	}
	return true
}

// verifiedWith tells whether the stages of some component run with a runtime or tool: else it need not be on this machine.
func verifiedWith(t *tree.Tree, s model.Subject) bool {
	return slices.ContainsFunc(t.Parts, func(part *tree.Part) bool {
		return slices.ContainsFunc(part.Eco.Tools(), func(command []string) bool { return command[0] == machine.Program(s) })
	})
}

func (w *prerequisites) answer(ctx context.Context, states ...*tree.Tree) (*compat.Answer, error) {
	q, err := w.Question(ctx, states...)
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
func (w *prerequisites) prepare(
	ctx context.Context, platform *tree.Tree, leg *model.Leg, needs []*Need, after *tree.Tree, together bool,
) (*tree.Tree, error) {
	first := len(w.legs)
	defer func() {
		for i := first; w.request.Explain && i < len(w.legs); i++ {
			w.legs[i].Why = []string{fmt.Sprintf("in this place: before the leg %q, which needs it", leg.Title)}
		}
	}()
	for _, n := range inOrder(needs) {
		wants := strings.Join(n.Wants.Texts(), ", ")
		known := w.base[n.Subject]
		same := known != nil && strings.Join(known.Wants.Texts(), ", ") == wants
		if next := n.Next(); next != "" && !(same && known.Next() != "") && !w.served(n) {
			w.person(n, n.reason())
		}
		brought, err := w.brings(ctx, n, after)
		if err != nil {
			return nil, err
		}
		if !n.Raise || known != nil && !n.lacksMore(known) && known.Raise && brought == "" {
			continue // it was too low before, and what moves asks for nothing that is not there
		}
		into := leg
		if !together && !slices.ContainsFunc(leg.Moves, func(m model.Move) bool { return m.Subject == n.Subject }) {
			into = nil
		}
		because := n.reason()
		if known != nil && known.Raise && !n.lacksMore(known) && !strings.HasPrefix(brought, because) {
			because = brought + "; " + because + ", as it did before"
		}
		if platform, err = w.raise(ctx, platform, n, because, into); err != nil {
			return nil, err
		}
	}
	return platform, nil
}

func stating(by, wanted string) string { return by + " states that it needs " + wanted }

// person makes a leg of what a person has to do, once.
func (w *prerequisites) person(n *Need, because string) {
	text := n.Next()
	if w.told[text] {
		return
	}
	w.told[text] = true
	verb := "install "
	if n.Unknown {
		verb = "see to "
	}
	w.legs = append(w.legs, model.Leg{
		ID: "0-" + route.Slug(verb+n.Subject.Name), Title: "for you: " + verb + n.Subject.String() + " " + strings.Join(n.Wants.Texts(), ", "),
		Steps: []model.Step{{Text: text, Because: because, Subject: n.Subject, Wants: n.Wants.Texts()}},
	})
}

// raise takes all places of a subject to where they are to go, in a leg of its
// own or in one that is given, and gives the platform's tree afterwards.
func (w *prerequisites) raise(ctx context.Context, platform *tree.Tree, n *Need, because string, into *model.Leg) (*tree.Tree, error) {
	raised, err := world.Raise(
		ctx, w.Desk, platform, n.Subject, n.Aim(),
		into != nil && slices.ContainsFunc(into.Moves, func(m model.Move) bool { return m.Subject == n.Subject }),
	)
	if err != nil || len(raised.Edits) == 0 {
		return platform, err
	}
	from := lowestOf(n.Pins, raised.Sites)
	move := model.Move{
		Subject: n.Subject, Name: n.Subject.String(), From: from, To: n.To.String(), Sites: raised.Sites, Because: because,
		Wants: n.Wants.Texts(),
	}
	if aim := n.Aim(); aim.Promise != nil && aim.Promise.Compare(aim.Low) < 0 {
		move.Promise = aim.Promise.String()
	}
	if into != nil {
		into.Moves = append(into.Moves, move)
	} else {
		title := fmt.Sprintf("%s to %s", n.Subject, n.To)
		w.legs = append(w.legs, model.Leg{ID: "0-" + route.Slug(title), Title: title, Moves: []model.Move{move}})
	}
	w.notices = append(w.notices, raised.Notes...)
	return platform.With(raised.Edits)
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
	return cmp.Or(lowest.Range, "unstated")
}

// reason is the need that decides where the places have to go, in words: of those that are
// not met as things are, the one that begins highest.
func (n *Need) reason() string {
	var decides *compat.Link
	var highest version.Version
	for i, l := range n.Links {
		if !n.lacks(l.Need.Range, l.Not, l.Demand != nil && l.Demand.Development) {
			continue
		}
		least := lowestIn(l.Need.Range)
		if decides == nil || !l.Not && least != nil && (highest == nil || least.Compare(highest) > 0) {
			decides, highest = &n.Links[i], least
		}
	}
	l := n.Links[0]
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
func inOrder(needs []*Need) []*Need {
	var list []*Need
	done := map[model.Subject]bool{}
	var visit func(n *Need)
	visit = func(n *Need) {
		if done[n.Subject] {
			return
		}
		done[n.Subject] = true
		for _, other := range needs {
			for _, l := range other.Links {
				if l.By == n.Subject {
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
func (w *prerequisites) first(ctx context.Context) ([]world.Destination, error) {
	if w.end == nil {
		return nil, nil
	}
	was, err := w.Desk.Effective(ctx, w.along.Start)
	if err != nil {
		return nil, err
	}
	var list []world.Destination
	now := was.World()
	for _, l := range w.end.Links {
		if l.Need.Subject.IsPin() || l.Not || now.Holds(l.Need) {
			continue
		}
		for _, part := range w.along.Start.Parts {
			for _, r := range part.Requirements {
				asked := slices.ContainsFunc(w.request.To, func(text string) bool { return strings.HasPrefix(text, r.Name+"@") })
				if r.Subject == l.Need.Subject && r.Fixed == "" && !asked {
					list = append(
						list,
						world.Destination{
							Name: r.Name, Range: l.Need.Text, Text: r.Name + "@" + l.Need.Text,
							Because: fmt.Sprintf("%s needs it (%s)", l.By, l.Rule.ID),
						},
					)
				}
			}
		}
	}
	return list, nil
}
