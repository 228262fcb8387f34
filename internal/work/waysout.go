package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
)

// NoWay is the error of a destination that cannot be reached.
type NoWay struct {
	Conflict *solve.Conflict
	Ways     []model.WayOut                      // each was tried, and solves; the cheapest first
	take     []func(p *Project, o *RouteOptions) // makes the call such that a way is gone, by the index of Ways
	raise    *destination                        // a runtime that the way goes by if it is raised; nil for none
}

// Error is the proof, and what would do instead.
func (n *NoWay) Error() string {
	text := n.Conflict.Error()
	for _, w := range n.Ways {
		text += "\n  way out: " + w.Text + ": " + w.Option
	}
	return text
}

// Unwrap gives the conflict.
func (n *NoWay) Unwrap() error { return n.Conflict }

// conflictOf gives the conflict that an error is; other errors are none.
func conflictOf(err error) (c *solve.Conflict, ok bool) {
	ok = errors.As(err, &c)
	return c, ok
}

// ProofSteps gives the sentences of a conflict's proof.
func ProofSteps(c *solve.Conflict) []model.ProofStep {
	proof := c.Proof()
	lines := proof.Lines()
	steps := make([]model.ProofStep, len(proof))
	for i, s := range proof {
		steps[i] = model.ProofStep{Number: s.Number, Line: lines[i], From: s.From, About: s.About, Facts: s.Facts}
	}
	return steps
}

// The costs of relaxations. Those of several are added.
const (
	costLower   = 10 // a destination is reached only in part
	costPreview = 20
	costRaise   = 30
	costWiden   = 35 // a requirement goes outside of what its manifest asks for
	costRelease = 40 // something that was held moves
	costBranch  = 45 // something is taken that is not released
	costApart   = 45 // members of a workspace are at several versions
	costBecome  = 50 // a requirement goes on as another package
	costDown    = 60
	costAgainst = 70 // a package is used with what it says it cannot do with
	costWithout = 80 // a destination is given up
)

// relaxation is a change of what was asked for that may make a way.
type relaxation struct {
	text   string // a clause; %s in it stands for where subject goes
	option string // %s likewise
	risk   string
	cost   int
	about  string // the requirement whose move is told
	from   string // where that is
	tells  string // a requirement whose move is told without its version
	relax  func(g *route.Goal)
	take   func(p *Project, o *RouteOptions, to string)
	low    version.Version // below which it goes down; nil for what cannot
	try    func(on bool)   // what must be set besides the goal while it is tried; nil for nothing
}

// maxTrials bounds how many relaxations, and pairs of them, are tried.
const maxTrials = 60

// waysOut looks for the smallest changes of the wish that would make it possible,
// and tries each: one change by itself, where that does not do two, and where
// nothing reaches all that was asked for, as few as do.
func (p *Project) waysOut(ctx context.Context, part *Part, plan *route.Plan, hold []string, conflict *solve.Conflict) (*NoWay, error) {
	w, err := p.world(ctx, part)
	if err != nil {
		return nil, err
	}
	f := &wayFinder{p: p, part: part, plan: plan, hold: hold, world: w, order: part.eco.Order(), no: &NoWay{Conflict: conflict}}
	f.meet(conflict)
	if f.branches, err = p.branches(ctx, part, w.registry); err != nil {
		return nil, err
	}
	var all []relaxation
	alone := map[int]bool{}
	trials := 0
	// A change that does not do leads to another conflict, whose subjects have
	// changes of their own.
	for grown := true; grown && trials < maxTrials; {
		grown = false
		for _, x := range f.relaxations() {
			if slices.ContainsFunc(all, func(o relaxation) bool { return o.option == x.option }) {
				continue
			}
			if trials++; trials > maxTrials {
				break
			}
			goes, err := f.try(ctx, x)
			if err != nil {
				return nil, err
			}
			alone[len(all)], grown = goes, true
			all = append(all, x)
		}
	}
	for i := range all {
		for j := i + 1; j < len(all); j++ {
			if alone[i] || alone[j] || all[i].about == all[j].about {
				continue // what one change does needs no second
			}
			if trials++; trials > maxTrials {
				break
			}
			if _, err := f.try(ctx, all[i], all[j]); err != nil {
				return nil, err
			}
		}
	}
	if err := f.together(ctx, all, alone); err != nil {
		return nil, err
	}
	f.sort()
	return f.no, nil
}

