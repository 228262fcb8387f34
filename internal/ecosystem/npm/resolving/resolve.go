// Package resolving finds what a project may ask for within a goal, has it placed, and tells what comes of it.
package resolving

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/want"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/placing"
	"bellwether/internal/ecosystem/npm/project"
	"bellwether/internal/ecosystem/npm/registry"
	"bellwether/internal/ecosystem/npm/tree"
)

// resolver finds versions for one component. What the tops ask for, and the
// peers that must meet them, is one problem for the solver; everything below
// is placed by npm's rule of nested folders.
type resolver struct {
	*placing.Builder
	p       *project.Project
	ask     ecosystem.Ask
	was     map[wishKey]string // versions of the tops' dependencies before
	problem *solve.Problem
	wishes  []*wish           // by solve.ID
	byKey   map[wishKey]*wish // what a top gets for a name
	waiting map[wishKey][]func(*wish)
	series  map[seriesKey]*solve.Series
	named   map[string][]*wish
	keys    map[model.DeclarationID]string // how the goal speaks of declarations
	fetched map[string]bool                // names that tops have from elsewhere than a registry
	placed  map[*tree.Node]*wish           // what was placed for wishes
	lessons []*lesson                      // what placing found before
}

// wishKey is a name as seen from a top.
type wishKey struct {
	top  *tree.Node
	name string
}

// seriesKey is what the releases of a wish ask of their peers, told together.
type seriesKey struct {
	of       *wish
	peer     string
	optional bool
	unknown  bool // to the registry
	none     bool // no release is what it wants
}

// wish is a package that a top asks for, or a peer of one.
type wish struct {
	id    solve.ID
	name  string
	pkg   *registry.Package
	tops  []*tree.Node       // that share it, the first is where it is placed
	specs []packagejson.Spec // what they ask for
	want  *want.Want
	rel   *registry.Release
}

// agrees tells whether some release suits all who share w and also s.
func (w *wish) agrees(s packagejson.Spec) bool {
	for i := range w.pkg.Releases {
		if w.pkg.Satisfying(s)[i] && !slices.ContainsFunc(w.specs, func(o packagejson.Spec) bool { return !w.pkg.Satisfying(o)[i] }) {
			return true
		}
	}
	return false
}

// Resolve finds versions for the whole component within the bounds of ask. What
// placing the packages finds to be in the way is learned, and all is solved anew.
func Resolve(ctx context.Context, r *registry.Registry, ask ecosystem.Ask) (*contract.State, error) {
	var lessons []*lesson
	for {
		s := newResolver(ctx, r, ask, lessons)
		outcome, err := s.resolve()
		learned := s.learn(err)
		if learned == nil || len(lessons) == maxLessons {
			return outcome, err
		}
		lessons = append(lessons, learned)
	}
}

func newResolver(ctx context.Context, r *registry.Registry, ask ecosystem.Ask, lessons []*lesson) *resolver {
	p := ask.Component.Detail.(*project.Project)
	s := &resolver{
		Builder: placing.New(ctx, r, p.Tree(), p.Root.File), p: p, ask: ask, problem: &solve.Problem{}, lessons: lessons,
		was: map[wishKey]string{}, byKey: map[wishKey]*wish{}, waiting: map[wishKey][]func(*wish){}, series: map[seriesKey]*solve.Series{},
		named: map[string][]*wish{}, keys: map[model.DeclarationID]string{}, fetched: map[string]bool{},
		placed: map[*tree.Node]*wish{},
	}
	key := ask.Keys()
	for _, q := range ask.Component.Requirements {
		s.keys[q.ID] = key(q)
	}
	s.Rewritten = len(ask.Overrides)+len(ask.Changes) > 0
	return s
}

func (s *resolver) resolve() (*contract.State, error) {
	s.override(s.p.Root, (*packagejson.Overrides).Following)
	if err := s.prepare(); err != nil {
		return nil, err
	}
	if err := s.solveTops(); err != nil {
		return nil, err
	}
	texts, moves, err := s.arrive()
	if err != nil {
		return nil, err
	}
	if s.ask.Peek {
		return &contract.State{Moves: moves}, nil
	}
	if s.p.Foreign != nil {
		return s.foreignOutcome(texts, moves), nil
	}
	tops, err := s.reread(texts)
	if err != nil {
		return nil, err
	}
	for top, m := range tops {
		s.Tree.SetTop(top, tree.TopEdges(m))
	}
	s.override(tops[s.Tree.Root], func(o *packagejson.Overrides) *packagejson.Overrides { return o })
	s.placeWishes()
	s.dropAvoided()
	s.All = s.ask.Dedupe
	if err := s.Build(); err != nil {
		return nil, err
	}
	return s.outcome(texts, tops, moves)
}

