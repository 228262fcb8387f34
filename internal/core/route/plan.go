package route

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
)

// Plan is what a route is computed from.
type Plan struct {
	Component   string // what it is called, for the legs
	Order       version.Order
	Subjects    []*Subject
	Wishes      []Wish
	Reach       version.Reach     // how far everything else may move by itself
	NoLock      bool              // the first leg writes the lock that is missing
	Rules       []contract.Rule   // that hold in every state
	Replaced    []contract.Change // requirements that go on under another name, if there is a wish or reach for that
	Replaceable []contract.Change // and those for which there is none
	// Within are requirements that go on as another one which is required already, by name.
	Within   map[string]string
	Restored []Restore // requirements that are added where something needs them
	// Vulnerable are requirements that are to go to the nearest version without
	// known vulnerabilities, and Avoid tells of those below them.
	Vulnerable []Vulnerable
	Avoid      func(name, version string) bool
	Down       []string // names that may go to older versions beside what moves
	// Overrides are made where a leg needs them; those with a range, and those that
	// are to go, come first.
	Overrides []model.Override
	Dedupe    bool              // the last leg leaves as few copies of packages as there can be
	Also      map[string]string // versions that no list of releases has, by name
	Indirect  bool              // what only the lock has is refreshed, too
	Apart     []string          // names that members of a workspace may have at versions of their own
	LeftOut   []string          // folders of components that stay as they are
	Previews  []string          // names whose pre-releases may be taken
	Stated    bool              // what nobody named stays within what manifests state
	Few       int               // legs that only refresh have no more moves than this, if they can be split; 0 for any number
	Stepwise  bool              // no major is passed over that can be gone through
	Told      []string          // what is to be told besides, as sentences
	Missed    []error           // what could not be had; it is told, too
	Explain   bool              // legs say why their moves belong together, and why in this place
}

// Keys gives what tells how the plan speaks of declarations: those that move by themselves have subjects of their own.
func (p *Plan) Keys() func(r model.Requirement) string {
	own := contract.Goal{Bounds: map[string]contract.Bound{}}
	for _, s := range p.Subjects {
		own.Bounds[s.Name] = contract.Bound{}
	}
	return own.Keys()
}

// Frame is what every leg of some terms lays down, whatever it moves.
func (p *Plan) Frame(terms model.Terms) contract.Goal {
	goal := contract.Goal{Rules: p.Rules, Also: p.Also, Previews: p.Previews, Terms: terms}
	goal.Apart, goal.LeftOut = p.Apart, p.LeftOut
	if terms.Fixes {
		goal.Avoid = p.Avoid
	}
	return goal
}

// framed is a goal with what every leg lays down.
func (p *Plan) framed(goal contract.Goal) contract.Goal {
	frame := p.Frame(goal.Terms)
	goal.Rules, goal.Also, goal.Previews, goal.Terms, goal.Avoid = frame.Rules, frame.Also, frame.Previews, frame.Terms, frame.Avoid
	return goal
}

// Legs computes the route's legs. What had to be left behind, and why, is in
// the notices. The error is a *solve.Conflict if a wish cannot be met.
func (p *Plan) Legs(ctx context.Context, w World) (legs []model.Leg, notices []string, err error) {
	r := &planner{Plan: p, world: w, ctx: ctx, notices: slices.Clone(p.Told), told: map[string]bool{}}
	for _, step := range r.steps() {
		r.place = step.place
		if err := step.run(); err != nil {
			return nil, nil, err
		}
	}
	if err := r.byItself(r.catchUp)(); err != nil {
		return nil, nil, err
	}
	r.place = "it did not go before the rest"
	for _, c := range r.waiting {
		err := r.change(c)
		if err == nil {
			continue
		}
		if c.Asked || !errors.As(err, new(*solve.Conflict)) {
			return nil, nil, err
		}
		r.notices = append(r.notices, fmt.Sprintf("%s stays, and does not become %s, with which the rest does not go", c.Old, c.New))
	}
	if r.unrefreshed != nil {
		if len(r.legs) == 0 {
			return nil, nil, r.unrefreshed
		}
		r.notices = append(r.notices, "nothing more moves within its major: "+firstFacts(r.unrefreshed))
	}
	for _, o := range r.Overrides {
		r.notices = append(r.notices, "not needed, and left out: that "+o.String())
	}
	r.tellExact()
	r.tellBarred()
	if err := r.tellShort(); err != nil {
		return nil, nil, err
	}
	if names := r.several(); len(names) > 0 && r.Reach > version.Stay {
		r.notices = append(r.notices, fmt.Sprintf(
			"still declared at several majors after this route: %s; --to NAME@RANGE brings the places of a package together",
			listed(names),
		))
	}
	return r.legs, r.notices, nil
}