// together makes one way of as few changes as can be that reaches all that was
// asked for, where one or two changes do not: from all changes that do not give
// anything up, those are left out one by one without which it still goes, the
// dearest first.
func (f *wayFinder) together(ctx context.Context, all []relaxation, alone map[int]bool) error {
	var set []relaxation
	for i, x := range all {
		if !alone[i] && x.cost > costLower && x.cost < costWithout {
			set = append(set, x)
		}
	}
	whole := func(w model.WayOut) bool { return !strings.Contains(w.Option, "--to ") }
	if slices.ContainsFunc(f.no.Ways, whole) || len(set) < 3 {
		return nil
	}
	if goes, err := f.goes(ctx, set); err != nil || !goes {
		return err
	}
	slices.SortStableFunc(set, func(a, b relaxation) int { return b.cost - a.cost })
	for i := 0; i < len(set); {
		without := slices.Concat(set[:i], set[i+1:])
		goes, err := f.goes(ctx, without)
		if err != nil {
			return err
		}
		if goes {
			set = without
		} else {
			i++
		}
	}
	slices.SortStableFunc(set, func(a, b relaxation) int { return a.cost - b.cost })
	_, err := f.try(ctx, set...)
	return err
}

// goes tells whether there is a solution with changes.
func (f *wayFinder) goes(ctx context.Context, set []relaxation) (bool, error) {
	_, err := f.solve(ctx, set)
	if _, ok := conflictOf(err); ok || isFound(err) {
		return false, nil
	}
	return err == nil, err
}

// solve solves with changes.
func (f *wayFinder) solve(ctx context.Context, set []relaxation) (*route.State, error) {
	g := f.goal()
	for _, x := range set {
		x.relax(&g)
		if x.try != nil {
			x.try(true)
			defer x.try(false)
		}
	}
	return f.world.Solve(ctx, g)
}

// wayFinder tries relaxations for one component.
type wayFinder struct {
	p     *Project
	part  *Part
	plan  *route.Plan
	hold  []string
	world *world
	order version.Order
	no    *NoWay
	met   []string    // subjects of the conflicts so far
	asks  [][2]string // and which of them ask something of which
	// branches that compat books name
	branches []branched
}

// meet notes what a conflict is about.
func (f *wayFinder) meet(c *solve.Conflict) {
	for _, name := range c.Subjects() {
		if !slices.Contains(f.met, name) {
			f.met = append(f.met, name)
		}
	}
	for _, pair := range c.Asks() {
		if !slices.Contains(f.asks, pair) {
			f.asks = append(f.asks, pair)
		}
	}
}

// goal is what was asked for, all at once.
func (f *wayFinder) goal() route.Goal {
	g := route.Goal{Bounds: map[string]route.Bound{}, Rules: f.plan.Rules, Overrides: slices.Clone(f.plan.Overrides), Apart: slices.Clone(f.plan.Apart), Also: f.plan.Also}
	for _, moved := range f.plan.Subjects {
		s := f.subject(moved.Name)
		if s == nil || !s.Held || s.At == nil {
			continue
		}
		g.Bounds[s.Name] = route.Bound{Allow: func(v version.Version) bool { return v.Compare(s.At) == 0 }, Why: fmt.Sprintf("%s is held at %s", s.Name, s.At)}
	}
	for _, wish := range f.plan.Wishes {
		g.Bounds[wish.Name] = route.Bound{Allow: wish.Range.Contains, Newest: true, Why: wish.Text + " is asked for"}
		g.First = append(g.First, wish.Name)
	}
	return g
}

