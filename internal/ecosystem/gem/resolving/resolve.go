// Package resolving finds versions for what a Gemfile asks for, and the lock that follows.
package resolving

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
	"bellwether/internal/ecosystem/gem/gemfile"
	"bellwether/internal/ecosystem/gem/project"
	"bellwether/internal/ecosystem/gem/registry"
)

// Resolve finds versions for the whole component, with as little change as the goal allows, and
// writes manifest and lock.
func Resolve(ctx context.Context, r *registry.Registry, ask ecosystem.Ask) (*contract.State, error) {
	p := ask.Component.Detail.(*project.Project)
	if p.Lock == nil {
		var err error
		if p, err = withFirstLock(ctx, r, p); err != nil {
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
		project.Name,
		ask.Component.Requirements,
		func(q model.Requirement) flat.Key { return flat.Key{Name: q.Name} },
		version.Gem{},
	)
	s := &contract.State{Moves: moves.Moved, Carried: moves.Carried, Notable: moves.Down}
	for _, c := range result.Chosen {
		if text := r.Twofold(ctx, c.Key.Name, c.Version); text != "" && c.Was != c.Version {
			s.Notable = append(s.Notable, text)
		}
		if c.Was != "" && c.Was != c.Version {
			s.Notable = append(s.Notable, x.fallen(ctx, c.Key.Name, c.Was, c.Version)...)
		}
		if text := r.TakenBack(ctx, c.Key.Name, c.Was); text != "" {
			s.Notable = append(s.Notable, text)
		}
	}
	return s, write(ctx, r, x, ask, result, s)
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
	for _, s := range p.Lock.Gems() {
		request.Locked[flat.Key{Name: s.Name}] = s.Version
	}
	at := map[string]int{}
	for _, q := range ask.Component.Requirements {
		rng, err := version.Gem{}.ParseRange(p.Versions(q))
		if err != nil {
			return request, &model.Fault{Doing: "reading the Gemfile", File: q.Site.File, Line: q.Site.Line, Wrong: err.Error()}
		}
		if !p.InEffect(q) {
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
			Name: q.Name, Option: flat.Option{Key: flat.Key{Name: q.Name}, Allows: allows}, Range: gemfile.OrAny(q.Range),
			Where: q.Site.String(),
		})
		if request.Goal.Bound(q.Name).Allow == nil && p.Outdated(q.Name, rng) {
			request.Goal.Bounds[q.Name] = contract.Bound{
				Allow: allows, Why: fmt.Sprintf("%s asks for %s %s, which the lock does not have", q.Site, q.Name, q.Range),
			}
		}
	}
	for _, s := range p.Lock.Sections {
		if s.Kind != "PATH" {
			continue
		}
		for _, one := range s.Specs {
			if _, asked := at[one.Name]; !asked {
				at[one.Name] = len(request.Roots)
				request.Roots = append(request.Roots, flat.Root{
					Name: one.Name, Option: flat.Option{
						Key: flat.Key{Name: one.Name}, Allows: func(version.Version) bool { return true },
					}, Range: "as it is",
					Where: p.Lock.File,
				})
			}
		}
	}
	return request, nil
}

// write gives the edits that make the state: requirements that do not take their new version any
// more, and the lock.
func write(ctx context.Context, r *registry.Registry, x index, ask ecosystem.Ask, result *flat.Result, s *contract.State) error {
	ranges := project.Restatements{}
	splices := map[string][]model.Splice{}
	for i := range s.Moves {
		m := &s.Moves[i]
		m.Sites = nil
		for _, q := range ask.Component.Find(m.Key()) {
			fresh, changes, err := restated(x.project.Versions(q), m.To)
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
			splices[q.Site.File] = append(splices[q.Site.File], model.Splice{Site: q.Site, New: x.project.QuotedLike(q, fresh)})
			m.Sites = append(m.Sites, q.Site)
		}
	}
	for file, list := range splices {
		src, err := x.project.Source(file, r.Around)
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
	if string(next) != string(x.project.LockText) {
		s.Edits = append(s.Edits, model.FileEdit{File: x.project.Lock.File, Old: x.project.LockText, New: next})
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