// override puts the rules of the root's manifest in force, in some form.
func (s *resolver) override(root *packagejson.Manifest, form func(*packagejson.Overrides) *packagejson.Overrides) {
	if rules := form(packagejson.ReadOverrides(root)); rules != nil {
		s.Tree.Root.Scope = packagejson.Scope{rules}
		s.Tree.SpreadScopes()
	}
}

// dropAvoided takes out of the tree what is not to be kept, so that something
// else is found in its place.
func (s *resolver) dropAvoided() {
	s.Avoid = s.ask.Avoid
	if s.Avoid == nil {
		return
	}
	var drop []*tree.Node
	s.Tree.Walk(func(n *tree.Node) {
		if !n.IsTop() && n.LinkTo == nil && !n.Pinned && !n.InBundle && s.Avoid(n.Package, n.Version) {
			drop = append(drop, n)
		}
	})
	for _, n := range drop {
		if !placing.Gone(n) {
			s.Tree.Remove(n)
		}
	}
}

// prepare checks that lock and manifests agree, and fetches ahead.
func (s *resolver) prepare() error {
	for _, m := range s.p.Manifests() {
		top := s.Tree.Tops[m.Dir]
		for _, d := range m.InEffect() {
			e := d.Edge()
			if rule := top.Scope.Rule(e); top == s.Tree.Root && top.Scope.Overrules(e) && rule.Direct == "" {
				return solve.Refute(
					d.Name,
					fmt.Sprintf("%s overrides %s with %s, which contradicts %s, which asks for %s; npm refuses that, unless the override says \"$%s\"",
						rule.Site, d.Name, packagejson.Shown(rule.Value), d.Site, packagejson.Shown(d.Spec.Text), d.Name),
				)
			}
			if s.changes(d.Name) {
				continue // it is new here, whatever others brought in
			}
			if i := slices.IndexFunc(top.EdgeList, func(in packagejson.Edge) bool { return in.Name == d.Name }); i >= 0 {
				e = top.EdgeList[i] // as overrides want it
			}
			to := top.Resolve(d.Name)
			if to != nil {
				s.was[wishKey{top, d.Name}] = to.Target().Version
			}
			if s.p.Lock == nil {
				continue // another client's lock is for that client to compare
			}
			if !tree.Meets(e, to) {
				found := "nothing"
				if to != nil {
					found = to.Target().Version
				}
				return &model.Fault{
					Doing: "resolving " + s.p.Root.File, File: d.Site.File, Line: d.Site.Line, Found: true,
					Wrong: fmt.Sprintf("asks for %s %s, but %s has %s", d.Name, packagejson.Shown(e.Spec.Text), s.p.LockFile, found),
					Next:  "let npm bring the lock up to date (npm install --package-lock-only) and commit it, or undo the change of the manifest",
				}
			}
		}
	}
	var names []string
	var edges []packagejson.Edge
	for _, m := range s.p.Manifests() {
		for _, e := range tree.TopEdges(m) {
			edges = append(edges, e)
			if e.Spec.Kind <= packagejson.SpecTag && !s.p.IsMember(e.Name) {
				names = append(names, e.Spec.Name)
			}
		}
	}
	switch {
	case s.p.Foreign != nil:
		s.Registry.Load(s.Ctx, names)
	case s.p.Lock == nil:
		placing.Crawl(s.Ctx, s.Registry, edges)
	case s.p.Lock.Version == 1:
		s.Tree.Walk(func(n *tree.Node) {
			if !n.IsTop() && n.LinkTo == nil {
				names = append(names, n.Package)
			}
		})
		s.Registry.Load(s.Ctx, names)
		return s.fillBodies()
	default:
		s.Registry.Load(s.Ctx, names)
	}
	return s.Ctx.Err()
}