// relaxations are the changes that may help against the conflicts so far, in the
// order of their costs.
func (f *wayFinder) relaxations() []relaxation {
	var all []relaxation
	asked := func(name string) bool {
		return slices.ContainsFunc(f.plan.Wishes, func(w route.Wish) bool { return w.Name == name })
	}
	for _, wish := range f.plan.Wishes {
		all = append(all, f.lower(wish)...)
	}
	for _, name := range f.met {
		s := f.subject(name)
		if s != nil && s.At == nil && !asked(name) && !s.Runtime {
			all = append(all, f.widen(s))
		}
		if s != nil && s.At != nil {
			if newest := s.Releases[len(s.Releases)-1]; !s.Previews && newest.Preview() && newest.Compare(s.At) > 0 {
				all = append(all, f.preview(s))
			}
			if s.Held {
				all = append(all, f.release(s))
			}
			if !asked(name) && !s.Held && !s.Runtime {
				all = append(all, f.down(s))
			}
		}
	}
	for _, wish := range f.plan.Wishes {
		if s := f.subject(wish.Name); s != nil && s.At != nil && len(f.part.Find(wish.Name)) > 1 {
			all = append(all, f.apart(wish, s))
		}
	}
	for _, b := range f.branches {
		if s := f.subject(b.name); s != nil && s.At != nil && !asked(b.name) {
			all = append(all, f.branch(b, s.At.String()))
		}
	}
	for _, pair := range f.asks {
		if x := f.override(pair[0], pair[1]); x != nil {
			all = append(all, *x)
		}
	}
	for _, c := range f.plan.Replaceable {
		if slices.Contains(f.met, c.Old) {
			all = append(all, f.become(c))
		}
	}
	for _, r := range f.part.Requirements {
		if r.Subject.Kind == "runtime" && !asked(r.Name) {
			all = append(all, f.raise(r))
		}
	}
	if len(f.plan.Wishes) > 1 {
		for _, wish := range f.plan.Wishes {
			all = append(all, f.without(wish))
		}
	}
	slices.SortStableFunc(all, func(a, b relaxation) int { return a.cost - b.cost })
	return all
}

// subject is a requirement as it was before the plan moved it, nil if it is none
// that can move.
func (f *wayFinder) subject(name string) *route.Subject {
	for _, s := range f.plan.Subjects {
		if s.Name == name && len(s.Releases) > 0 {
			before := *s
			before.At = nil
			if found := f.part.Find(name); len(found) > 0 {
				before.At, _ = f.order.Parse(found[0].Locked)
			}
			return &before
		}
	}
	return nil
}

func upFrom(at version.Version) func(version.Version) bool {
	return func(v version.Version) bool { return v.Compare(at) >= 0 && !v.Preview() }
}

func (f *wayFinder) lower(wish route.Wish) []relaxation {
	s := f.subject(wish.Name)
	if s == nil || s.At == nil {
		return nil
	}
	return []relaxation{{
		text: "the newest " + wish.Name + " that goes without that is %s", option: "--to " + wish.Name + "@%s", cost: costLower, about: wish.Name, from: s.At.String(),
		relax: func(g *route.Goal) {
			g.Bounds[wish.Name] = route.Bound{Allow: upFrom(s.At), Newest: true, Why: wish.Name + " may be at any later version"}
		},
		take: func(_ *Project, o *RouteOptions, to string) {
			for i, text := range o.To {
				if text == wish.Text {
					o.To[i] = wish.Name + "@" + to
				}
			}
		},
	}}
}

func (f *wayFinder) preview(s *route.Subject) relaxation {
	return relaxation{
		text: "allow pre-releases of " + s.Name + ", which goes to %s", option: "--preview " + s.Name, cost: costPreview, about: s.Name, from: s.At.String(),
		risk:  "a pre-release may change before it is released",
		relax: func(*route.Goal) {},
		take:  func(p *Project, _ *RouteOptions, _ string) { p.opt.Preview = append(p.opt.Preview, s.Name) },
		try: func(on bool) {
			if on {
				f.p.trying = append(f.p.trying, s.Name)
			} else {
				f.p.trying = slices.DeleteFunc(f.p.trying, func(name string) bool { return name == s.Name })
			}
		},
	}
}

func (f *wayFinder) release(s *route.Subject) relaxation {
	return relaxation{
		text: "let " + s.Name + " move, to %s", option: "without --hold " + s.Name, cost: costRelease, about: s.Name, from: s.At.String(),
		relax: func(g *route.Goal) { delete(g.Bounds, s.Name) },
		take: func(_ *Project, o *RouteOptions, _ string) {
			o.Hold = slices.DeleteFunc(o.Hold, func(name string) bool { return name == s.Name })
		},
	}
}

func (f *wayFinder) down(s *route.Subject) relaxation {
	return relaxation{
		text: "let " + s.Name + " go down, to %s", option: "--allow-down " + s.Name, cost: costDown, about: s.Name, from: s.At.String(),
		risk: "what was fixed since then is no longer fixed",
		relax: func(g *route.Goal) {
			g.Bounds[s.Name] = route.Bound{Allow: func(v version.Version) bool { return !v.Preview() }, Why: s.Name + " may go down"}
		},
		take: func(_ *Project, o *RouteOptions, _ string) { o.AllowDown = append(o.AllowDown, s.Name) },
	}
}

