package work

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/spelling"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
)

// reachFix is the reach of moves that leave no known vulnerability, and nothing
// more.
const reachFix = "fix"

// RouteOptions say where a route is to lead.
type RouteOptions struct {
	To    []string // destinations, NAME@RANGE
	Reach string   // patch, minor or major; empty for the settings'
	Hold  []string // names that stay, besides those of the settings
	// Prefer is which version of a runtime or tool is taken where the one that is
	// stated will not do; empty for the lowest.
	Prefer    compat.Prefer
	AllowDown []string // names that may go to older versions
	Few       int      // moves at most in a leg that only refreshes, if it can be split; 0 for any number
	Stepwise  bool     // through every major
	Explain   bool     // legs say why they are as they are
	LeaveOut  []string // folders of components, and packages, that the route does not touch
	Apart     []string // names that members of a workspace may have at versions of their own
	Settle    bool     // before the first major, the project's own deprecations are to be repaired
	Dedupe    bool     // at last, as few copies of packages as there can be
	Together  []string // names that move in one leg, with commas between them
	DoWithout []string // names of requirements that go
	Override  []string // OF:NAME or OF:NAME@RANGE; what packages get of others, whatever they ask for
	// Advisories is a folder of vulnerability records, which the reach "fix" needs.
	Advisories string
	also       map[string]string // requirements that are to move for what comes by way of them, above a version
	// DropBridges goes to where temporary measures are no longer needed.
	DropBridges bool
	dropped     []overrideIn // overrides that are to go
	Take        int          // the way out to take if there is no way, counted from 1; 0 for none
}

// destination is one wish, taken apart.
type destination struct {
	name, rng, text string
	because         string // why another destination needs it; empty for one that was asked for
}

func readDestination(text string) (destination, error) {
	at := strings.Index(text[min(1, len(text)):], "@") + 1 // a scope starts with one, too
	if at == 0 {
		return destination{}, &model.Fault{Doing: "reading --to", Wrong: fmt.Sprintf("%q is not NAME@RANGE", text), Next: "write --to " + text + "@ and a range"}
	}
	return destination{name: text[:at], rng: text[at+1:], text: text}, nil
}