// fillBodies takes what an old lock does not repeat from the registry.
func (s *resolver) fillBodies() (err error) {
	s.Tree.Walk(func(n *tree.Node) {
		if n.IsTop() || n.LinkTo != nil || n.Body != nil || err != nil {
			return
		}
		n.Body = &packagejson.Body{}
		if n.Version == "" {
			return
		}
		p, perr := s.Registry.Package(s.Ctx, n.Package)
		if perr != nil {
			err = perr
			return
		}
		if rel := p.Find(n.Version); rel != nil {
			n.Body = rel.Manifest()
		}
		s.Tree.SetEdges(n, tree.BodyEdges(n.Body, n.Scope))
	})
	s.Tree.SpreadScopes()
	return err
}

// solveTops states the problem of the tops and solves it.
func (s *resolver) solveTops() error {
	for _, m := range s.p.Manifests() {
		top := s.Tree.Tops[m.Dir]
		for _, d := range m.InEffect() {
			if s.overruled(top, d) {
				continue // placing provides it
			}
			if d.Spec.Kind > packagejson.SpecTag {
				s.fetched[d.Name] = true // it stays as it is
			}
			if d.Spec.Kind > packagejson.SpecTag && !s.fromSource(top, d) || s.p.IsMember(d.Name) {
				continue
			}
			if d.Kind == packagejson.PeerOptional && top.Resolve(d.Name) == nil {
				continue
			}
			if err := s.wishFor(top, d); err != nil {
				if d.Kind == packagejson.Optional && registry.IsAbsent(err) {
					continue
				}
				return err
			}
		}
	}
	for _, r := range s.ask.Rules {
		s.rule(r)
	}
	for _, name := range s.ask.First {
		s.someGoes(name)
	}
	s.heed()
	s.rank()
	s.problem.Expand = func(id solve.ID, candidate int) error { return s.expand(s.wishes[id], candidate) }
	solution, err := s.problem.Solve(s.Ctx)
	if err != nil {
		return err
	}
	for id, candidate := range solution {
		if candidate >= 0 {
			s.wishes[id].rel = s.wishes[id].pkg.Releases[candidate]
		}
	}
	return nil
}

// someGoes states that where members may have a package at versions of their own, one
// of them at least goes where it is to go.
func (s *resolver) someGoes(key string) {
	bound := s.ask.Bound(key)
	if bound.Allow == nil {
		return
	}
	var stay []solve.Term
	place, name := model.Parted(key)
	for _, w := range s.named[name] {
		if place != "" && w.want != nil && w.want.Key != key {
			continue
		}
		stay = append(
			stay,
			solve.Term{
				Subject: w.id, In: s.problem.Not(w.id, s.problem.Pick(w.id, func(i int) bool { return bound.Allow(w.pkg.Releases[i].Parsed) })),
			},
		)
	}
	if len(stay) > 0 {
		s.problem.Forbid(func() string { return bound.Why }, stay...)
	}
}

// overruled tells whether an override lays down what a member or a linked folder gets for
// a dependency.
func (s *resolver) overruled(top *tree.Node, d packagejson.Dependency) bool {
	return top != s.Tree.Root && top.Scope.Overrules(d.Edge())
}

// rule states a rule about the packages that the root asks for; one about a
// package that it does not ask for says nothing here.
func (s *resolver) rule(r contract.Rule) {
	want.Rule(s.problem, r, func(name string) (units []want.Unit) {
		for _, w := range s.named[name] {
			u := want.Unit{Subject: w.id, Want: w.want}
			for _, top := range w.tops {
				u.Places = append(u.Places, top.Loc)
			}
			units = append(units, u)
		}
		return units
	})
}

// wishFor adds a top's dependency to the problem. Tops that have the same
// version of a package share one subject, so that it stays one.
func (s *resolver) wishFor(top *tree.Node, d packagejson.Dependency) error {
	var p *registry.Package
	var err error
	if d.Spec.Kind == packagejson.SpecGit {
		p, err = s.Registry.Source(s.Ctx, d)
	} else {
		p, err = s.PackageWith(d.Spec.Name, top.Resolve(d.Name), d.Site)
	}
	if err != nil {
		return err
	}
	locked := s.was[wishKey{top, d.Name}]
	own := s.wanted(d, p, locked)
	allowed := own.Allowed(&s.ask.Goal)
	var w *wish
	apart := slices.Contains(s.ask.Apart, d.Name)
	for _, other := range s.named[d.Name] {
		if !apart && other.pkg == p && s.was[wishKey{other.tops[0], d.Name}] == locked && (locked != "" || other.agrees(d.Spec)) &&
			s.alike(other.want, own, allowed) {
			other.specs = append(other.specs, d.Spec)
			w = other
			w.tops = append(w.tops, top)
			s.byKey[wishKey{top, d.Name}] = w
			break
		}
	}
	if w == nil {
		w = s.newWish(top, d.Name, p, own.Key)
		w.specs = []packagejson.Spec{d.Spec}
	}
	w.want = own
	why := w.want.Why(&s.ask.Goal, allowed)
	if !slices.Contains(allowed, true) {
		why = func() string { return s.nothing(d, p, s.ask.Bound(own.Key)) }
	}
	s.problem.Require(w.id, s.problem.Pick(w.id, func(i int) bool { return allowed[i] }), why)
	s.problem.Prefer(w.id, w.want.Preference(&s.ask.Goal))
	return nil
}