// widen lets a requirement that is not locked go outside of the range that its
// manifest asks for.
func (f *wayFinder) widen(s *route.Subject) relaxation {
	asks := f.part.Find(s.Name)[0]
	var low version.Version
	if rng, err := f.order.ParseRange(asks.Range); err == nil {
		if bounds := version.Bounds(f.order, rng); len(bounds) > 0 {
			low = bounds[0]
		}
	}
	return relaxation{
		low:  low,
		text: fmt.Sprintf("ask for another %s than %s, which is then %%s (%s)", s.Name, asks.Range, asks.Site), option: "--to " + s.Name + "@%s", cost: costWiden, about: s.Name,
		relax: func(g *route.Goal) {
			g.Bounds[s.Name] = route.Bound{Allow: func(v version.Version) bool { return !v.Preview() }, Newest: true, Why: s.Name + " may be at any version"}
		},
		take: func(_ *Project, o *RouteOptions, to string) { o.To = append(o.To, s.Name+"@"+to) },
	}
}

// apart leaves members of a workspace behind which cannot go along.
func (f *wayFinder) apart(wish route.Wish, s *route.Subject) relaxation {
	return relaxation{
		text: "let those stay behind that cannot go along, and have a " + wish.Name + " of their own; the others go to %s", option: "--apart " + wish.Name, cost: costApart, about: wish.Name, from: s.At.String(),
		risk:  "two versions of it are in use in one workspace",
		relax: func(g *route.Goal) { g.Apart = append(g.Apart, wish.Name) },
		take:  func(_ *Project, o *RouteOptions, _ string) { o.Apart = append(o.Apart, wish.Name) },
	}
}

// override uses a package with what it says it cannot do with, where a manifest
// can say so.
func (f *wayFinder) override(of, name string) *relaxation {
	if _, ok := f.part.eco.(ecosystem.Rewriter); !ok || len(f.part.Find(name)) == 0 || strings.Contains(of, " ") {
		return nil
	}
	return &relaxation{
		text: fmt.Sprintf("let %s have the project's own %s, whatever it asks for", of, name), option: "--override " + of + ":" + name, cost: costAgainst,
		risk:  "it was not made for that; nothing but your tests tells whether it works",
		relax: func(g *route.Goal) { g.Overrides = append(g.Overrides, model.Override{Of: of, Name: name}) },
		take:  func(_ *Project, o *RouteOptions, _ string) { o.Override = append(o.Override, of+":"+name) },
	}
}

// become takes the package that a requirement goes on as.
func (f *wayFinder) become(c route.Change) relaxation {
	return relaxation{
		text: fmt.Sprintf("go on with %s in the place of %s", c.New, c.Old), option: "--to " + c.New + "@" + c.Range, cost: costBecome, tells: c.Old,
		risk:  "what your code imports has another name then",
		relax: func(g *route.Goal) { g.Changes = append(g.Changes, c) },
		take:  func(_ *Project, o *RouteOptions, _ string) { o.To = append(o.To, c.New+"@"+c.Range) },
	}
}

func (f *wayFinder) raise(r model.Requirement) relaxation {
	x := relaxation{
		text: fmt.Sprintf("raise %s from %s to %%s (%s)", r.Name, r.Locked, r.Site), option: "--to " + r.Name + "@%s", cost: costRaise, about: r.Name, from: r.Locked,
		risk:  "whoever runs or uses it needs that, too",
		relax: func(*route.Goal) {},
		take:  func(_ *Project, o *RouteOptions, to string) { o.To = append(o.To, r.Name+"@"+lineOf(f.order, to)) },
	}
	if at, err := f.order.Parse(r.Locked); err == nil {
		x.relax = func(g *route.Goal) {
			g.Bounds[r.Name] = route.Bound{Allow: upFrom(at), Why: r.Name + " may be raised"}
		}
	}
	return x
}

func (f *wayFinder) without(wish route.Wish) relaxation {
	return relaxation{
		text: "go to the other destinations, and leave " + wish.Name + " where it is", option: "without --to " + wish.Text, cost: costWithout,
		relax: func(g *route.Goal) {
			delete(g.Bounds, wish.Name)
			g.First = slices.DeleteFunc(g.First, func(name string) bool { return name == wish.Name })
		},
		take: func(_ *Project, o *RouteOptions, _ string) {
			o.To = slices.DeleteFunc(o.To, func(text string) bool { return text == wish.Text })
		},
	}
}

