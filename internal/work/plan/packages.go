package plan

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/subjects"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/ways"
	"bellwether/internal/work/world"
)

// planPackages computes the legs that move packages. First are destinations that rules need.
func (p *planner) planPackages(ctx context.Context, opt world.Request, first []world.Destination) (*Planned, error) {
	reach, err := p.reach(opt)
	if err != nil {
		return nil, err
	}
	wishes, err := p.wishes(opt, first)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(p.knownOverrides(opt), p.supported(opt, wishes)); err != nil {
		return nil, err
	}
	r := &Planned{start: p.tree, Route: &model.Route{
		Destination: p.destinations(opt, reach), AsOf: p.desk.Options.AsOf, Previews: slices.Concat(p.desk.Options.Preview, opt.Previews),
	}}
	if opt.Reach == world.ReachFix {
		dir, err := filepath.Abs(opt.Advisories)
		if err != nil {
			return nil, err
		}
		r.Route.Advisories = dir
	}
	planned, unreached := 0, error(nil)
	for _, part := range p.tree.Parts {
		if slices.ContainsFunc(opt.LeaveOut, part.Called) {
			continue
		}
		if len(r.stops) > 0 { // a component may be changed by the legs of those before it
			var err error
			if part, err = part.In(r.End().Files); err != nil {
				return nil, err
			}
		}
		err := p.planPart(ctx, part, r, wishes, reach, opt)
		switch {
		case err == nil:
			planned++
		case ctx.Err() == nil && ecosystem.Unreached(err):
			missed := fmt.Errorf("%s was not looked at: %w", part.Manifest, err)
			r.Missed, r.Notices = append(r.Missed, missed), append(r.Notices, missed.Error())
			unreached = cmp.Or(unreached, err)
		default:
			return nil, err
		}
	}
	if planned == 0 && unreached != nil {
		return nil, unreached
	}
	r.joinPins()
	return r, nil
}

// reach is how far everything moves that is no destination.
func (p *planner) reach(opt world.Request) (version.Reach, error) {
	word := cmp.Or(opt.Reach, p.desk.Settings.Reach)
	switch {
	case word == world.ReachFix && opt.Advisories == "":
		return 0, &model.Fault{Doing: "reading --reach", Wrong: "fix needs vulnerability records", Next: "name their folder with --advisories"}
	case word == world.ReachFix:
		return version.Stay, nil
	case word == world.ReachStated:
		return version.Minor, nil
	case word != "":
		reach, ok := version.ReachNamed(word)
		if !ok || reach == version.Stay {
			return 0, &model.Fault{Doing: "reading --reach", Wrong: fmt.Sprintf("%q is not stated, patch, minor, major or fix", word)}
		}
		return reach, nil
	case len(opt.To)+len(opt.Override)+len(opt.Dropped)+len(opt.DoWithout) == 0 && !opt.Dedupe:
		return version.Minor, nil
	}
	return version.Stay, nil
}

// stated tells whether what nobody named is to stay within what manifests state.
func (p *planner) stated(opt world.Request) bool {
	return cmp.Or(opt.Reach, p.desk.Settings.Reach) == world.ReachStated
}

// wishes are the destinations that are about requirements, those that rules need among them.
func (p *planner) wishes(opt world.Request, first []world.Destination) ([]world.Destination, error) {
	wishes := slices.Clone(first)
	for _, text := range opt.To {
		d, err := world.ReadDestination(text)
		if err != nil {
			return nil, err
		}
		if s, ok := model.ReadSubject(d.Name); ok && s.IsPin() {
			name := p.tree.RequiredAs(s)
			if name == "" {
				continue // places of files state it; they come after packages are planned
			}
			d.Name = name
		}
		wishes = slices.DeleteFunc(wishes, func(o world.Destination) bool { return o.Name == d.Name })
		wishes = append(wishes, d)
	}
	for _, d := range wishes {
		if _, name := model.Parted(d.Name); slices.Contains(opt.DoWithout, name) {
			return nil, &model.Fault{
				Doing: "reading --do-without", Wrong: d.Name + " is to go, and " + d.Text + " is a destination", Next: "leave one of them out",
			}
		}
	}
	named := slices.Concat(opt.Hold, p.desk.Settings.Hold, opt.DoWithout)
	for _, list := range opt.Together {
		named = append(named, strings.Split(list, ",")...)
	}
	return wishes, p.knownNames(wishes, named)
}