// step makes legs of one kind.
type step struct {
	run   func() error
	place string // why they stand where they do
}

// steps are all kinds of legs, in their order.
func (r *planner) steps() []step {
	steps := []step{
		{r.lock, "without a lock nothing can be compared"},
		{r.override, "what it lays down holds for all that follows"},
		{r.fix, "what is known to be vulnerable goes first"},
		{func() error { return r.replace(true) }, "what takes its version from elsewhere is to stay where it is when that moves"},
		{func() error { return r.destinations(true) }, "what others run on goes before them, since it runs older ones, too"},
		{
			r.byItself(func() error { return r.refresh("refresh", "refresh") }),
			"before any major, since what is newest within its major is most likely to be ready for the next one",
		},
		{r.byItself(r.indirect), "what the manifest asks for has moved, and may ask for others"},
		{func() error { return r.replace(false) }, "a name changes by itself, so that what breaks is not put down to a newer version"},
		{func() error { return r.destinations(false) }, "after what could be made ready for it"},
	}
	if r.Reach == version.Major {
		steps = append(steps,
			step{r.byItself(r.frameworks), "what others want to meet goes before them, the most wanted first"},
			step{r.byItself(r.rest), "after what others want to meet; nothing waits for it"})
	}
	return append(steps,
		step{r.byItself(func() error { return r.refresh("catch-up", "catch up") }), "the majors before may have made room for it"},
		step{r.dedupe, "which copies are needed is known at the end"})
}

type planner struct {
	*Plan
	world    World
	ctx      context.Context
	legs     []model.Leg
	notices  []string
	restored []string          // names that were added
	waiting  []contract.Change // other names that could not be taken by themselves
	stuck    []stuck           // what did not go to a newer major
	passing  bool              // companions are taken through the majors that they would skip
	unasked  bool              // nobody asked for the next leg by name
	lead     *Subject          // what the next leg is about, where that is one subject
	told     map[string]bool   // what is told to stay in legs about many, since a newer release brings needs that are not met
	// unrefreshed is why the last try within the majors that are in use found no state, nil
	// if it found one.
	unrefreshed *solve.Conflict
	place       string // why the next leg stands where it does
}

// leg solves for a goal and makes a leg of what moved, if anything did.
// because gives the reason of each move.
func (r *planner) leg(id, title string, goal contract.Goal, because func(m model.Move) string) (bool, error) {
	if err := r.ctx.Err(); err != nil {
		return false, err
	}
	goal.Bounds = r.oneByOne(goal.Bounds)
	goal, state, err := r.solve(goal)
	if err != nil {
		return false, err
	}
	along := map[string]string{}
	if goal, state, err = r.follow(goal, state, along); err != nil {
		return false, err
	}
	if goal, state, err = r.single(goal, state, along); err != nil {
		return false, err
	}
	if goal, state, err = r.met(goal, state); err != nil {
		return false, err
	}
	if goal, state, err = r.cured(goal, state, along); err != nil {
		return false, err
	}
	if goal, state, err = r.met(goal, state); err != nil { // what cures may have needs of its own
		return false, err
	}
	if added := r.restore(state); len(added) > 0 {
		goal.Changes = append(slices.Clone(goal.Changes), added...)
		if state, err = r.try(goal); err != nil {
			return false, err
		}
	}
	if len(state.Moves)+len(state.Carried)+len(goal.Overrides) == 0 && !(goal.Dedupe && len(state.Edits) > 0) {
		return false, nil
	}
	notices := state.Notices
	if len(r.legs) == 0 { // later ones find again what these legs are told of
		notices = slices.Concat(notices, state.AsBefore)
	}
	for _, n := range notices {
		if !slices.Contains(r.notices, n) {
			r.notices = append(r.notices, n)
		}
	}
	goal = r.framed(goal)
	leg := model.Leg{
		ID: fmt.Sprintf("%d-%s", len(r.legs)+1, id), Title: title, Component: r.Component, Moves: state.Moves, Carried: state.Carried,
		Terms: goal.Terms, Notes: state.Notable,
	}
	if leg.Why, err = r.explain(goal, state); err != nil {
		return false, err
	}
	for i := range leg.Moves {
		m := &leg.Moves[i]
		m.Because = cmp.Or(along[m.Key()], because(*m))
		for _, c := range goal.Changes {
			if c.New == m.Name || c.Old == m.Name {
				m.Because = c.Why
			}
		}
		for _, s := range r.moved(*m) {
			if m.To == "" {
				r.Subjects = slices.DeleteFunc(slices.Clone(r.Subjects), func(o *Subject) bool { return o == s })
				continue
			}
			if s.At, err = r.Order.Parse(m.To); err != nil {
				return false, err
			}
			if err := r.rename(s, m.Becomes); err != nil {
				return false, err
			}
		}
	}
	r.legs = append(r.legs, leg)
	return true, r.world.Take(state)
}