// try solves with relaxations, and notes the way that they make.
func (f *wayFinder) try(ctx context.Context, relaxations ...relaxation) (bool, error) {
	state, err := f.solve(ctx, relaxations)
	if c, ok := conflictOf(err); ok {
		f.meet(c)
		return false, nil
	}
	if isFound(err) {
		return false, nil // something below the requirements does not go together
	}
	if err != nil {
		return false, err
	}
	to := make([]string, len(relaxations))
	for i, x := range relaxations {
		at := slices.IndexFunc(state.Moves, func(m model.Move) bool { return m.Name == x.about })
		if x.about == "" {
			continue
		}
		if at < 0 || state.Moves[at].To == x.from {
			return false, nil // the change is not what made it go
		}
		to[i] = state.Moves[at].To
	}
	f.note(relaxations, to, state)
	return true, nil
}

// note adds a way that was found.
func (f *wayFinder) note(relaxations []relaxation, to []string, state *route.State) {
	way := model.WayOut{}
	var texts, options, risks []string
	for i, x := range relaxations {
		text, option := x.text, x.option
		shown := to[i]
		if strings.HasPrefix(x.option, "--to") && x.cost == costRaise {
			shown = lineOf(f.order, to[i])
		}
		text = strings.Replace(text, "%s", to[i], 1)
		texts, options = append(texts, text), append(options, strings.Replace(option, "%s", shown, 1))
		if v, err := f.order.Parse(to[i]); err == nil && x.low != nil && v.Compare(x.low) < 0 {
			x.risk, x.cost = "it is older than what is asked for now", x.cost+costDown
		}
		if x.risk != "" && !slices.Contains(risks, x.risk) {
			risks = append(risks, x.risk)
		}
		way.Cost += x.cost
	}
	way.Text, way.Option, way.Risk = strings.Join(texts, ", and "), strings.Join(options, " "), strings.Join(risks, "; ")
	for _, m := range state.Moves {
		told := slices.ContainsFunc(relaxations, func(x relaxation) bool { return x.about == m.Name || x.tells == m.Name }) ||
			slices.ContainsFunc(f.plan.Wishes, func(w route.Wish) bool { return w.Name == m.Name })
		if !told && m.From != "" {
			way.Moves = append(way.Moves, m.Name)
		}
	}
	way.Cost += len(way.Moves)
	if len(relaxations) == 1 && relaxations[0].cost == costRaise && f.no.raise == nil {
		x := relaxations[0]
		f.no.raise = &destination{name: x.about, rng: lineOf(f.order, to[0]), text: x.about + "@" + to[0], because: "what is asked for needs it"}
	}
	f.no.Ways = append(f.no.Ways, way)
	f.no.take = append(f.no.take, func(p *Project, o *RouteOptions) {
		for i, x := range relaxations {
			x.take(p, o, to[i])
		}
	})
}

// sort puts the cheapest way first.
func (f *wayFinder) sort() {
	order := make([]int, len(f.no.Ways))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(f.no.Ways[a].Cost, f.no.Ways[b].Cost) })
	var ways []model.WayOut
	var take []func(*Project, *RouteOptions)
	for _, i := range order {
		ways, take = append(ways, f.no.Ways[i]), append(take, f.no.take[i])
	}
	f.no.Ways, f.no.take = ways, take
}

// lineOf is the line of a version where that is a range which has it, else the
// version itself.
func lineOf(order version.Order, text string) string {
	v, err := order.Parse(text)
	if err != nil {
		return text
	}
	if line, err := order.ParseRange(v.Line()); err == nil && line.Contains(v) {
		return v.Line()
	}
	return text
}

// takeWay plans again by one of the ways out of a conflict.
func (p *Project) takeWay(ctx context.Context, opt RouteOptions, planned *planned, err error) (*planned, error) {
	var no *NoWay
	switch {
	case err == nil:
		planned.notices = append(planned.notices, "there is a way as it was asked for, so that --take is not needed")
		return planned, nil
	case !errors.As(err, &no):
		return nil, err
	case opt.Take > len(no.take):
		return nil, &model.Fault{Doing: fmt.Sprintf("reading --take %d", opt.Take), Wrong: fmt.Sprintf("there are %d ways out", len(no.take)), Next: "bellwether route without --take lists them"}
	}
	opt.To, opt.Hold = slices.Clone(opt.To), slices.Clone(opt.Hold)
	way := no.Ways[opt.Take-1]
	no.take[opt.Take-1](p, &opt)
	if planned, err = p.plan(ctx, opt); err != nil {
		return nil, fmt.Errorf("the way out %q goes as a whole, but not leg by leg: %w", way.Text, err)
	}
	planned.notices = append(planned.notices, "taken as a way out: "+way.Text)
	return planned, nil
}
