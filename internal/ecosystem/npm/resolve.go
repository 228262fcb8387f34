package npm

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
	"bellwether/internal/core/version"
	"bellwether/internal/core/want"
	"bellwether/internal/ecosystem"
)

// resolver finds versions for one component. What the tops ask for, and the
// peers that must meet them, is one problem for the solver; everything below
// is placed by npm's rule of nested folders.
type resolver struct {
	*builder
	p       *project
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
	placed  map[*node]*wish                // what was placed for wishes
	lessons []*lesson                      // what placing found before
}

// everything is the range of all releases.
var everything, _ = version.NPM{}.ParseRange("*")

// wishKey is a name as seen from a top.
type wishKey struct {
	top  *node
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
	pkg   *pkg
	tops  []*node // that share it, the first is where it is placed
	specs []spec  // what they ask for
	want  *want.Want
	rel   *release
}

// agrees tells whether some release suits all who share w and also s.
func (w *wish) agrees(s spec) bool {
	for i := range w.pkg.releases {
		if w.pkg.satisfying(s)[i] && !slices.ContainsFunc(w.specs, func(o spec) bool { return !w.pkg.satisfying(o)[i] }) {
			return true
		}
	}
	return false
}

// Resolve finds versions for the whole component within the bounds of ask. What
// placing the packages finds to be in the way is learned, and all is solved anew.
func (r *registry) Resolve(ctx context.Context, ask ecosystem.Ask) (*contract.State, error) {
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

func newResolver(ctx context.Context, r *registry, ask ecosystem.Ask, lessons []*lesson) *resolver {
	p := ask.Component.Detail.(*project)
	s := &resolver{
		builder: newBuilder(ctx, r, p.tree(), p.root.file), p: p, ask: ask, problem: &solve.Problem{}, lessons: lessons,
		was: map[wishKey]string{}, byKey: map[wishKey]*wish{}, waiting: map[wishKey][]func(*wish){}, series: map[seriesKey]*solve.Series{},
		named: map[string][]*wish{}, keys: map[model.DeclarationID]string{}, fetched: map[string]bool{},
		placed: map[*node]*wish{},
	}
	key := ask.Keys()
	for _, q := range ask.Component.Requirements {
		s.keys[q.ID] = key(q)
	}
	s.rewritten = len(ask.Overrides)+len(ask.Changes) > 0
	return s
}

func (s *resolver) resolve() (*contract.State, error) {
	s.override(s.p.root, (*overrides).following)
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
	if s.p.foreign != nil {
		return s.foreignOutcome(texts, moves), nil
	}
	tops, err := s.reread(texts)
	if err != nil {
		return nil, err
	}
	for top, m := range tops {
		s.t.setTop(top, topEdges(m))
	}
	s.override(tops[s.t.root], func(o *overrides) *overrides { return o })
	s.placeWishes()
	s.dropAvoided()
	s.all = s.ask.Dedupe
	if err := s.build(); err != nil {
		return nil, err
	}
	return s.outcome(texts, tops, moves)
}

// override puts the rules of the root's manifest in force, in some form.
func (s *resolver) override(root *manifest, form func(*overrides) *overrides) {
	if rules := form(readOverrides(root)); rules != nil {
		s.t.root.scope = scope{rules}
		s.t.spreadScopes()
	}
}

// dropAvoided takes out of the tree what is not to be kept, so that something
// else is found in its place.
func (s *resolver) dropAvoided() {
	s.avoid = s.ask.Avoid
	if s.avoid == nil {
		return
	}
	var drop []*node
	s.t.walk(func(n *node) {
		if !n.isTop() && n.linkTo == nil && !n.pinned && !n.inBundle && s.avoid(n.pkgName, n.version) {
			drop = append(drop, n)
		}
	})
	for _, n := range drop {
		if !n.gone() {
			s.t.remove(n)
		}
	}
}

// prepare checks that lock and manifests agree, and fetches ahead.
func (s *resolver) prepare() error {
	for _, m := range s.p.manifests() {
		top := s.t.tops[m.dir]
		for _, d := range m.inEffect() {
			e := edge{d.name, d.kind, d.spec}
			if rule := top.scope.rule(e); top == s.t.root && top.scope.overrules(e) && rule.direct == "" {
				return solve.Refute(
					d.name,
					fmt.Sprintf("%s overrides %s with %s, which contradicts %s, which asks for %s; npm refuses that, unless the override says \"$%s\"",
						rule.site, d.name, shown(rule.value), d.site, shown(d.spec.text), d.name),
				)
			}
			if s.changes(d.name) {
				continue // it is new here, whatever others brought in
			}
			if i := slices.IndexFunc(top.edgeList, func(in edge) bool { return in.name == d.name }); i >= 0 {
				e = top.edgeList[i] // as overrides want it
			}
			to := top.resolve(d.name)
			if to != nil {
				s.was[wishKey{top, d.name}] = to.target().version
			}
			if s.p.lock == nil {
				continue // another client's lock is for that client to compare
			}
			if !meets(e, to) {
				found := "nothing"
				if to != nil {
					found = to.target().version
				}
				return &model.Fault{
					Doing: "resolving " + s.p.root.file, File: d.site.File, Line: d.site.Line, Found: true,
					Wrong: fmt.Sprintf("asks for %s %s, but %s has %s", d.name, shown(e.spec.text), s.p.lockFile, found),
					Next:  "let npm bring the lock up to date (npm install --package-lock-only) and commit it, or undo the change of the manifest",
				}
			}
		}
	}
	var names []string
	var edges []edge
	for _, m := range s.p.manifests() {
		for _, e := range topEdges(m) {
			edges = append(edges, e)
			if e.spec.kind <= specTag && !s.p.isMember(e.name) {
				names = append(names, e.spec.name)
			}
		}
	}
	switch {
	case s.p.foreign != nil:
		s.reg.load(s.ctx, names)
	case s.p.lock == nil:
		s.reg.crawl(s.ctx, edges)
	case s.p.lock.version == 1:
		s.t.walk(func(n *node) {
			if !n.isTop() && n.linkTo == nil {
				names = append(names, n.pkgName)
			}
		})
		s.reg.load(s.ctx, names)
		return s.fillBodies()
	default:
		s.reg.load(s.ctx, names)
	}
	return s.ctx.Err()
}

// fillBodies takes what an old lock does not repeat from the registry.
func (s *resolver) fillBodies() (err error) {
	s.t.walk(func(n *node) {
		if n.isTop() || n.linkTo != nil || n.body != nil || err != nil {
			return
		}
		n.body = &body{}
		if n.version == "" {
			return
		}
		p, perr := s.reg.pkg(s.ctx, n.pkgName)
		if perr != nil {
			err = perr
			return
		}
		if rel := p.find(n.version); rel != nil {
			n.body = rel.body()
		}
		s.t.setEdges(n, bodyEdges(n.body, n.scope))
	})
	s.t.spreadScopes()
	return err
}

// shown writes a range for people; npm allows the empty one, and very long ones.
func shown(rng string) string {
	const most = 120
	switch {
	case rng == "":
		return `""`
	case len(rng) > most:
		return strings.ToValidUTF8(rng[:most], "") + "…"
	}
	return rng
}

// solveTops states the problem of the tops and solves it.
func (s *resolver) solveTops() error {
	for _, m := range s.p.manifests() {
		top := s.t.tops[m.dir]
		for _, d := range m.inEffect() {
			if s.overruled(top, d) {
				continue // placing provides it
			}
			if d.spec.kind > specTag {
				s.fetched[d.name] = true // it stays as it is
			}
			if d.spec.kind > specTag && !s.fromSource(top, d) || s.p.isMember(d.name) {
				continue
			}
			if d.kind == peerOptionalEdge && top.resolve(d.name) == nil {
				continue
			}
			if err := s.wishFor(top, d); err != nil {
				if d.kind == optionalEdge && isAbsent(err) {
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
	solution, err := s.problem.Solve(s.ctx)
	if err != nil {
		return err
	}
	for id, candidate := range solution {
		if candidate >= 0 {
			s.wishes[id].rel = s.wishes[id].pkg.releases[candidate]
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
				Subject: w.id, In: s.problem.Not(w.id, s.problem.Pick(w.id, func(i int) bool { return bound.Allow(w.pkg.releases[i].parsed) })),
			},
		)
	}
	if len(stay) > 0 {
		s.problem.Forbid(func() string { return bound.Why }, stay...)
	}
}

// overruled tells whether an override lays down what a member or a linked folder gets for
// a dependency.
func (s *resolver) overruled(top *node, d dependency) bool {
	return top != s.t.root && top.scope.overrules(edge{d.name, d.kind, d.spec})
}

// rule states a rule about the packages that the root asks for; one about a
// package that it does not ask for says nothing here.
func (s *resolver) rule(r contract.Rule) {
	want.Rule(s.problem, r, func(name string) (units []want.Unit) {
		for _, w := range s.named[name] {
			u := want.Unit{Subject: w.id, Want: w.want}
			for _, top := range w.tops {
				u.Places = append(u.Places, top.loc)
			}
			units = append(units, u)
		}
		return units
	})
}

// wishFor adds a top's dependency to the problem. Tops that have the same
// version of a package share one subject, so that it stays one.
func (s *resolver) wishFor(top *node, d dependency) error {
	var p *pkg
	var err error
	if d.spec.kind == specGit {
		p, err = s.reg.source(s.ctx, d)
	} else {
		p, err = s.packageWith(d.spec.name, top.resolve(d.name), d.site)
	}
	if err != nil {
		return err
	}
	locked := s.was[wishKey{top, d.name}]
	own := s.wanted(d, p, locked)
	allowed := own.Allowed(&s.ask.Goal)
	var w *wish
	apart := slices.Contains(s.ask.Apart, d.name)
	for _, other := range s.named[d.name] {
		if !apart && other.pkg == p && s.was[wishKey{other.tops[0], d.name}] == locked && (locked != "" || other.agrees(d.spec)) &&
			s.alike(other.want, own, allowed) {
			other.specs = append(other.specs, d.spec)
			w = other
			w.tops = append(w.tops, top)
			s.byKey[wishKey{top, d.name}] = w
			break
		}
	}
	if w == nil {
		w = s.newWish(top, d.name, p, own.Key)
		w.specs = []spec{d.spec}
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
func (s *resolver) keyOf(d dependency) string {
	return cmp.Or(s.keys[declarationOf(d)], d.name)
}

// alike tells whether two declarations of a package may become the same, so that one choice is that of both. Declarations
// that the goal speaks of by one key always share it.
func (s *resolver) alike(other, own *want.Want, allowed []bool) bool {
	return other.Key == own.Key || slices.Equal(other.Allowed(&s.ask.Goal), allowed) &&
		s.ask.Bound(other.Key).Newest == s.ask.Bound(own.Key).Newest
}

// newWish adds what a top gets of a name, of which goals speak by a key.
func (s *resolver) newWish(top *node, name string, p *pkg, key string) *wish {
	label := model.Spoken(key)
	if top != s.t.root && label == name {
		label += " (in " + top.loc + ")"
	}
	w := &wish{name: name, pkg: p, tops: []*node{top}}
	w.id = s.problem.Subject(label, p.versions)
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
func (s *resolver) nothing(d dependency, p *pkg, bound contract.Bound) string {
	newest := "there are no releases at all"
	if n := len(p.releases); n > 0 {
		newest = "the newest is " + p.releases[n-1].text
	}
	asks := fmt.Sprintf("%s asks for %s %s", d.site, d.spec.name, shown(d.spec.text))
	inRange := func(rel *release) bool { return p.satisfying(d.spec)[rel.index] }
	if bound.Allow != nil {
		asks = bound.Why
		inRange = func(rel *release) bool { return bound.Allow(rel.parsed) }
	}
	to, tagged := p.tags[d.spec.text]
	switch {
	case slices.ContainsFunc(p.releases, inRange) && s.reg.settings.on("engine-strict"):
		return fmt.Sprintf("%s, and no such release runs on node %s, which engine-strict demands", asks, s.reg.node)
	case bound.Allow != nil:
		return fmt.Sprintf("%s, and no release of %s can be that (%s)", asks, d.spec.name, newest)
	case d.spec.kind == specTag && tagged:
		return fmt.Sprintf("%s, a tag that points at %s, which is not published", asks, to)
	case d.spec.kind == specTag:
		return fmt.Sprintf(
			"%s, which is neither a range nor one of the tags there are (%s)", asks, strings.Join(slices.Sorted(maps.Keys(p.tags)), ", "),
		)
	}
	return fmt.Sprintf("%s, and no release is in that range (%s)", asks, newest)
}