// held are the bounds of what must not move at all.
func (r *planner) held() map[string]contract.Bound {
	bounds := map[string]contract.Bound{}
	for _, s := range r.Subjects {
		if s.Held && s.At != nil {
			at := s.At
			bounds[s.Name] = contract.Bound{
				Allow: func(v version.Version) bool { return v.Compare(at) == 0 },
				Why:   fmt.Sprintf("%s is held at %s", s, at),
			}
		}
	}
	return bounds
}

func (r *planner) lock() error {
	if !r.NoLock {
		return nil
	}
	because := func(m model.Move) string {
		if r.wish(m.Key()) != nil {
			return "asked for"
		}
		return "there was no lock"
	}
	_, err := r.leg("lock", "write the lock that is missing", contract.Goal{}, because)
	if !errors.As(err, new(*solve.Conflict)) || len(r.Wishes) == 0 {
		return err
	}
	// What is asked for may be what makes it possible.
	goal := contract.Goal{Bounds: map[string]contract.Bound{}}
	for _, w := range r.Wishes {
		goal.Bounds[w.Name] = contract.Bound{Allow: w.Range.Contains, Newest: true, Why: w.Text + " is asked for"}
		goal.First = append(goal.First, w.Name)
	}
	_, err = r.leg("lock", "write the lock that is missing, with what is asked for", goal, because)
	return err
}

// refresh takes everything within reach to the newest of its line.
func (r *planner) refresh(id, title string) error {
	bounds := r.held()
	asked := func(s *Subject) bool {
		wish := cmp.Or(r.wish(s.Name), r.familyWish(s))
		return r.Reach >= version.Patch || id == "refresh" && wish != nil && !wish.Follows
	}
	reach := r.Reach
	if reach == version.Stay || reach == version.Major {
		reach = version.Minor
	}
	any := false
	for _, s := range r.Subjects {
		if s.Held || s.At == nil {
			continue
		}
		at, wish := s.At, cmp.Or(r.wish(s.Name), r.familyWish(s))
		if s.Runtime {
			// It has gone where it was asked to, and within that as far as it must.
			bounds[s.Name] = contract.Bound{
				Allow: func(v version.Version) bool {
					return v.Compare(at) >= 0 && (wish == nil || v.Compare(at) == 0 || wish.Range.Contains(v))
				},
				Why: fmt.Sprintf("%s is at %s", s, at),
			}
			continue
		}
		if s.Exact && wish == nil {
			bounds[s.Name] = contract.Bound{
				Allow: func(v version.Version) bool { return v.Compare(at) == 0 }, Why: fmt.Sprintf("%s is stated as exactly %s", s, s.Stated),
			}
			continue
		}
		bounds[s.Name] = contract.Bound{
			Newest: asked(s),
			Why:    fmt.Sprintf("%s is to stay within %s in this leg", s, s.At.Line()),
			Allow: func(v version.Version) bool {
				if v.Compare(at) < 0 || r.Order.Step(at, v) > reach && !r.Stated {
					return false
				}
				if r.Stated && wish == nil && v.Compare(at) != 0 {
					return s.Admits != nil && s.Admits(v)
				}
				// Not past a destination in the same line.
				return wish == nil || v.Compare(at) == 0 || !r.sameLine(wish, at) || wish.Range.Contains(v)
			},
		}
		any = any || asked(s)
	}
	if !any {
		return nil
	}
	goal := contract.Goal{Bounds: bounds, First: r.byUse(), Fit: true}
	because := func(m model.Move) string {
		wish := r.wish(m.Key())
		if to, err := r.Order.Parse(m.To); wish != nil && err == nil && wish.Range.Contains(to) {
			return "asked for"
		}
		if s := r.subject(m.Key()); wish == nil && r.Reach == version.Stay {
			if w := r.familyWish(s); w != nil {
				return "is released together with " + w.Name
			}
			return "another package of this leg needs it"
		}
		return r.within(m) + r.short(m, reach)
	}
	var err error
	if r.Few > 0 {
		err = r.split(id, title, goal, because)
	} else {
		_, err = r.leg(id, title+" within the majors that are in use", goal, because)
	}
	r.unrefreshed = nil
	if errors.As(err, &r.unrefreshed) {
		return nil // what comes may still go
	}
	return err
}

