package route

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
)

// Plan is what a route is computed from.
type Plan struct {
	Component   string // its Dir, for the legs
	Order       version.Order
	Subjects    []*Subject
	Wishes      []Wish
	Reach       version.Reach // how far everything else may move by itself
	NoLock      bool          // the first leg writes the lock that is missing
	Rules       []Rule        // that hold in every state
	Replaced    []Change      // requirements that go on under another name, if there is a wish or reach for that
	Replaceable []Change      // and those for which there is none
	Restored    []Restore     // requirements that are added where something needs them
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
	Apart     []string          // names that members of a workspace may have at versions of their own
	Few       int               // legs that only refresh have no more moves than this, if they can be split; 0 for any number
	Stepwise  bool              // no major is passed over that can be gone through
	Explain   bool              // legs say why their moves belong together, and why in this place
}

// Legs computes the route's legs. What had to be left behind, and why, is in
// the notices. The error is a *solve.Conflict if a wish cannot be met.
func (p *Plan) Legs(ctx context.Context, w World) (legs []model.Leg, notices []string, err error) {
	r := &planner{Plan: p, world: w, ctx: ctx}
	for _, step := range r.steps() {
		r.place = step.place
		if err := step.run(); err != nil {
			return nil, nil, err
		}
	}
	if p.Reach == version.Major {
		r.shunned()
	}
	for _, c := range r.waiting {
		r.notices = append(r.notices, fmt.Sprintf("%s stays, and does not become %s, with which the rest does not go", c.Old, c.New))
	}
	for _, o := range r.Overrides {
		r.notices = append(r.notices, "not needed, and left out: that "+o.String())
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
		{func() error { return r.destinations(true) }, "what others run on goes before them, since it runs older ones, too"},
		{func() error { return r.refresh("refresh", "refresh") }, "before any major, since what is newest within its major is most likely to be ready for the next one"},
		{r.replace, "a name changes by itself, so that what breaks is not put down to a newer version"},
		{func() error { return r.destinations(false) }, "after what could be made ready for it"},
	}
	if r.Reach == version.Major {
		steps = append(steps,
			step{r.frameworks, "what others want to meet goes before them, the most wanted first"},
			step{r.rest, "after what others want to meet; nothing waits for it"})
	}
	return append(steps,
		step{func() error { return r.refresh("catch-up", "catch up") }, "the majors before may have made room for it"},
		step{r.dedupe, "which copies are needed is known at the end"})
}

// shunned tells of newer majors that there is something against.
func (r *planner) shunned() {
	for _, s := range r.Subjects {
		n := len(s.Releases)
		if s.Held || s.At == nil || s.Shun == nil || n == 0 || s.Runtime {
			continue
		}
		for _, v := range slices.Backward(s.Releases) {
			if v.Preview() || v.Compare(s.At) <= 0 || v.Line() == s.At.Line() {
				continue
			}
			if why := s.Shun(v); why != "" {
				r.notices = append(r.notices, fmt.Sprintf("%s stays at %s and does not go to %s: %s", s.Name, s.At, v, why))
			}
			break
		}
	}
}

type planner struct {
	*Plan
	world    World
	ctx      context.Context
	legs     []model.Leg
	notices  []string
	restored []string // names that were added
	waiting  []Change // other names that could not be taken by themselves
	place    string   // why the next leg stands where it does
}