// reaching says how far a reach takes what is no destination.
var reaching = map[version.Reach]string{
	version.Patch: " within its minor version", version.Minor: " within its major", version.Major: " at the newest",
}

// freeOfKnown is where the reach "fix" leads to.
const freeOfKnown = "no known vulnerability"

// stays says of how many vulnerabilities nothing cures.
func stays(n int) string {
	if n == 1 {
		return "1 stays"
	}
	return fmt.Sprintf("%d stay", n)
}

// destinations says where a request leads to, a phrase each.
func (p *planner) destinations(opt world.Request, reach version.Reach) []string {
	all := slices.Clone(opt.To)
	for _, name := range opt.DoWithout {
		all = append(all, "without "+name)
	}
	for _, o := range opt.Override {
		all = append(all, "override "+o)
	}
	for _, o := range opt.Dropped {
		all = append(all, "no override "+o.Where())
	}
	if opt.Dedupe {
		all = append(all, "as few copies as there can be")
	}
	if reach > version.Stay {
		what := "everything else"
		if len(all) == 0 {
			what = "everything"
		}
		how := reaching[reach]
		if p.stated(opt) {
			how = " within what is stated"
		}
		all = append(all, what+how)
	}
	if opt.Reach == world.ReachFix {
		all = append(all, freeOfKnown)
	}
	return all
}

// planPart adds the legs of a component. Where the way goes only by a newer
// runtime that its manifest states, and nothing holds that, it is raised first.
func (p *planner) planPart(
	ctx context.Context, part *tree.Part, r *Planned, wishes []world.Destination, reach version.Reach, opt world.Request,
) error {
	for {
		w, err := world.Of(ctx, p.desk, r.End(), part)
		if err != nil {
			return err
		}
		w.Renames, w.Free, w.Raised = p.shelf.Renames(), askedPins(opt), p.raised
		legs, notices, err := p.routePart(ctx, w, r, wishes, reach, opt)
		var no *ways.NoWay
		if errors.As(err, &no) && no.Raise != nil && !p.holds(opt.Hold, part, no.Raise.Name) &&
			!slices.ContainsFunc(wishes, func(d world.Destination) bool { return d.Name == no.Raise.Name }) {
			wishes = append(slices.Clone(wishes), *no.Raise)
			continue
		}
		if err != nil {
			return err
		}
		r.Route.Legs = append(r.Route.Legs, legs...)
		r.stops, r.Notices = append(r.stops, w.Stops...), append(r.Notices, notices...)
		return nil
	}
}

// askedPins are the runtimes and the like that a request names.
func askedPins(opt world.Request) (all []model.Subject) {
	for _, text := range opt.To {
		if d, err := world.ReadDestination(text); err == nil {
			if s, ok := model.ReadSubject(d.Name); ok && s.IsPin() {
				all = append(all, s)
			}
		}
	}
	return all
}

// holds tells whether a requirement is to stay where it is.
func (p *planner) holds(hold []string, part *tree.Part, name string) bool {
	for _, h := range append(slices.Clone(hold), p.desk.Settings.Hold...) {
		if s, ok := part.SubjectOf(name); h == name || ok && s.String() == h {
			return true
		}
	}
	return false
}

