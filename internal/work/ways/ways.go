// Package ways finds ways out of a conflict: the smallest changes of what was asked for that
// make it possible.
package ways

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/route"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
	"bellwether/internal/work/shelf"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/world"
)

// NoWay is the error of a destination that cannot be reached.
type NoWay struct {
	Conflict *solve.Conflict
	Ways     []output.WayOut // each was tried, and solves; the cheapest first
	// Take makes the request such that a way is gone, by the index of Ways.
	Take []func(r *world.Request)
	// Beyond is a second dead end behind the first; nil where one change of what was asked for, or none, leads to a way.
	Beyond *Beyond
	// Raise is a runtime that the way goes by if it is raised; nil for none.
	Raise *world.Destination
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

// ProofSteps gives the sentences of a conflict's proof.
func ProofSteps(c *solve.Conflict) []output.ProofStep {
	proof := c.Proof()
	lines := proof.Lines()
	steps := make([]output.ProofStep, len(proof))
	for i, s := range proof {
		steps[i] = output.ProofStep{Number: s.Number, Line: lines[i], From: s.From, About: s.About, Facts: s.Facts}
	}
	return steps
}

// Beyond is the conflict that is left when what the first one is about gives way.
type Beyond struct {
	Option   string // what makes the first one give way
	Conflict *solve.Conflict
}

// DeadEnd gives a second dead end in the form of results; nil for none.
func (n *NoWay) DeadEnd() *output.DeadEnd {
	if n.Beyond == nil {
		return nil
	}
	return &output.DeadEnd{Option: n.Beyond.Option, Proof: ProofSteps(n.Beyond.Conflict)}
}

// maxTrials bounds how many relaxations, and pairs of them, are tried.
const maxTrials = 60

// Find looks for the smallest changes of a plan that would make it possible, and tries each:
// one change by itself, where that does not do two, and where nothing reaches all
// that was asked for, as few as do. The world is at the state that the plan starts from.
func Find(ctx context.Context, w *world.World, s *shelf.Shelf, plan *route.Plan, conflict *solve.Conflict) (*NoWay, error) {
	f := &finder{part: w.Part, plan: plan, world: w, order: w.Part.Eco.Order(), no: &NoWay{Conflict: conflict}}
	f.meet(conflict)
	// The proof is told of what is locked, and not of a state on the way, if it can be.
	if _, err := f.solve(ctx, nil); errors.As(err, &conflict) {
		f.no.Conflict = conflict
		f.meet(conflict)
	}
	if err := f.readBranches(ctx, s); err != nil {
		return nil, err
	}
	f.readSources(s)
	if err := f.readStated(ctx); err != nil {
		return nil, err
	}
	if err := f.search(ctx); err != nil {
		return nil, err
	}
	if len(f.no.Ways) == 0 {
		f.farther = true
		if err := f.search(ctx); err != nil {
			return nil, err
		}
	}
	f.sort()
	f.no.Beyond = f.second()
	return f.no, nil
}

// second is the dead end behind the first: what one change alone, of those that the cheapest way has, runs into. Where there is no
// way, it is what the cheapest change runs into that is about something else.
func (f *finder) second() *Beyond {
	var of []relaxation
	if len(f.no.Ways) > 0 {
		of = f.made[0]
		if len(of) < 2 {
			return nil
		}
	}
	first := f.no.Conflict.Error()
	for _, b := range f.failed {
		in := slices.ContainsFunc(of, func(x relaxation) bool { return x.option == b.Option })
		if (of == nil || in) && b.Conflict.Error() != first {
			return &b
		}
	}
	return nil
}

// search tries changes by themselves, two at a time, and as few as do together.
func (f *finder) search(ctx context.Context) error {
	var all []relaxation
	alone := map[int]bool{}
	trials := 0
	// A change that does not do leads to another conflict, whose subjects have
	// changes of their own.
	for grown := true; grown && trials < maxTrials; {
		grown = false
		for _, x := range f.relaxations() {
			if slices.ContainsFunc(all, func(o relaxation) bool { return o.option == x.option && o.cost == x.cost }) {
				continue
			}
			if trials++; trials > maxTrials {
				break
			}
			goes, err := f.try(ctx, x)
			if err != nil {
				return err
			}
			alone[len(all)], grown = goes, true
			all = append(all, x)
		}
	}
	for i := range all {
		for j := i + 1; j < len(all); j++ {
			included := func(x relaxation) bool {
				return slices.ContainsFunc(all, func(o relaxation) bool {
					return x.kind != "" && o.kind == x.kind && alone[slices.IndexFunc(all, func(y relaxation) bool { return y.option == o.option })]
				})
			}
			if alone[i] || alone[j] || all[i].about != "" && all[i].about == all[j].about || included(all[i]) || included(all[j]) {
				continue // what one change does needs no second
			}
			if trials++; trials > maxTrials {
				break
			}
			if _, err := f.try(ctx, all[i], all[j]); err != nil {
				return err
			}
		}
	}
	return f.together(ctx, all, alone)
}

// together makes one way of as few changes as can be that reaches all that was
// asked for, where one or two changes do not: from all changes that do not give
// anything up, those are left out one by one without which it still goes, the
// dearest first.
func (f *finder) together(ctx context.Context, all []relaxation, alone map[int]bool) error {
	var set []relaxation
	for i, x := range all {
		if !alone[i] && !x.givesUp {
			set = append(set, x)
		}
	}
	if f.whole || len(set) < 3 {
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
func (f *finder) goes(ctx context.Context, set []relaxation) (bool, error) {
	_, err := f.solve(ctx, set)
	if errors.As(err, new(*solve.Conflict)) {
		return false, nil
	}
	return err == nil, err
}

// solve solves with changes. A source that cannot be had leads nowhere, like a conflict.
func (f *finder) solve(ctx context.Context, set []relaxation) (*contract.State, error) {
	g := f.goal()
	for _, x := range set {
		x.relax(&g)
	}
	state, err := f.world.Solve(ctx, g)
	at := slices.IndexFunc(set, func(x relaxation) bool { return x.reads })
	if err == nil || at < 0 || ctx.Err() != nil || errors.As(err, new(*solve.Conflict)) {
		return state, err
	}
	return nil, solve.Refute(set[at].about, err.Error())
}

// finder tries relaxations for one component.
type finder struct {
	part  *tree.Part
	plan  *route.Plan
	world *world.World
	order version.Order
	no    *NoWay
	met   []string    // subjects of the conflicts so far
	asks  [][2]string // and which of them ask something of which
	whole bool        // some way reaches all that was asked for
	// farther allows what nobody would do unless there is nothing else.
	farther bool
	failed  []Beyond       // what single changes ran into that give up nothing
	made    [][]relaxation // the changes of each way
	// branches that compat books name, by versions and in repositories
	branches []branched
	sources  []shelf.Source
	stating  []relaxation // requirements that state the version which a list states for them
}

// meet notes what a conflict is about.
func (f *finder) meet(c *solve.Conflict) {
	for _, name := range c.Subjects() {
		name = f.required(name)
		if !slices.Contains(f.met, name) {
			f.met = append(f.met, name)
		}
	}
	for _, pair := range c.Asks() {
		pair = [2]string{f.required(pair[0]), f.required(pair[1])}
		if !slices.Contains(f.asks, pair) {
			f.asks = append(f.asks, pair)
		}
	}
}

// required is the key of a requirement that a conflict calls by words, which may tell the place: "quay in parts/a/package.json",
// "quay (in parts/a)".
func (f *finder) required(subject string) string {
	for _, s := range f.plan.Subjects {
		if s.String() == subject {
			return s.Name
		}
	}
	name, _, _ := strings.Cut(subject, " ")
	return name
}

// goal is what was asked for, all at once.
func (f *finder) goal() contract.Goal {
	g := contract.Goal{
		Bounds: map[string]contract.Bound{}, Rules: f.plan.Rules, Also: f.plan.Also, Previews: slices.Clone(f.plan.Previews),
		Terms: model.Terms{Overrides: slices.Clone(f.plan.Overrides), Apart: slices.Clone(f.plan.Apart)},
	}
	for _, moved := range f.plan.Subjects {
		s := f.subject(moved.Name)
		if s == nil || !s.Held || s.At == nil {
			continue
		}
		g.Bounds[s.Name] = contract.Bound{
			Allow: func(v version.Version) bool { return v.Compare(s.At) == 0 }, Why: fmt.Sprintf("%s is held at %s", s, s.At),
		}
	}
	for _, c := range f.plan.Replaced {
		if c.Asked {
			g.Changes = append(g.Changes, c)
		}
	}
	for _, wish := range f.plan.Wishes {
		g.Bounds[wish.Name] = contract.Bound{Allow: wish.Range.Contains, Newest: true, Why: wish.Text + " is asked for"}
		g.First = append(g.First, wish.Name)
	}
	return g
}

// try solves with relaxations, and notes the way that they make.
func (f *finder) try(ctx context.Context, relaxations ...relaxation) (bool, error) {
	state, err := f.solve(ctx, relaxations)
	if c := (*solve.Conflict)(nil); errors.As(err, &c) {
		f.meet(c)
		if x := relaxations[0]; len(relaxations) == 1 && !x.givesUp && !strings.Contains(x.option, "%s") {
			f.failed = append(f.failed, Beyond{x.option, c})
		}
		return false, nil
	}
	if err != nil {
		return false, err
	}
	to := make([]string, len(relaxations))
	for i, x := range relaxations {
		at := slices.IndexFunc(state.Moves, func(m model.Move) bool { return m.Key() == x.about || m.Name == x.about })
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
func (f *finder) note(relaxations []relaxation, to []string, state *contract.State) {
	way := output.WayOut{}
	var texts, options, risks []string
	for i, x := range relaxations {
		text, option := x.text, x.option
		shown := to[i]
		if x.raises {
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
		told := slices.ContainsFunc(relaxations, func(x relaxation) bool { return x.about == m.Key() || x.tells == m.Name }) ||
			slices.ContainsFunc(f.plan.Wishes, func(w route.Wish) bool { return w.Name == m.Key() })
		if !told && m.From != "" {
			way.Moves = append(way.Moves, m.Spoken())
		}
	}
	way.Cost += len(way.Moves)
	if len(relaxations) == 1 && relaxations[0].raises && f.no.Raise == nil {
		x := relaxations[0]
		f.no.Raise = &world.Destination{
			Name: x.about, Range: lineOf(f.order, to[0]), Text: x.about + "@" + to[0], Because: "what is asked for needs it",
		}
	}
	f.whole = f.whole || !slices.ContainsFunc(relaxations, func(x relaxation) bool { return x.givesUp })
	f.no.Ways, f.made = append(f.no.Ways, way), append(f.made, relaxations)
	f.no.Take = append(f.no.Take, func(r *world.Request) {
		for i, x := range relaxations {
			x.take(r, to[i])
		}
	})
}

// maxWays is how many ways out are told: nobody reads more, and the cheapest stand first.
const maxWays = 5

// sort puts the cheapest way first, and leaves out the dearest.
func (f *finder) sort() {
	order := make([]int, len(f.no.Ways))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(f.no.Ways[a].Cost, f.no.Ways[b].Cost) })
	var ways []output.WayOut
	var take []func(*world.Request)
	var made [][]relaxation
	for _, i := range order[:min(len(order), maxWays)] {
		ways, take, made = append(ways, f.no.Ways[i]), append(take, f.no.Take[i]), append(made, f.made[i])
	}
	f.no.Ways, f.no.Take, f.made = ways, take, made
}

// lineOf is the line of a version where that is a range which has it, else the
// version itself.
func lineOf(order version.Order, text string) string {
	v, err := order.Parse(text)
	if err != nil {
		return text
	}
	return version.LineOf(order, v)
}