// leg solves for a goal and makes a leg of what moved, if anything did.
// because gives the reason of each move.
func (r *planner) leg(id, title string, goal Goal, because func(m model.Move) string) (bool, error) {
	if err := r.ctx.Err(); err != nil {
		return false, err
	}
	goal.Rules, goal.Apart, goal.Also = r.Rules, r.Apart, r.Also
	goal.Bounds = r.oneByOne(goal.Bounds)
	state, err := r.world.Solve(r.ctx, goal)
	if errors.As(err, new(*solve.Conflict)) && len(r.Overrides) > 0 && len(goal.Overrides) == 0 {
		goal.Overrides = r.Overrides
		if state, err = r.world.Solve(r.ctx, goal); err == nil {
			r.Overrides = nil
		}
	}
	if errors.As(err, new(*solve.Conflict)) && len(r.waiting) > 0 && len(goal.Changes) == 0 {
		goal.Changes = r.waiting
		if state, err = r.world.Solve(r.ctx, goal); err == nil {
			r.waiting = nil
		}
	}
	if err != nil {
		return false, err
	}
	if added := r.restore(state); len(added) > 0 {
		goal.Changes = append(slices.Clone(goal.Changes), added...)
		if state, err = r.world.Solve(r.ctx, goal); err != nil {
			return false, err
		}
	}
	if len(state.Moves)+len(state.Carried)+len(goal.Overrides) == 0 && !(goal.Dedupe && state.Edited) {
		return false, nil
	}
	for _, n := range state.Notices {
		if !slices.Contains(r.notices, n) {
			r.notices = append(r.notices, n)
		}
	}
	leg := model.Leg{ID: fmt.Sprintf("%d-%s", len(r.legs)+1, id), Title: title, Component: r.Component, Moves: state.Moves, Carried: state.Carried, Overrides: goal.Overrides, Notes: state.Notable, Fixes: goal.Avoid != nil, Dedupe: goal.Dedupe, Apart: goal.Apart}
	if err := r.explained(goal, state, &leg); err != nil {
		return false, err
	}
	for i := range leg.Moves {
		m := &leg.Moves[i]
		m.Because = because(*m)
		for _, c := range goal.Changes {
			if c.New == m.Name || c.Old == m.Name {
				m.Because = c.Why
			}
		}
		if s := r.subject(m.Name); s != nil {
			if s.At, err = r.Order.Parse(m.To); err != nil {
				return false, err
			}
			r.rename(s, m.Becomes)
		}
	}
	r.legs = append(r.legs, leg)
	return true, r.world.Take()
}

// rename follows a subject to the name that it has after a move.
func (r *planner) rename(s *Subject, name string) {
	if name == "" {
		return
	}
	if w := r.wish(s.Name); w != nil {
		w.Name = name
	}
	s.Name = name
}

func (r *planner) subject(name string) *Subject {
	for _, s := range r.Subjects {
		if s.Name == name {
			return s
		}
	}
	return nil
}