// routePart computes the legs of a component. Previews that its wishes need are added to the
// route's.
func (p *planner) routePart(
	ctx context.Context, w *world.World, r *Planned, wishes []world.Destination, reach version.Reach, opt world.Request,
) (legs []model.Leg, notices []string, err error) {
	part, start := w.Part, *w
	plan := &route.Plan{
		Component: part.ID, Order: part.Eco.Order(), Reach: reach, NoLock: len(part.Locks) == 0 && !part.Lockless, Down: opt.AllowDown,
		Dedupe: opt.Dedupe, Few: opt.Few, Stepwise: opt.Stepwise, Explain: opt.Explain, Apart: opt.Apart, LeftOut: opt.LeaveOut,
		Indirect: part.Eco.Supports().Indirect,
		Stated:   p.stated(opt),
	}
	if plan.Overrides, err = readOverrides(part, opt); err != nil {
		return nil, nil, err
	}
	for _, name := range opt.DoWithout {
		if part.Declares(name) {
			plan.Replaced = append(plan.Replaced, ways.Without(name))
		}
	}
	for _, d := range wishes {
		if !part.Declares(d.Name) {
			continue
		}
		if !part.Eco.Supports().Places { // what is asked of one place is asked of all
			_, d.Name = model.Parted(d.Name)
		}
		c := p.fromElsewhere(part, d)
		if c == nil {
			if c, err = ways.StatesItself(ctx, part, w.Registry, d); err != nil {
				return nil, nil, err
			}
		}
		if c != nil {
			plan.Replaced = append(plan.Replaced, *c)
			continue
		}
		rng, err := plan.Order.ParseRange(d.Range)
		if err != nil {
			if rng, err = atBranch(ctx, part, w.Registry, plan, d, err); err != nil {
				return nil, nil, err
			}
		}
		plan.Wishes = append(plan.Wishes, route.Wish{Name: d.Name, Range: rng, Text: d.Text, Because: d.Because, Follows: d.Follows})
	}
	plan.Wishes = eachDeclared(part, plan.Wishes)
	changes := len(plan.Replaced) > 0 ||
		slices.ContainsFunc(wishes, func(d world.Destination) bool { return p.shelf.Replaces(part, d.Name) != nil })
	if reach == version.Stay && len(plan.Wishes)+len(plan.Overrides) == 0 && !changes && opt.Reach != world.ReachFix && !opt.Dedupe {
		return nil, nil, nil
	}
	plan.Previews = slices.Concat(p.desk.Settings.Preview, r.Route.Previews)
	if plan.Subjects, err = subjects.Of(ctx, p.tree, w, plan, slices.Concat(opt.Hold, p.desk.Settings.Hold)); err != nil {
		return nil, nil, err
	}
	addAlso(plan)
	byLine(plan)
	narrow(plan)
	r.Route.Previews = append(r.Route.Previews, askedPreviews(plan)...)
	for _, wish := range plan.Wishes {
		if !slices.ContainsFunc(plan.Subjects, func(s *route.Subject) bool { return s.Name == wish.Name }) {
			return nil, nil, Immovable(part, wish.Name, wish.Text+" is asked for")
		}
	}
	if err := checkWishes(part, plan); err != nil {
		return nil, nil, err
	}
	if err := subjects.ApplyBooks(ctx, p.desk, p.tree, p.shelf, w, plan, wishes); err != nil {
		return nil, nil, err
	}
	held := func(c contract.Change) bool { return !c.Asked && p.holds(opt.Hold, part, c.Old) }
	plan.Replaced = slices.DeleteFunc(plan.Replaced, held)
	plan.Replaceable = slices.DeleteFunc(plan.Replaceable, held)
	if opt.Reach == world.ReachFix {
		if err := world.AvoidVulnerable(p.tree.Table, part, plan, opt.Advisories, opt.Also); err != nil {
			return nil, nil, err
		}
	}
	for _, missed := range plan.Missed { // a component may be planned several times
		if !slices.ContainsFunc(r.Missed, func(o error) bool { return o.Error() == missed.Error() }) {
			r.Missed = append(r.Missed, missed)
		}
	}
	// The plan follows its wishes as their names change.
	asked, overrides := slices.Clone(plan.Wishes), plan.Overrides
	legs, notices, err = plan.Legs(ctx, w)
	var conflict *solve.Conflict
	if errors.As(err, &conflict) {
		plan.Wishes, plan.Overrides = asked, overrides
		no, werr := ways.Find(ctx, &start, p.shelf, plan, conflict)
		if werr != nil {
			return nil, nil, werr
		}
		return nil, nil, no
	}
	notices = append(notices, w.Raising(notices, p.shelf.Lines)...)
	if err == nil && len(legs) > 0 {
		notices = append(notices, world.Parted(world.Companions(ctx, part, w.Registry), plan, legs)...)
	}
	return legs, notices, err
}
