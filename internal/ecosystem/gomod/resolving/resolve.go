// Package resolving finds versions for what a module requires, and the go.mod and go.sum that follow.
package resolving

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/mod/module"
	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	versions "bellwether/internal/core/version"
	"bellwether/internal/core/want"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gomod/project"
	"bellwether/internal/ecosystem/gomod/protocol"
	"bellwether/internal/ecosystem/gomod/registry"
	"bellwether/internal/ecosystem/gomod/selection"
	"bellwether/internal/ecosystem/gomod/tidying"
)

// resolver finds a state of one module. Which versions its requirements are to
// have is a problem for the solver, whose facts come from the graph; what else
// go.mod must then say follows from the imports.
type resolver struct {
	*tidying.Tidier
	ask      ecosystem.Ask
	problem  *solve.Problem
	subjects []*subject // by solve.ID
	lessons  []lesson
	extra    []module.Version // candidates that no list has, and something requires
	raised   []module.Version // indirect requirements that must be higher than what requires them says
	notices  []string         // of the present round
	told     []string         // for good
	notable  []string         // of the present round, what a leg's record says
}

// subject is a requirement that is to get a version.
type subject struct {
	id         solve.ID
	req        model.Requirement
	candidates []candidate // ascending
	allowed    []bool
	at         int // the present one among the candidates
	want       *want.Want
}

// candidate is a version that a requirement may get, maybe under the path of
// another major.
type candidate struct {
	m       module.Version
	v       versions.Version
	shunned bool   // nobody should move there unasked
	unfit   bool   // it does not run on what is installed
	taken   string // why its author took it back, as a clause; empty if not
}

// lesson is a fact that showed only when a state was built: with a candidate
// there, something else must be at a version, or it cannot be at all.
type lesson struct {
	of   module.Version
	need module.Version // zero: the candidate cannot be
	text string
}

// Resolve finds versions for one module within the bounds of ask.
func Resolve(ctx context.Context, r *registry.Registry, ask ecosystem.Ask) (*contract.State, error) {
	p := ask.Component.Detail.(*project.Project)
	s := &resolver{Tidier: tidying.New(ctx, r, p), ask: ask}
	if r.GoVersion != "" && p.Mod.Go != nil && selection.CompareGo(p.GoVersion(), r.GoVersion) > 0 && ask.Bounds["go"].Allow == nil {
		return nil, solve.Refute("go", fmt.Sprintf("%s states go %s, and this machine has go %s; install that Go first",
			p.Place(p.Mod.Go.Syntax), p.GoVersion(), r.GoVersion))
	}
	var err error
	if s.Own, err = p.Own.Get(p.Dir, p.ReadSources); err != nil {
		return nil, err
	}
	// Each round learns at least one fact about a finite number of versions.
	for {
		chosen, err := s.solve()
		if errors.Is(err, errAgain) {
			continue
		}
		if err != nil {
			return nil, err
		}
		learned := len(s.lessons) + len(s.raised)
		o, err := s.build(chosen)
		switch {
		case err != nil || o != nil:
			return o, err
		case len(s.lessons)+len(s.raised) == learned:
			return nil, fmt.Errorf("resolving %s: no state agrees with what its own graph says of it: %s", p.File, s.lessons[learned-1].text)
		}
	}
}