// held are the bounds of what must not move at all.
func (r *planner) held() map[string]Bound {
	bounds := map[string]Bound{}
	for _, s := range r.Subjects {
		if s.Held && s.At != nil {
			at := s.At
			bounds[s.Name] = Bound{
				Allow: func(v version.Version) bool { return v.Compare(at) == 0 },
				Why:   fmt.Sprintf("%s is held at %s", s.Name, at),
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
		if r.wish(m.Name) != nil {
			return "asked for"
		}
		return "there was no lock"
	}
	_, err := r.leg("lock", "write the lock that is missing", Goal{}, because)
	if !errors.As(err, new(*solve.Conflict)) || len(r.Wishes) == 0 {
		return err
	}
	// What is asked for may be what makes it possible.
	goal := Goal{Bounds: map[string]Bound{}}
	for _, w := range r.Wishes {
		goal.Bounds[w.Name] = Bound{Allow: w.Range.Contains, Newest: true, Why: w.Text + " is asked for"}
		goal.First = append(goal.First, w.Name)
	}
	_, err = r.leg("lock", "write the lock that is missing, with what is asked for", goal, because)
	return err
}

// refresh takes everything within reach to the newest of its line.
func (r *planner) refresh(id, title string) error {
	bounds := r.held()
	asked := func(s *Subject) bool {
		return r.Reach >= version.Patch || id == "refresh" && (r.wish(s.Name) != nil || r.familyWish(s) != nil)
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
			bounds[s.Name] = Bound{
				Allow: func(v version.Version) bool {
					return v.Compare(at) >= 0 && (wish == nil || v.Compare(at) == 0 || wish.Range.Contains(v))
				},
				Why: fmt.Sprintf("%s is at %s", s.Name, at),
			}
			continue
		}
		bounds[s.Name] = Bound{
			Newest: asked(s),
			Why:    fmt.Sprintf("%s is to stay within %s in this leg", s.Name, s.At.Line()),
			Allow: func(v version.Version) bool {
				if v.Compare(at) < 0 || r.Order.Step(at, v) > reach {
					return false
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
	goal := Goal{Bounds: bounds, First: r.byUse(), Fit: true}
	because := func(m model.Move) string {
		wish := r.wish(m.Name)
		if to, err := r.Order.Parse(m.To); wish != nil && err == nil && wish.Range.Contains(to) {
			return "asked for"
		}
		if s := r.subject(m.Name); wish == nil && r.Reach == version.Stay {
			if w := r.familyWish(s); w != nil {
				return "is released together with " + w.Name
			}
			return "another package of this leg needs it"
		}
		return "newest within " + r.lineOf(m.From)
	}
	if r.Few > 0 {
		return r.split(id, title, goal, because)
	}
	_, err := r.leg(id, title+" within the majors that are in use", goal, because)
	return err
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
	for _, name := range s.Family {
		if w := r.wish(name); w != nil {
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

// byUse are the names that others want to meet, the most wanted first.
func (r *planner) byUse() []string {
	uses := map[string]int{}
	for _, s := range r.Subjects {
		for _, peer := range s.Peers {
			if peer != s.Name && r.subject(peer) != nil {
				uses[peer]++
			}
		}
	}
	var names []string
	for name := range uses {
		names = append(names, name)
	}
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

// moveTo makes a leg that takes one subject into a set of versions.
func (r *planner) moveTo(s *Subject, title, why string, reason string, allow func(v version.Version) bool) (bool, error) {
	bounds := r.held()
	for _, name := range r.Down {
		bounds[name] = Bound{Allow: func(v version.Version) bool { return !v.Preview() }, Why: name + " may go down"}
	}
	bounds[s.Name] = Bound{Allow: allow, Newest: true, Why: why}
	for _, name := range s.Family {
		if f := r.subject(name); f != nil && !f.Held && slices.ContainsFunc(f.Releases, allow) && f.At != nil && !allow(f.At) {
			bounds[name] = Bound{Allow: allow, Newest: true, Why: name + " is released together with " + s.Name}
		}
	}
	name := s.Name
	return r.leg(Slug(name)+"-"+Slug(title), name+" to "+title, Goal{Bounds: bounds, First: []string{name}, Fit: r.wish(name) == nil}, func(m model.Move) string {
		switch {
		case m.Name == name:
			return reason
		case slices.Contains(s.Family, m.Name):
			return "is released together with " + name
		}
		return "cannot stay as it is beside " + name + " " + title
	})
}

// Slug is a name made fit for an identifier.
func Slug(name string) string {
	return strings.Trim(strings.Map(func(c rune) rune {
		switch {
		case c >= 'a' && c <= 'z', c >= '0' && c <= '9', c == '.':
			return c
		case c >= 'A' && c <= 'Z':
			return c + 'a' - 'A'
		}
		return '-'
	}, name), "-")
}

// destinations takes each named subject, or each named runtime, to where it was
// asked to go, one major at a time. What runs older things runs newer ones, so
// that a runtime goes there at once.
func (r *planner) destinations(runtimes bool) error {
	for _, w := range r.Wishes {
		s := r.subject(w.Name)
		if s.Runtime != runtimes {
			continue
		}
		goals := s.candidates(w.Range)
		if len(goals) == 0 {
			return fmt.Errorf("%s: no release of %s is in the range", w.Text, w.Name)
		}
		target := goals[len(goals)-1]
		passes := r.passes(s)
		if s.At != nil && !runtimes && passes != "" {
			for _, line := range s.linesTo(target) {
				if line.Line() == target.Line() || w.Range.Contains(line) {
					continue
				}
				why := fmt.Sprintf("%s is to pass through %s on the way to %s, since %s", s.Name, line.Line(), w.Text, passes)
				_, err := r.moveTo(s, line.Line(), why,
					"on the way to "+w.Text, s.inLine(line))
				var conflict *solve.Conflict
				if errors.As(err, &conflict) && s.Stepwise == "" {
					r.notices = append(r.notices, fmt.Sprintf("%s skips %s: %s", s.Name, line.Line(), firstFacts(conflict)))
					continue
				}
				if err != nil {
					return err
				}
			}
		}
		title := target.Line()
		if s.At != nil && s.At.Line() == title {
			title = target.String()
		}
		why, reason := w.Text+" is asked for", "asked for"
		if w.Because != "" {
			why, reason = fmt.Sprintf("%s is to be %s, since %s", s.Name, w.Range, w.Because), w.Because
		}
		_, err := r.moveTo(s, title, why, reason, w.Range.Contains)
		if errors.As(err, new(*solve.Conflict)) && w.Because != "" {
			continue
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// passes tells why a subject goes through the majors on its way, "" if it goes past
// them.
func (r *planner) passes(s *Subject) string {
	if s.Stepwise != "" {
		return s.Stepwise
	}
	for _, other := range r.Subjects {
		if other != s && slices.Contains(other.Peers, s.Name) {
			return other.Name + " goes with it step by step"
		}
	}
	if r.Stepwise {
		return "no major is to be skipped"
	}
	return ""
}

// inLine admits the releases of a line.
func (s *Subject) inLine(line version.Version) func(version.Version) bool {
	return func(v version.Version) bool { return v.Line() == line.Line() && (s.Previews || !v.Preview()) }
}

// firstFacts are the facts of a proof, in one line.
func firstFacts(c *solve.Conflict) string {
	var facts []string
	for _, s := range c.Proof() {
		if len(s.From) == 0 {
			facts = append(facts, s.Text)
		}
	}
	return strings.Join(facts, "; ")
}

// frameworks takes what others want to meet up to the newest major, one major
// at a time, with what cannot stay behind.
func (r *planner) frameworks() error {
	for _, name := range r.byUse() {
		s := r.subject(name)
		if s.Held || s.At == nil || r.wish(name) != nil {
			continue
		}
		all := s.candidates(nil)
		if len(all) == 0 {
			continue
		}
		for _, line := range s.linesTo(all[len(all)-1]) {
			_, err := r.moveTo(s, line.Line(), fmt.Sprintf("%s is to move to %s", name, line.Line()), "newer major, within --reach major", s.inLine(line))
			if stop, err := r.leftBehind(s, line, err); err != nil {
				return err
			} else if stop {
				break
			}
		}
	}
	return nil
}

// leftBehind notes a subject that cannot move on, and why.
func (r *planner) leftBehind(s *Subject, line version.Version, err error) (bool, error) {
	var conflict *solve.Conflict
	if !errors.As(err, &conflict) {
		return false, err
	}
	r.notices = append(r.notices, fmt.Sprintf("%s stays at %s and does not go to %s: %s", s.Name, s.At, line.Line(), firstFacts(conflict)))
	return true, nil
}

// rest takes everything else to the newest major that goes, each by itself.
func (r *planner) rest() error {
	used := r.byUse()
	for _, s := range r.Subjects {
		if s.Held || s.At == nil || r.wish(s.Name) != nil || slices.Contains(used, s.Name) {
			continue
		}
		all := s.candidates(nil)
		if len(all) == 0 {
			continue
		}
		lines := s.linesTo(all[len(all)-1])
		steps := s.Stepwise != "" || r.Stepwise
		if !steps {
			slices.Reverse(lines) // the newest first, and that is it
		}
		for _, line := range lines {
			_, err := r.moveTo(s, line.Line(), fmt.Sprintf("%s is to move to %s", s.Name, line.Line()), "newer major, within --reach major", s.inLine(line))
			stuck, err := r.leftBehind(s, line, err)
			if err != nil {
				return err
			}
			if !steps && !stuck || s.Stepwise != "" && stuck {
				break
			}
		}
	}
	return nil
}