// keyOf is how the goal speaks of a dependency.
func (s *resolver) keyOf(d packagejson.Dependency) string {
	return cmp.Or(s.keys[packagejson.DeclarationOf(d)], d.Name)
}

// alike tells whether two declarations of a package may become the same, so that one choice is that of both. Declarations
// that the goal speaks of by one key always share it.
func (s *resolver) alike(other, own *want.Want, allowed []bool) bool {
	return other.Key == own.Key || slices.Equal(other.Allowed(&s.ask.Goal), allowed) &&
		s.ask.Bound(other.Key).Newest == s.ask.Bound(own.Key).Newest
}

// newWish adds what a top gets of a name, of which goals speak by a key.
func (s *resolver) newWish(top *tree.Node, name string, p *registry.Package, key string) *wish {
	label := model.Spoken(key)
	if top != s.Tree.Root && label == name {
		label += " (in " + top.Loc + ")"
	}
	w := &wish{name: name, pkg: p, tops: []*tree.Node{top}}
	w.id = s.problem.Subject(label, p.Versions)
	s.wishes = append(s.wishes, w)
	s.named[name] = append(s.named[name], w)
	s.byKey[wishKey{top, name}] = w
	for _, state := range s.waiting[wishKey{top, name}] {
		state(w)
	}
	s.heed()
	return w
}

// nothing says of a dependency that no release satisfies it.
func (s *resolver) nothing(d packagejson.Dependency, p *registry.Package, bound contract.Bound) string {
	newest := "there are no releases at all"
	if n := len(p.Releases); n > 0 {
		newest = "the newest is " + p.Releases[n-1].Text
	}
	asks := fmt.Sprintf("%s asks for %s %s", d.Site, d.Spec.Name, packagejson.Shown(d.Spec.Text))
	inRange := func(rel *registry.Release) bool { return p.Satisfying(d.Spec)[rel.Index] }
	if bound.Allow != nil {
		asks = bound.Why
		inRange = func(rel *registry.Release) bool { return bound.Allow(rel.Parsed) }
	}
	to, tagged := p.Tags[d.Spec.Text]
	switch {
	case slices.ContainsFunc(p.Releases, inRange) && s.Registry.Settings.On("engine-strict"):
		return fmt.Sprintf("%s, and no such release runs on node %s, which engine-strict demands", asks, s.Registry.Node)
	case bound.Allow != nil:
		return fmt.Sprintf("%s, and no release of %s can be that (%s)", asks, d.Spec.Name, newest)
	case d.Spec.Kind == packagejson.SpecTag && tagged:
		return fmt.Sprintf("%s, a tag that points at %s, which is not published", asks, to)
	case d.Spec.Kind == packagejson.SpecTag:
		return fmt.Sprintf(
			"%s, which is neither a range nor one of the tags there are (%s)", asks, strings.Join(slices.Sorted(maps.Keys(p.Tags)), ", "),
		)
	}
	return fmt.Sprintf("%s, and no release is in that range (%s)", asks, newest)
}

// fromSource tells whether what a top asks for is to be read from its source:
// where that is new, or nothing is locked.
func (s *resolver) fromSource(top *tree.Node, d packagejson.Dependency) bool {
	return d.Spec.Kind == packagejson.SpecGit && (s.changes(d.Name) || top.Resolve(d.Name) == nil)
}

// changes tells whether a requirement was not there as it is now.
func (s *resolver) changes(name string) bool {
	return slices.ContainsFunc(s.ask.Changes, func(c contract.Change) bool { return c.New == name })
}