// Route computes the legs to the destination and keeps them for Advance. The
// error is a *solve.Conflict if the destination cannot be reached.
func (p *Project) Route(ctx context.Context, opt RouteOptions) (*model.RouteResult, error) {
	if opt.DropBridges {
		var err error
		if opt, err = p.dropBridges(ctx, opt); err != nil {
			return nil, err
		}
	}
	opt = p.leavingOut(opt)
	families, err := familiesAsked(opt.Together)
	if err != nil {
		return nil, err
	}
	p.Settings.Together = append(p.Settings.Together, families...)
	planned, err := p.plan(ctx, opt)
	if opt.Take > 0 {
		planned, err = p.takeWay(ctx, opt, planned, err)
	}
	if err != nil {
		return nil, err
	}
	r := planned.route
	if opt.Settle {
		limit := 0
		if p.Settings.Deprecations != nil {
			limit = *p.Settings.Deprecations
		}
		r.Legs = p.settleFirst(r.Legs, limit)
	}
	result := &model.RouteResult{File: keepDir + "/route.yaml", Destination: r.Destination, Legs: []model.LegResult{}, Notices: planned.notices}
	for i := range r.Legs {
		leg := &r.Legs[i]
		leg.ID = fmt.Sprintf("%d-%s", i+1, strings.SplitN(leg.ID, "-", 2)[1])
		result.Legs = append(result.Legs, leg.Result())
	}
	release, err := p.hold(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	if err := p.restartJourney(); err != nil {
		return nil, err
	}
	return result, p.writeRoute(r, p.opt.Preview)
}

// leavingOut holds what is to be left out and is no folder of a component.
func (p *Project) leavingOut(opt RouteOptions) RouteOptions {
	opt.Hold = slices.Clone(opt.Hold)
	var folders []string
	for _, name := range opt.LeaveOut {
		folder := strings.TrimSuffix(name, "/")
		if slices.ContainsFunc(p.Components, func(part *Part) bool { return part.Dir == folder }) {
			folders = append(folders, folder)
		} else {
			opt.Hold = append(opt.Hold, name)
		}
	}
	opt.LeaveOut = folders
	return opt
}

// planned is a route while it is computed.
type planned struct {
	route   *model.Route
	stops   []stop // after each leg that moves packages
	start   fs.FS
	notices []string
	left    []model.SurveyAdvisory // what is still affected at the end, with the reach "fix"
}

// end is the files after the last leg.
func (r *planned) end() fs.FS {
	if n := len(r.stops); n > 0 {
		return r.stops[n-1].fsys
	}
	return r.start
}

// maxRounds bounds how often a route is planned anew with what was found to be
// needed first.
const maxRounds = 5

// plan computes the legs to the destination, with those that must come before
// them.
func (p *Project) plan(ctx context.Context, opt RouteOptions) (*planned, error) {
	r, err := p.planOnce(ctx, opt)
	if err != nil || opt.Reach != reachFix {
		return r, err
	}
	return p.fixFurther(ctx, opt, r)
}

// planOnce computes the legs for what is asked for, and nothing else.
func (p *Project) planOnce(ctx context.Context, opt RouteOptions) (*planned, error) {
	var first []destination // packages that rules need, which go before what needs them
	for round := 1; ; round++ {
		r, err := p.planPackages(ctx, opt, first)
		if err != nil {
			return nil, err
		}
		more, err := p.addPrerequisites(ctx, opt, r)
		if err != nil {
			return nil, err
		}
		more = slices.DeleteFunc(more, func(d destination) bool {
			return slices.ContainsFunc(first, func(o destination) bool { return o.name == d.name && o.rng == d.rng })
		})
		if len(more) == 0 || round == maxRounds {
			return r, nil
		}
		first = append(first, more...)
	}
}

// planPackages computes the legs that move packages.
func (p *Project) planPackages(ctx context.Context, opt RouteOptions, first []destination) (*planned, error) {
	reach := version.Stay
	if word := cmpOr(opt.Reach, p.Settings.Reach); word == reachFix {
		if opt.Advisories == "" {
			return nil, &model.Fault{Doing: "reading --reach", Wrong: "fix needs vulnerability records", Next: "name their folder with --advisories"}
		}
	} else if word != "" {
		var ok bool
		if reach, ok = version.ReachNamed(word); !ok || reach == version.Stay {
			return nil, &model.Fault{Doing: "reading --reach", Wrong: fmt.Sprintf("%q is not patch, minor, major or fix", word)}
		}
	} else if len(opt.To)+len(opt.Override)+len(opt.dropped)+len(opt.DoWithout) == 0 && !opt.Dedupe {
		reach = version.Minor
	}
	wishes := slices.Clone(first)
	for _, text := range opt.To {
		d, err := readDestination(text)
		if err != nil {
			return nil, err
		}
		if s, ok := model.ReadSubject(d.name); ok && s.IsPin() {
			name := p.requiredAs(s)
			if name == "" {
				continue // places of files state it; they come after packages are planned
			}
			d.name = name
		}
		wishes = slices.DeleteFunc(wishes, func(o destination) bool { return o.name == d.name })
		wishes = append(wishes, d)
	}
	for _, d := range wishes {
		if slices.Contains(opt.DoWithout, d.name) {
			return nil, &model.Fault{Doing: "reading --do-without", Wrong: d.name + " is to go, and " + d.text + " is a destination", Next: "leave one of them out"}
		}
	}
	if err := p.knownNames(ctx, wishes, slices.Concat(opt.Hold, p.Settings.Hold, opt.DoWithout, strings.FieldsFunc(strings.Join(opt.Together, ","), func(r rune) bool { return r == ',' }))); err != nil {
		return nil, err
	}
	if err := p.knownOverrides(opt); err != nil {
		return nil, err
	}
	r := &planned{route: &model.Route{Destination: slices.Clone(opt.To), AsOf: p.opt.AsOf}, start: p.fsys}
	for _, name := range opt.DoWithout {
		r.route.Destination = append(r.route.Destination, "without "+name)
	}
	for _, o := range opt.Override {
		r.route.Destination = append(r.route.Destination, "override "+o)
	}
	for _, o := range opt.dropped {
		r.route.Destination = append(r.route.Destination, fmt.Sprintf("no override %s:%s", o.Of, o.Name))
	}
	if opt.Dedupe {
		r.route.Destination = append(r.route.Destination, "as few copies as there can be")
	}
	if reach > version.Stay {
		r.route.Destination = append(r.route.Destination, "everything else within reach "+reach.String())
	}
	if opt.Reach == reachFix {
		r.route.Destination = append(r.route.Destination, "no known vulnerability")
		dir, err := filepath.Abs(opt.Advisories)
		if err != nil {
			return nil, err
		}
		r.route.Advisories = dir
	}
	for _, part := range p.Components {
		if slices.Contains(opt.LeaveOut, part.Dir) {
			continue
		}
		if _, err := p.connect(ctx, part); err != nil {
			return nil, err
		}
		if len(r.stops) > 0 { // a component may be changed by the legs of those before it
			var err error
			if part, err = part.after(r.end()); err != nil {
				return nil, err
			}
		}
		if err := p.planPart(ctx, part, r, wishes, reach, opt); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// planPart adds the legs of a component. Where the way goes only by a newer
// runtime that its manifest states, and nothing holds that, it is raised first.
func (p *Project) planPart(ctx context.Context, part *Part, r *planned, wishes []destination, reach version.Reach, opt RouteOptions) error {
	for {
		w, err := p.world(ctx, part)
		if err != nil {
			return err
		}
		w.fsys = r.end()
		legs, notices, err := p.routePart(ctx, part, w, wishes, reach, opt)
		var no *NoWay
		if errors.As(err, &no) && no.raise != nil && !p.holds(opt.Hold, part, no.raise.name) &&
			!slices.ContainsFunc(wishes, func(d destination) bool { return d.name == no.raise.name }) {
			wishes = append(slices.Clone(wishes), *no.raise)
			continue
		}
		if err != nil {
			return err
		}
		r.route.Legs = append(r.route.Legs, legs...)
		r.stops, r.notices = append(r.stops, w.stops...), append(r.notices, notices...)
		return nil
	}
}

// holds tells whether a requirement is to stay where it is.
func (p *Project) holds(hold []string, part *Part, name string) bool {
	for _, h := range append(slices.Clone(hold), p.Settings.Hold...) {
		if h == name || len(part.Find(name)) > 0 && part.Find(name)[0].Subject.String() == h {
			return true
		}
	}
	return false
}

func cmpOr(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// knownNames refuses names that no component requires.
func (p *Project) knownNames(ctx context.Context, wishes []destination, holds []string) error {
	s, err := p.shelf(ctx)
	if err != nil {
		return err
	}
	var known []string
	for _, part := range p.Components {
		for _, r := range part.Requirements {
			known = append(known, r.Name, r.Subject.String())
		}
		for _, w := range wishes {
			if s.replaces(part, w.name) != nil {
				known = append(known, w.name)
			}
		}
	}
	names := holds
	for _, w := range wishes {
		names = append(names, w.name)
	}
	for _, name := range names {
		if s, ok := model.ReadSubject(name); ok && s.IsPin() {
			continue // a runtime or tool may be stated anywhere
		}
		if !slices.Contains(known, name) {
			return &model.Fault{
				Doing: "reading the destination", Wrong: fmt.Sprintf("no manifest of this project requires %q", name),
				Next: spelling.DidYouMean(name, known),
			}
		}
	}
	return nil
}

func (p *Project) routePart(ctx context.Context, part *Part, w *world, wishes []destination, reach version.Reach, opt RouteOptions) (legs []model.Leg, notices []string, err error) {
	plan := &route.Plan{Component: part.Dir, Order: part.eco.Order(), Reach: reach, NoLock: part.Lock == "", Down: opt.AllowDown, Dedupe: opt.Dedupe, Few: opt.Few, Stepwise: opt.Stepwise, Explain: opt.Explain, Apart: opt.Apart}
	if plan.Overrides, err = readOverrides(part, opt); err != nil {
		return nil, nil, err
	}
	s, err := p.shelf(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, name := range opt.DoWithout {
		if len(part.Find(name)) > 0 {
			plan.Replaced = append(plan.Replaced, withoutIt(name))
		}
	}
	for _, d := range wishes {
		if len(part.Find(d.name)) == 0 {
			continue
		}
		if c := p.fromElsewhere(part, s, d); c != nil {
			plan.Replaced = append(plan.Replaced, *c)
			continue
		}
		rng, err := plan.Order.ParseRange(d.rng)
		if err != nil {
			if rng, err = p.atBranch(ctx, part, w.registry, plan, d, err); err != nil {
				return nil, nil, err
			}
		}
		plan.Wishes = append(plan.Wishes, route.Wish{Name: d.name, Range: rng, Text: d.text, Because: d.because})
	}
	changes := len(plan.Replaced) > 0 || slices.ContainsFunc(wishes, func(d destination) bool { return s.replaces(part, d.name) != nil })
	if reach == version.Stay && len(plan.Wishes)+len(plan.Overrides) == 0 && !changes && opt.Reach != reachFix && !opt.Dedupe {
		return nil, nil, nil
	}
	if plan.Subjects, err = p.subjects(ctx, part, w.registry, plan.Wishes, append(slices.Clone(opt.Hold), p.Settings.Hold...)); err != nil {
		return nil, nil, err
	}
	addAlso(plan)
	p.narrow(plan)
	p.askedPreviews(plan)
	for _, wish := range plan.Wishes {
		if !slices.ContainsFunc(plan.Subjects, func(s *route.Subject) bool { return s.Name == wish.Name }) {
			return nil, nil, immovable(ctx, part.Find(wish.Name)[0], wish.Text+" is asked for")
		}
	}
	if err := p.checkWishes(part, plan); err != nil {
		return nil, nil, err
	}
	if err := p.applyBooks(ctx, part, plan, wishes); err != nil {
		return nil, nil, err
	}
	if opt.Reach == reachFix {
		if err := p.avoidVulnerable(part, plan, opt.Advisories, opt.also); err != nil {
			return nil, nil, err
		}
	}
	plan.Previews = p.previews()
	// The plan follows its wishes as their names change.
	asked, overrides := slices.Clone(plan.Wishes), plan.Overrides
	legs, notices, err = plan.Legs(ctx, w)
	var conflict *solve.Conflict
	if errors.As(err, &conflict) {
		plan.Wishes, plan.Overrides = asked, overrides
		no, werr := p.waysOut(ctx, part, plan, conflict)
		if werr != nil {
			return nil, nil, werr
		}
		return nil, nil, no
	}
	if err == nil && len(legs) > 0 {
		notices = append(notices, parted(companions(ctx, part, w.registry), plan, legs)...)
	}
	return legs, notices, err
}

// requiredAs is the name under which a manifest requires a runtime, "" if none
// does.
func (p *Project) requiredAs(s model.Subject) string {
	for _, part := range p.Components {
		for _, r := range part.Requirements {
			if r.Subject == s {
				return r.Name
			}
		}
	}
	return ""
}

// askedPreviews allows pre-releases of what a wish is about that only they meet:
// whoever names one asks for it.
func (p *Project) askedPreviews(plan *route.Plan) {
	for _, w := range plan.Wishes {
		for _, s := range plan.Subjects {
			released := func(v version.Version) bool { return w.Range.Contains(v) && !v.Preview() }
			if s.Name == w.Name && !s.Previews && slices.ContainsFunc(s.Releases, w.Range.Contains) && !slices.ContainsFunc(s.Releases, released) {
				s.Previews = true
				p.opt.Preview = append(p.opt.Preview, s.Name)
			}
		}
	}
}

// narrow takes wishes that nobody named to the lowest line that will do.
func (p *Project) narrow(plan *route.Plan) {
	for i, w := range plan.Wishes {
		for _, s := range plan.Subjects {
			if s.Name != w.Name || w.Because == "" {
				continue
			}
			at := slices.IndexFunc(s.Releases, func(v version.Version) bool { return w.Range.Contains(v) && !v.Preview() })
			if at >= 0 {
				plan.Wishes[i].Range = inLine{w.Range, s.Releases[at].Line()}
			}
		}
	}
}

// inLine is the part of a range that is in one line.
type inLine struct {
	version.Range
	line string
}

// Contains tells whether v is in the range and in the line.
func (r inLine) Contains(v version.Version) bool { return v.Line() == r.line && r.Range.Contains(v) }

// immovable is the conflict of a wish about a requirement that has no version
// to move.
func immovable(ctx context.Context, r model.Requirement, wish string) error {
	p := &solve.Problem{}
	id := p.Subject(r.Name, []string{"as it is", "as asked for"})
	p.Require(id, p.Pick(id, func(i int) bool { return i == 1 }), func() string { return wish })
	p.Require(id, p.Pick(id, func(i int) bool { return i == 0 }), func() string {
		return fmt.Sprintf("%s asks for %s, which has no version to move: %s", r.Site, r.Name, r.Fixed)
	})
	_, err := p.Solve(ctx)
	return err
}

// checkWishes refuses a destination that has no release.
func (p *Project) checkWishes(part *Part, plan *route.Plan) error {
	for _, wish := range plan.Wishes {
		for _, s := range plan.Subjects {
			if s.Name != wish.Name || slices.ContainsFunc(s.Releases, wish.Range.Contains) {
				continue
			}
			newest := "there are no releases"
			if n := len(s.Releases); n > 0 {
				newest = "the newest is " + s.Releases[n-1].String()
			}
			r := part.Find(wish.Name)[0]
			return &model.Fault{
				Doing: "reading --to " + wish.Text, File: r.Site.File, Line: r.Site.Line,
				Wrong: fmt.Sprintf("no release of %s is in the range %s; %s", wish.Name, wish.Range, newest),
				Next:  "bellwether explain " + wish.Name + " lists the releases",
			}
		}
	}
	return nil
}

// subjects are the direct requirements that can move, each name once.
func (p *Project) subjects(ctx context.Context, part *Part, registry ecosystem.Registry, wishes []route.Wish, hold []string) ([]*route.Subject, error) {
	families, err := registry.Families(ctx, part.Component)
	if err != nil {
		return nil, err
	}
	family := func(name string) []string {
		i := slices.IndexFunc(families, func(f []string) bool { return slices.Contains(f, name) })
		if i < 0 {
			return nil
		}
		return slices.DeleteFunc(slices.Clone(families[i]), func(other string) bool { return other == name })
	}
	moves := func(r model.Requirement) bool {
		wished := slices.ContainsFunc(wishes, func(w route.Wish) bool { return w.Name == r.Name })
		return r.Fixed == "" && (!r.Asked || wished || family(r.Name) != nil)
	}
	known := make([][]model.Release, len(part.Requirements))
	failed := make([]error, len(part.Requirements))
	var group errgroup.Group
	group.SetLimit(askAtOnce)
	for i, r := range part.Requirements {
		if !moves(r) {
			continue
		}
		group.Go(func() (err error) {
			if known[i], err = registry.Releases(ctx, r.Subject); err != nil {
				failed[i] = fmt.Errorf("%s: %w", r.Site, err)
			}
			return nil
		})
	}
	_ = group.Wait()
	for _, err := range failed { // the first in the manifest, whichever came first
		if err != nil {
			return nil, err
		}
	}
	var subjects []*route.Subject
	order := part.eco.Order()
	var node version.Version
	if now, err := p.now(); err == nil {
		node = stated(now.pinsOf(model.Subject{Kind: "runtime", Name: "node"}))
	}
	for i, r := range part.Requirements {
		if !moves(r) || slices.ContainsFunc(subjects, func(s *route.Subject) bool { return s.Name == r.Name }) {
			continue
		}
		s := &route.Subject{Name: r.Name, Held: slices.Contains(hold, r.Name) || slices.Contains(hold, r.Subject.String()), Previews: slices.Contains(p.previews(), r.Name), Family: family(r.Name), Runtime: r.Subject.Kind == "runtime"}
		against, peers := map[string]string{}, map[string][]string{}
		for _, rel := range known[i] {
			v, err := order.Parse(rel.Version)
			if err != nil {
				continue
			}
			s.Releases = append(s.Releases, v)
			against[rel.Version] = rel.Unfit
			switch {
			case rel.Retracted:
				against[rel.Version] = "its author took it back"
			case rel.Deprecated != "":
				against[rel.Version] = "it is deprecated: " + rel.Deprecated
			}
			peers[rel.Version] = rel.Peers
			for _, peer := range rel.Peers {
				if !slices.Contains(s.Peers, peer) {
					s.Peers = append(s.Peers, peer)
				}
			}
		}
		s.PeersAt = func(v version.Version) []string { return peers[v.String()] }
		s.Shun = func(v version.Version) string {
			return cmpOr(against[v.String()], beyondRuntime(r.Name, v, node))
		}
		if r.Locked != "" {
			if s.At, err = order.Parse(r.Locked); err != nil {
				return nil, &model.Fault{Doing: "reading the lock", File: part.Lock, Wrong: fmt.Sprintf("%s: %v", r.Name, err)}
			}
		}
		subjects = append(subjects, s)
	}
	return subjects, nil
}
