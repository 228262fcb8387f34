// Package plan computes routes: the legs to a destination, with all that must come before
// them.
package plan

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/version"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/need"
	"bellwether/internal/work/shelf"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/ways"
	"bellwether/internal/work/world"
)

// Route computes the legs to the destination and keeps them for advance. The
// error is a *solve.Conflict if the destination cannot be reached. With a result, it tells of components that were not looked at.
func Route(ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store, r world.Request) (*output.RouteResult, error) {
	s, err := Shelf(ctx, d, t, r)
	if err != nil {
		return nil, err
	}
	p := &planner{desk: d, tree: t, shelf: s}
	if r.DropBridges {
		if r, err = p.dropBridges(ctx, r); err != nil {
			return nil, err
		}
	}
	r = p.leavingOut(r)
	planned, err := p.plan(ctx, r)
	if r.Take > 0 {
		planned, err = p.takeWay(ctx, r, planned, err)
	}
	if err != nil {
		return nil, err
	}
	legs := planned.Route.Legs
	if r.Settle {
		limit := 0
		if d.Settings.Deprecations != nil {
			limit = *d.Settings.Deprecations
		}
		legs = p.settleFirst(legs, limit)
	}
	result := &output.RouteResult{
		File: kept.RouteFile, Destination: slices.Clone(planned.Route.Destination), Legs: []output.LegResult{}, Notices: planned.Notices,
	}
	if n := affected(planned.left); n > 0 {
		for i, text := range result.Destination {
			if text == freeOfKnown {
				result.Destination[i] = fmt.Sprintf("fewer known vulnerabilities (%s)", stays(n))
			}
		}
	}
	for i := range legs {
		legs[i].ID = fmt.Sprintf("%d-%s", i+1, strings.SplitN(legs[i].ID, "-", 2)[1])
		result.Legs = append(result.Legs, output.OfLeg(legs[i]))
	}
	planned.Route.Legs = legs
	release, err := k.Hold(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	if err := k.Restart(); err != nil {
		return nil, err
	}
	if err := k.WriteRoute(kept.NewRoute(planned.Route)); err != nil {
		return nil, err
	}
	return result, errors.Join(append(planned.Missed, k.BeginRecord(result, d.Clock))...)
}

// Shelf is the compat books that apply to a request.
func Shelf(ctx context.Context, d *desk.Desk, t *tree.Tree, r world.Request) (*shelf.Shelf, error) {
	families, err := familiesAsked(r.Together)
	if err != nil {
		return nil, err
	}
	return shelf.Read(ctx, d, t, families...)
}

// Compute computes the legs of a route, and keeps nothing.
func Compute(ctx context.Context, d *desk.Desk, t *tree.Tree, s *shelf.Shelf, r world.Request) (*Planned, error) {
	return (&planner{desk: d, tree: t, shelf: s}).plan(ctx, r)
}

// Asker asks what states need, with what a request holds and prefers.
func Asker(d *desk.Desk, s *shelf.Shelf, r world.Request) need.Asker {
	return need.Asker{Desk: d, Shelf: s, Prefer: r.Prefer, Hold: slices.Concat(r.Hold, d.Settings.Hold)}
}

// planner is what routes are computed from.
type planner struct {
	desk  *desk.Desk
	tree  *tree.Tree
	shelf *shelf.Shelf
	// raised are the runtimes, tools, platforms and images that the route raises, as the round before found.
	raised map[model.Subject]version.Version
}

// leavingOut holds what is to be left out and is no folder of a component.
func (p *planner) leavingOut(opt world.Request) world.Request {
	opt.Hold = slices.Clone(opt.Hold)
	var folders []string
	for _, name := range opt.LeaveOut {
		folder := strings.TrimSuffix(name, "/")
		if p.tree.Has(folder) {
			folders = append(folders, folder)
		} else {
			opt.Hold = append(opt.Hold, name)
		}
	}
	opt.LeaveOut = folders
	return opt
}

// Planned is a route while it is computed.
type Planned struct {
	Route   *model.Route
	Notices []string
	Missed  []error // components that were not looked at, since something could not be had
	start   *tree.Tree
	stops   []*tree.Tree            // the project after each leg that moves packages
	left    []output.SurveyAdvisory // what is still affected at the end, with the reach "fix"
}

// End is the project after the last leg.
func (r *Planned) End() *tree.Tree {
	if n := len(r.stops); n > 0 {
		return r.stops[n-1]
	}
	return r.start
}

// joinPins makes one leg of those that move the same runtimes to the same versions in several components: carrying the first one
// out moves all places that state them.
func (r *Planned) joinPins() {
	for i := 0; i < len(r.Route.Legs); i++ {
		first := &r.Route.Legs[i]
		for j := i + 1; j < len(r.Route.Legs); {
			if !samePins(first, &r.Route.Legs[j]) {
				j++
				continue
			}
			first.Component = "" // it is of all that state them
			for k := range first.Moves {
				m := &first.Moves[k]
				first.Title = strings.Replace(first.Title, m.Name+" ", m.Subject.String()+" ", 1)
				m.Name = m.Subject.String()
				m.Sites = append(m.Sites, r.Route.Legs[j].Moves[k].Sites...)
			}
			r.Route.Legs = slices.Delete(r.Route.Legs, j, j+1)
			r.stops = slices.Delete(r.stops, j-1, j) // the state behind both is that of the later one
		}
	}
}

// samePins tells whether two legs move nothing but the same runtimes, tools, platforms and images to the same versions.
func samePins(a, b *model.Leg) bool {
	return len(a.Moves) > 0 && slices.EqualFunc(a.Moves, b.Moves, func(x, y model.Move) bool {
		return x.Subject.IsPin() && x.Subject == y.Subject && x.To == y.To
	})
}

// maxRounds bounds how often a route is planned anew with what was found to be
// needed first.
const maxRounds = 5

// plan computes the legs to the destination, with those that must come before
// them.
func (p *planner) plan(ctx context.Context, opt world.Request) (*Planned, error) {
	r, err := p.planOnce(ctx, opt)
	if err != nil || opt.Reach != world.ReachFix {
		return r, err
	}
	return p.fixFurther(ctx, opt, r)
}

// planOnce computes the legs for what is asked for, and nothing else.
func (p *planner) planOnce(ctx context.Context, opt world.Request) (*Planned, error) {
	var first []world.Destination // packages that rules need, which go before what needs them
	var follow follow
	defer func() { p.raised = nil }()
	for round := 1; ; round++ {
		r, err := p.planPackages(ctx, opt, slices.Concat(first, follow.wishes))
		if follow.gaveWay(err) {
			continue
		}
		if err != nil {
			return nil, err
		}
		found, err := need.Before(ctx, Asker(p.desk, p.shelf, opt), opt, need.Along{Start: p.tree, Legs: r.Route.Legs, Stops: r.stops})
		if err != nil {
			return nil, err
		}
		r.Route.Legs, r.Notices = found.Legs, slices.Concat(r.Notices, found.Notices, follow.stay)
		if opt.Reach == world.ReachFix {
			packages, err := p.desk.Effective(ctx, r.End())
			if err != nil {
				return nil, err
			}
			if r.left, err = world.Affected(packages, opt.Advisories); err != nil {
				return nil, err
			}
		}
		more := slices.DeleteFunc(found.First, func(d world.Destination) bool {
			return slices.ContainsFunc(first, func(o world.Destination) bool { return o.Name == d.Name && o.Range == d.Range })
		})
		// What is raised for one package is there for others, too.
		raised := p.raisedBy(r.Route.Legs)
		higher := slices.ContainsFunc(slices.Collect(maps.Keys(raised)), func(s model.Subject) bool {
			return p.raised[s] == nil || raised[s].Compare(p.raised[s]) > 0
		})
		if follows := follow.add(found.Follow); len(more) == 0 && !higher && !follows || round == maxRounds {
			return r, nil
		}
		first, p.raised = append(first, more...), raised
	}
}

// takeWay plans again by one of the ways out of a conflict.
func (p *planner) takeWay(ctx context.Context, opt world.Request, planned *Planned, err error) (*Planned, error) {
	var no *ways.NoWay
	switch {
	case err == nil:
		planned.Notices = append(planned.Notices, "there is a way as it was asked for, so that --take is not needed")
		return planned, nil
	case !errors.As(err, &no):
		return nil, err
	case opt.Take > len(no.Take):
		return nil, &model.Fault{
			Doing: fmt.Sprintf("reading --take %d", opt.Take), Wrong: fmt.Sprintf("there are %d ways out", len(no.Take)),
			Next: "bellwether route without --take lists them",
		}
	}
	opt = opt.Clone()
	way := no.Ways[opt.Take-1]
	no.Take[opt.Take-1](&opt)
	if planned, err = p.plan(ctx, opt); err != nil {
		return nil, fmt.Errorf("the way out %q goes as a whole, but not leg by leg: %w", way.Text, err)
	}
	planned.Notices = append(planned.Notices, "taken as a way out: "+way.Text)
	return planned, nil
}

// raisedBy are the runtimes, tools, platforms and images that legs raise, and to what, but for what a component requires itself: its
// ecosystem knows of that.
func (p *planner) raisedBy(legs []model.Leg) map[model.Subject]version.Version {
	all := map[model.Subject]version.Version{}
	for _, l := range legs {
		for _, m := range l.Moves {
			to, err := version.Plain{}.Parse(m.To)
			if m.Subject.IsPin() && err == nil && p.tree.RequiredAs(m.Subject) == "" && (all[m.Subject] == nil || to.Compare(all[m.Subject]) > 0) {
				all[m.Subject] = to
			}
		}
	}
	return all
}