// solve states the problem anew and gives the version of each subject.
func (s *resolver) solve() ([]candidate, error) {
	s.problem, s.subjects, s.notices, s.notable = &solve.Problem{}, nil, nil, nil
	reqs := s.movable()
	releases := make([][]model.Release, len(reqs))
	group, ctx := errgroup.WithContext(s.Ctx)
	group.SetLimit(selection.AskAtOnce)
	for i, q := range reqs {
		if q.Subject == project.RuntimeGo && s.ask.Bounds[q.Name].Allow == nil {
			continue
		}
		group.Go(func() error {
			var err error
			releases[i], err = s.Registry.Releases(ctx, q.Subject)
			if protocol.IsMissing(err) {
				err = nil
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	for i, q := range reqs {
		if err := s.add(q, releases[i]); err != nil {
			return nil, err
		}
	}
	for _, r := range s.ask.Rules {
		s.rule(r)
	}
	s.problem.Expand = func(id solve.ID, c int) error { return s.expand(s.subjects[id], c) }
	solution, err := s.problem.Solve(s.Ctx)
	if err != nil {
		return nil, err
	}
	chosen := make([]candidate, len(s.subjects))
	for id, c := range solution {
		chosen[id] = s.subjects[id].candidates[c]
	}
	return chosen, nil
}

// rule states a rule about required modules; one about a module that is not
// required says nothing here.
func (s *resolver) rule(r contract.Rule) {
	want.Rule(s.problem, r, func(name string) []want.Unit {
		i := slices.IndexFunc(s.subjects, func(sub *subject) bool { return sub.req.Name == name })
		if i < 0 {
			return nil
		}
		return []want.Unit{{Subject: s.subjects[i].id, Want: s.subjects[i].want}}
	})
}

// movable are the requirements that have a version to choose: the direct ones,
// Go, and what a bound names.
func (s *resolver) movable() []model.Requirement {
	var list []model.Requirement
	for _, q := range s.ask.Component.Requirements {
		_, named := s.ask.Bounds[q.Name]
		if q.Fixed == "" && (!q.Asked || named || q.Subject == project.RuntimeGo) {
			list = append(list, q)
		}
	}
	return list
}

// add makes a subject of a requirement.
func (s *resolver) add(q model.Requirement, releases []model.Release) error {
	sub := &subject{req: q}
	known := map[module.Version]bool{}
	put := func(m module.Version, rel model.Release) error {
		v, err := selection.Order{}.Parse(m.Version)
		if err != nil || known[m] {
			return err
		}
		known[m] = true
		c := candidate{m: m, v: v, shunned: rel.Deprecated != "" || rel.Retracted || rel.Unfit != "", unfit: rel.Unfit != ""}
		if rel.Retracted {
			c.taken = strings.TrimSuffix("was retracted by its author: "+rel.Because, ": ")
		}
		sub.candidates = append(sub.candidates, c)
		return nil
	}
	for _, rel := range releases {
		if err := put(module.Version{Path: cmp.Or(rel.As, q.Name), Version: rel.Version}, rel); err != nil {
			return err
		}
	}
	more := append([]module.Version{{Path: q.Name, Version: q.Locked}}, s.extra...)
	if also := s.ask.Also[q.Name]; also != "" {
		more = append(more, module.Version{Path: q.Name, Version: also})
	}
	for _, m := range more {
		if m.Path == q.Name {
			if err := put(m, model.Release{}); err != nil {
				return err
			}
		}
	}
	slices.SortStableFunc(sub.candidates, func(a, b candidate) int { return a.v.Compare(b.v) })
	for i, c := range sub.candidates {
		if c.m == (module.Version{Path: q.Name, Version: q.Locked}) {
			sub.at = i
		}
	}
	sub.want = sub.wanted()
	sub.id, sub.allowed = sub.want.State(s.problem, &s.ask.Goal)
	s.subjects = append(s.subjects, sub)
	s.forbid(sub)
	return nil
}

// wanted is the subject in the words that requirements of all ecosystems have. What is there
// is preferred, and then the lowest that will do, as minimal version selection has it. Another
// major changes what importers write, so that nobody goes there unasked.
func (sub *subject) wanted() *want.Want {
	q, isGo := sub.req, sub.req.Subject == project.RuntimeGo
	w := &want.Want{
		Name: q.Name, At: sub.at, Locked: sub.candidates[sub.at].v, Tendency: want.Lowest, Previews: true, Still: isGo, Newest: !isGo,
		Candidates: make([]want.Candidate, len(sub.candidates)),
		Down:       fmt.Sprintf("%s requires %s %s, and nobody asked for an older one", q.Site, q.Name, q.Locked),
	}
	if isGo {
		w.Down = fmt.Sprintf("%s states go %s, which is not asked to move", q.Site, q.Locked)
	}
	for i, c := range sub.candidates {
		w.Candidates[i] = want.Candidate{Text: c.m.Version, Version: c.v, Shunned: c.shunned, Unfit: c.unfit, Apart: c.m.Path != q.Name}
	}
	return w
}

// learned notes a fact, if it is not known already.
func (s *resolver) learned(l lesson) {
	if !slices.Contains(s.lessons, l) {
		s.lessons = append(s.lessons, l)
	}
}

// forbid states what go.mod and the module's authors rule out.
func (s *resolver) forbid(sub *subject) {
	never := func(i int, text string) {
		sub.allowed[i] = false
		s.problem.Forbid(
			func() string { return text }, solve.Term{Subject: sub.id, In: s.problem.Pick(sub.id, func(k int) bool { return k == i })},
		)
	}
	for i, c := range sub.candidates {
		if i == sub.at {
			continue
		}
		if line := s.Project.Excluded(c.m); line != nil {
			never(i, fmt.Sprintf("%s excludes %s %s", s.Project.Place(line.Syntax), c.m.Path, c.m.Version))
		}
		if line := s.Project.Replacement(c.m); line != nil {
			never(i, fmt.Sprintf("%s replaces %s %s by %s", s.Project.Place(line.Syntax), c.m.Path, c.m.Version, project.Target(line)))
		}
		if c.taken != "" {
			never(i, fmt.Sprintf("%s %s %s", c.m.Path, c.m.Version, c.taken))
		}
	}
	for _, l := range s.lessons {
		for i, c := range sub.candidates {
			if c.m == l.of && l.need.Path == "" {
				never(i, l.text)
			}
		}
	}
}

func (sub *subject) texts() []string {
	texts := make([]string, len(sub.candidates))
	for i, c := range sub.candidates {
		texts[i] = c.m.Version
	}
	return texts
}

// expand states what the graph below a candidate requires of the other
// subjects.
func (s *resolver) expand(sub *subject, c int) error {
	if sub.req.Subject == project.RuntimeGo {
		return nil
	}
	g, err := s.reach(sub.candidates[c].m)
	if err != nil {
		return s.unusable(sub, c, err)
	}
	for _, other := range s.subjects {
		need := module.Version{Path: other.req.Name, Version: g.Selected[other.req.Name]}
		if need.Version == "" || selection.CompareVersions(need.Path, need.Version, other.req.Locked) <= 0 && other.at == other.lowest() {
			continue
		}
		if !slices.ContainsFunc(other.candidates, func(k candidate) bool { return k.m == need }) {
			s.extra = append(s.extra, need)
			return errAgain
		}
		if err := s.imply(sub, c, other, need, g); err != nil {
			return err
		}
	}
	for _, l := range s.lessons {
		if l.of == sub.candidates[c].m && l.need.Path != "" {
			s.recall(sub, l)
		}
	}
	return nil
}

// recall states what was learned of a candidate. What was learned of others of
// its subject in the same respect is stated with it.
func (s *resolver) recall(sub *subject, l lesson) {
	i := slices.IndexFunc(s.subjects, func(o *subject) bool { return o.req.Name == l.need.Path })
	if i < 0 {
		return
	}
	when, need, text := map[module.Version]bool{l.of: true}, l.need, l.text
	for _, o := range s.lessons {
		if o.need.Path != need.Path || o.of.Path != l.of.Path || s.subjects[i].satisfied(o.need) != s.subjects[i].satisfied(l.need) {
			continue
		}
		when[o.of] = true
		if selection.CompareVersions(need.Path, o.need.Version, need.Version) < 0 {
			need = o.need
		}
	}
	has := func(i int) bool { return when[sub.candidates[i].m] }
	if len(when) > 1 {
		text = orNewer(sub, has, need)
	}
	s.state(sub, has, s.subjects[i], need, text)
}

// satisfied tells whether some allowed candidate meets a requirement.
func (sub *subject) satisfied(need module.Version) bool {
	ok := sub.meets(need)
	for i, allowed := range sub.allowed {
		if allowed && ok(i) {
			return true
		}
	}
	return false
}

// orNewer tells what several candidates of a subject require.
func orNewer(sub *subject, has func(i int) bool, need module.Version) string {
	path := sub.req.Name
	for i, c := range sub.candidates {
		if has(i) {
			path = c.m.Path
		}
	}
	return fmt.Sprintf("%s %s requires %s %s or newer", path, solve.Runs(sub.texts(), has), need.Path, need.Version)
}

// errAgain means that the problem is to be stated anew, with more candidates.
var errAgain = errors.New("more candidates are known now")

// lowest is the first candidate that is allowed.
func (sub *subject) lowest() int { return max(0, slices.Index(sub.allowed, true)) }

// meets tells which candidates satisfy a requirement on a path: those that are
// not lower, and all under other paths, which the requirement is not about.
func (sub *subject) meets(need module.Version) func(i int) bool {
	return func(i int) bool {
		c := sub.candidates[i].m
		return c.Path != need.Path || selection.CompareVersions(c.Path, c.Version, need.Version) >= 0
	}
}

// imply states that a candidate needs another subject at a version at least.
// Where that cannot be, what holds for the candidates below it, too, is stated
// in one: it makes a proof short.
func (s *resolver) imply(sub *subject, c int, other *subject, need module.Version, g *selection.Graph) error {
	if other.satisfied(need) {
		s.state(sub, func(i int) bool { return i == c }, other, need, chained(g.Chain(need)))
		return nil
	}
	top := -1 // the highest that other can be
	for i := range other.candidates {
		if other.allowed[i] && other.candidates[i].m.Path == need.Path {
			top = i
		}
	}
	first, weakest := c, need
	for k := c - 1; k >= 0 && top >= 0 && sub.allowed[k] && sub.candidates[k].m.Path == sub.candidates[c].m.Path; k-- {
		below, err := s.reach(sub.candidates[k].m)
		if err != nil {
			break
		}
		v := below.Selected[need.Path]
		if v == "" || selection.CompareVersions(need.Path, v, other.candidates[top].m.Version) <= 0 {
			break
		}
		first = k
		if selection.CompareVersions(need.Path, v, weakest.Version) < 0 {
			weakest.Version = v
		}
	}
	text, has := chained(g.Chain(need)), func(i int) bool { return first <= i && i <= c }
	if first < c {
		text = orNewer(sub, has, weakest)
	}
	s.state(sub, has, other, weakest, text)
	return nil
}

// chained tells how one module comes to require another.
func chained(chain []module.Version) string {
	text := chain[0].Path + " " + chain[0].Version
	for i, m := range chain[1:] {
		if i > 0 {
			text += ", which"
		}
		text += " requires " + m.Path + " " + m.Version
	}
	return text
}

// state adds a fact to the problem.
func (s *resolver) state(sub *subject, when func(i int) bool, other *subject, need module.Version, text string) {
	s.problem.Imply(sub.id, s.problem.Pick(sub.id, when), other.id, s.problem.Pick(other.id, other.meets(need)), func() string { return text })
}

// unusable rules a candidate out whose requirements cannot be had.
func (s *resolver) unusable(sub *subject, c int, err error) error {
	var wrongName *project.Misnamed
	if c == sub.at || !protocol.IsRefused(err) && !errors.As(err, &wrongName) {
		return err
	}
	s.problem.Forbid(func() string { return err.Error() },
		solve.Term{Subject: sub.id, In: s.problem.Pick(sub.id, func(i int) bool { return i == c })})
	return nil
}

// reach is what hangs on a version as a requirement of the module. Indirect
// requirements that it raises are followed, too, since they are roots as well.
func (s *resolver) reach(m module.Version) (*selection.Graph, error) {
	return s.Project.Reaches.Get(m, func() (*selection.Graph, error) {
		roots := []module.Version{m}
		for {
			g, err := selection.Load(s.Ctx, s.Project.Path(), roots, selection.Prunes(s.Project.GoVersion()), s.Look)
			if err != nil {
				return nil, err
			}
			before := len(roots)
			for _, q := range s.Project.Mod.Require {
				raised := module.Version{Path: q.Mod.Path, Version: g.Selected[q.Mod.Path]}
				if q.Indirect && selection.CompareVersions(q.Mod.Path, raised.Version, q.Mod.Version) > 0 && !slices.Contains(roots, raised) {
					roots = append(roots, raised)
				}
			}
			if len(roots) == before {
				return g, nil
			}
		}
	})
}
