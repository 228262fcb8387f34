package gem

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/flat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
)

// inEffect tells whether a line of the Gemfile is for any platform of the lock: Bundler lists what is
// not among the dependencies alone.
func (p *project) inEffect(q model.Requirement) bool {
	if p.lock.has(q.Name) {
		return true
	}
	return (q.Fixed == "" || q.Fixed == "git source") && !p.lock.asksFor(q.Name) && holds(q.When, p.lock.platforms)
}

// versions are those that a requirement takes: of a gem from a repository, those that stand beside it.
func (p *project) versions(q model.Requirement) string {
	if !strings.HasPrefix(q.Range, sourceMark) {
		return q.Range
	}
	for _, d := range p.gemfile.gems {
		if d.name == q.Name {
			return d.rng
		}
	}
	return ""
}

// outdated tells whether the lock has a version that its Gemfile does not take any more.
func (p *project) outdated(name string, rng version.Range) bool {
	v, err := version.Gem{}.Parse(p.lock.version(name))
	return err == nil && p.lock.has(name) && !rng.Contains(v)
}

// Resolve finds versions for the whole component, with as little change as the goal allows, and
// writes manifest and lock.
func (r *registry) Resolve(ctx context.Context, ask ecosystem.Ask) (*contract.State, error) {
	p := ask.Component.Detail.(*project)
	if p.lock == nil {
		var err error
		if p, err = r.withFirstLock(ctx, p); err != nil {
			return nil, err
		}
	}
	x, err := newIndex(ctx, r, p, ask.Changes)
	if err != nil {
		return nil, err
	}
	result, err := x.solve(ctx, ask)
	if err != nil {
		return nil, err
	}
	moves := result.Moves(
		Name,
		ask.Component.Requirements,
		func(q model.Requirement) flat.Key { return flat.Key{Name: q.Name} },
		version.Gem{},
	)
	s := &contract.State{Moves: moves.Moved, Carried: moves.Carried, Notable: moves.Down}
	for _, c := range result.Chosen {
		if text := r.twofold(ctx, c.Key.Name, c.Version); text != "" && c.Was != c.Version {
			s.Notable = append(s.Notable, text)
		}
		if text := r.takenBack(ctx, c.Key.Name, c.Was); text != "" {
			s.Notable = append(s.Notable, text)
		}
	}
	return s, r.write(ctx, x, ask, result, s)
}

// solve finds a state. Nothing goes down where there is any other way, and a pre-release that nobody named at first is
// taken only where there is no other way, and something that is taken names it.
func (x index) solve(ctx context.Context, ask ecosystem.Ask) (result *flat.Result, err error) {
	for _, upward := range []bool{true, false} {
		x.preview.forget()
		request, bad := x.request(ctx, ask)
		if bad != nil {
			return nil, bad
		}
		request.Upward = upward
		if result, err = flat.Resolve(ctx, request); !errors.As(err, new(*solve.Conflict)) {
			return result, err
		}
		if !x.preview.widen() {
			continue
		}
		if request, bad = x.request(ctx, ask); bad != nil {
			return nil, bad
		}
		request.Upward = upward
		if wider, again := flat.Resolve(ctx, request); again == nil && x.named(ctx, wider) {
			return wider, nil
		}
	}
	return nil, err
}