// within says how far a refresh takes a move, and where that is past what the manifest states.
func (r *planner) within(m model.Move) string {
	s := r.subject(m.Key())
	to, err := r.Order.Parse(m.To)
	switch {
	case s == nil || s.Admits == nil || err != nil:
	case r.Stated && s.Admits(to):
		return "newest within " + s.Stated
	case !s.Admits(to):
		return fmt.Sprintf("newest within %s, past %s", r.lineOf(m.From), s.Stated)
	}
	return "newest within " + r.lineOf(m.From)
}

// short says of a move within a reach that newer releases there do not go with the rest; empty where there are none.
func (r *planner) short(m model.Move, reach version.Reach) string {
	s := r.subject(m.Key())
	to, err := r.Order.Parse(m.To)
	if s == nil || s.At == nil || err != nil {
		return ""
	}
	newer := func(v version.Version) bool {
		if r.Stated {
			return v.Compare(to) > 0 && s.Admits != nil && s.Admits(v)
		}
		return v.Compare(to) > 0 && r.Order.Step(s.At, v) <= reach
	}
	if slices.ContainsFunc(s.candidates(nil), newer) {
		return " that goes with the rest"
	}
	return ""
}

func (r *planner) lineOf(text string) string {
	v, err := r.Order.Parse(text)
	if err != nil {
		return text
	}
	return v.Line()
}

func (r *planner) wish(name string) *Wish {
	for i := range r.Wishes {
		if r.Wishes[i].Name == name {
			return &r.Wishes[i]
		}
	}
	return nil
}

// familyWish is the wish about a subject that s is released together with.
func (r *planner) familyWish(s *Subject) *Wish {
	if s == nil {
		return nil
	}
	for _, f := range r.family(s) {
		if w := r.wish(f.Name); w != nil {
			return w
		}
	}
	return nil
}

// sameLine tells whether a wish is about the line that at is in.
func (r *planner) sameLine(w *Wish, at version.Version) bool {
	s := r.subject(w.Name)
	return s != nil && slices.ContainsFunc(s.candidates(w.Range), func(v version.Version) bool { return v.Line() == at.Line() })
}

// uses counts for each key how many want to meet it, in any of their releases.
func (r *planner) uses() map[string]int {
	uses := map[string]int{}
	for _, s := range r.Subjects {
		for _, peer := range s.Peers {
			for _, p := range r.near(s, peer) {
				if p != s {
					uses[p.Name]++
				}
			}
		}
	}
	return uses
}

// byUse are the keys of what others want to meet, the most wanted first.
func (r *planner) byUse() []string {
	uses := r.uses()
	names := slices.Collect(maps.Keys(uses))
	slices.SortFunc(names, func(a, b string) int { return cmp.Or(uses[b]-uses[a], strings.Compare(a, b)) })
	return names
}

// candidates are the releases in a range, or all with a nil one; pre-releases
// only where the range or the subject admits them.
func (s *Subject) candidates(rng version.Range) []version.Version {
	var list []version.Version
	for _, v := range s.Releases {
		switch {
		case rng != nil && rng.Contains(v):
		case rng != nil:
			continue
		case v.Preview() && !s.Previews, s.Shun != nil && s.Shun(v) != "":
			continue
		}
		list = append(list, v)
	}
	preview := func(v version.Version) bool { return v.Preview() }
	if rng != nil && !s.Previews && slices.ContainsFunc(list, func(v version.Version) bool { return !v.Preview() }) {
		list = slices.DeleteFunc(list, preview) // some ranges hold those of what lies behind their end
	}
	return list
}

// linesTo are the lines above the present one up to that of target, each by
// one of its versions, ascending.
func (s *Subject) linesTo(target version.Version) []version.Version {
	var lines []version.Version
	for _, v := range s.candidates(nil) {
		if v.Compare(s.At) <= 0 || v.Line() == s.At.Line() || v.Compare(target) > 0 {
			continue
		}
		if n := len(lines); n == 0 || lines[n-1].Line() != v.Line() {
			lines = append(lines, v)
		}
	}
	return lines
}