// request is what is asked of the resolver.
func (x index) request(ctx context.Context, ask ecosystem.Ask) (flat.Request, error) {
	p := x.project
	request := flat.Request{Goal: ask.Goal, Index: x, Locked: map[flat.Key]string{}}
	request.Goal.Bounds = map[string]contract.Bound{}
	maps.Copy(request.Goal.Bounds, ask.Goal.Bounds)
	x.preview.ask(ask.Goal)
	for _, s := range p.lock.gems() {
		request.Locked[flat.Key{Name: s.name}] = s.version
	}
	at := map[string]int{}
	for _, q := range ask.Component.Requirements {
		rng, err := version.Gem{}.ParseRange(p.versions(q))
		if err != nil {
			return request, &model.Fault{Doing: "reading the Gemfile", File: q.Site.File, Line: q.Site.Line, Wrong: err.Error()}
		}
		if !p.inEffect(q) {
			continue
		}
		allows := x.allows(ctx, q.Name, rng.(*version.GemRange), true)
		if i, again := at[q.Name]; again { // a gemspec asks for it, too
			root := &request.Roots[i]
			first := root.Allows
			root.Allows = func(v version.Version) bool { return first(v) && allows(v) }
			continue
		}
		at[q.Name] = len(request.Roots)
		request.Roots = append(request.Roots, flat.Root{
			Name: q.Name, Option: flat.Option{Key: flat.Key{Name: q.Name}, Allows: allows}, Range: orAny(q.Range),
			Where: q.Site.String(),
		})
		if request.Goal.Bound(q.Name).Allow == nil && p.outdated(q.Name, rng) {
			request.Goal.Bounds[q.Name] = contract.Bound{
				Allow: allows, Why: fmt.Sprintf("%s asks for %s %s, which the lock does not have", q.Site, q.Name, q.Range),
			}
		}
	}
	for _, s := range p.lock.sections {
		if s.kind != "PATH" {
			continue
		}
		for _, one := range s.specs {
			if _, asked := at[one.name]; !asked {
				at[one.name] = len(request.Roots)
				request.Roots = append(request.Roots, flat.Root{
					Name: one.name, Option: flat.Option{
						Key: flat.Key{Name: one.name}, Allows: func(version.Version) bool { return true },
					}, Range: "as it is",
					Where: p.lock.file,
				})
			}
		}
	}
	return request, nil
}

// write gives the edits that make the state: requirements that do not take their new version any
// more, and the lock.
func (r *registry) write(ctx context.Context, x index, ask ecosystem.Ask, result *flat.Result, s *contract.State) error {
	ranges := restatements{}
	splices := map[string][]model.Splice{}
	for i := range s.Moves {
		m := &s.Moves[i]
		m.Sites = nil
		for _, q := range ask.Component.Find(m.Key()) {
			fresh, changes, err := restated(x.project.versions(q), m.To)
			if err != nil {
				return err
			}
			if !changes {
				continue
			}
			if q.Fixed != "" {
				s.Notices = append(s.Notices, fmt.Sprintf("%s states %s, which is not changed here: %s", q.Site, q.Range, q.Fixed))
				continue
			}
			ranges[q.Site] = fresh
			splices[q.Site.File] = append(splices[q.Site.File], model.Splice{Site: q.Site, New: x.project.quotedLike(q, fresh)})
			m.Sites = append(m.Sites, q.Site)
		}
	}
	for file, list := range splices {
		src, err := x.project.source(file, r.around)
		if err != nil {
			return err
		}
		text, err := model.Apply(src, list)
		if err != nil {
			return err
		}
		s.Edits = append(s.Edits, model.FileEdit{File: file, Old: src, New: text})
	}
	var gone []string
	for _, c := range ask.Changes {
		if c.Old != c.New {
			gone = append(gone, c.Old)
		}
	}
	next, err := x.relocked(ctx, result, ranges, gone)
	if err != nil {
		return err
	}
	if string(next) != string(x.project.lockText) {
		s.Edits = append(s.Edits, model.FileEdit{File: x.project.lock.file, Old: x.project.lockText, New: next})
	}
	slices.SortFunc(s.Edits, func(a, b model.FileEdit) int { return strings.Compare(a.File, b.File) })
	return nil
}

// restated is a requirement that takes a version; changes is false where it does already.
func restated(asked, to string) (fresh string, changes bool, err error) {
	v, err := version.Gem{}.Parse(to)
	if err != nil {
		return "", false, err
	}
	rng, err := version.Gem{}.ParseRange(asked)
	if err != nil {
		return "", false, err
	}
	if rng.Contains(v) {
		return "", false, nil
	}
	return version.Gem{}.Restate(asked, v), true, nil
}

// lockRange is a requirement as a lock has it: its parts in the reverse order of their texts, and
// nothing for any version.
func lockRange(rng string) string {
	var parts []string
	for part := range strings.SplitSeq(rng, ",") {
		part = strings.TrimSpace(part)
		if part == "" || part == ">= 0" {
			continue
		}
		if c := part[0]; c >= '0' && c <= '9' {
			part = "= " + part
		}
		parts = append(parts, part)
	}
	slices.Sort(parts)
	slices.Reverse(parts)
	return strings.Join(parts, ", ")
}
