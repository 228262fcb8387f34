// Package resolving finds versions for what a project states, and tells what changes below.
package resolving

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/flat"
	"bellwether/internal/core/mediate"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
	"bellwether/internal/core/want"
	"bellwether/internal/core/xmldoc"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/maven/graph"
	"bellwether/internal/ecosystem/maven/linked"
	"bellwether/internal/ecosystem/maven/project"
	"bellwether/internal/ecosystem/maven/registry"
	"bellwether/internal/ecosystem/mavenrepo"
)

// index is what can be moved, as the resolver asks it: requirements whose version stands in one place move
// together.
type index struct {
	*registry.Registry
	component *model.Component
	present   *present
	free      bool                               // what releases ask for of what the project states does not count
	apart     []string                           // what gets a version of its own, whatever it shared its place with
	lessons   []lesson                           // releases that do not go together, as trees have shown
	key       func(q model.Requirement) flat.Key // of what moves with a declaration
}

// Releases are the versions that repositories list.
func (x index) Releases(ctx context.Context, k flat.Key) (all []flat.Release, err error) {
	list, err := x.Versions(ctx, k.Name)
	missing := errors.Is(err, mavenrepo.ErrMissing)
	if err != nil && !missing {
		return nil, err
	}
	for _, q := range x.component.Find(k.Name) { // what is in effect need not be listed
		if q.Locked != "" && !slices.Contains(list, q.Locked) {
			list = append(slices.Clone(list), q.Locked)
		}
	}
	if missing && len(list) == 0 {
		return nil, flat.ErrUnknown
	}
	for _, text := range list {
		v, err := version.Maven{}.Parse(text)
		if err != nil {
			return nil, err
		}
		all = append(all, flat.Release{Text: text, Version: v})
	}
	slices.SortStableFunc(all, func(a, b flat.Release) int { return a.Version.Compare(b.Version) })
	return all, nil
}

// Needs are the others whose version stands in the same place, and what a release asks for of what the project states.
func (x index) Needs(ctx context.Context, k flat.Key, release string) (needs []flat.Need, err error) {
	if !x.free {
		if needs, err = x.floors(ctx, k, release); err != nil {
			return nil, err
		}
	}
	unmanaged, err := x.unmanaged(ctx, k, release)
	if err != nil {
		return nil, err
	}
	needs = append(append(append(needs, unmanaged...), x.banned(k, release)...), x.learned(k, release)...)
	for _, q := range x.component.Requirements {
		if x.key(q) != k {
			continue
		}
		for _, o := range x.component.Requirements {
			if o.Name == q.Name || !project.SamePlace(o.Site, q.Site) || slices.Contains(x.apart, q.Name) || slices.Contains(x.apart, o.Name) {
				continue
			}
			needs = append(needs, flat.Need{
				Options: []flat.Option{
					{Key: x.key(o), Allows: func(v version.Version) bool { return v.String() == release }},
				},
				Text: fmt.Sprintf("%s at the same version, which %s states for both", o.Name, q.Site),
			})
		}
	}
	return needs, nil
}

// Resolve finds versions for what the project's own files state, with as little change as the goal allows, and
// writes them where they are stated.
func Resolve(ctx context.Context, r *registry.Registry, ask ecosystem.Ask) (*contract.State, error) {
	c := ask.Component
	present, err := presentOf(ctx, r, c)
	if err != nil {
		return nil, err
	}
	keys := ask.Keys()
	key := func(q model.Requirement) flat.Key {
		place, name := model.Parted(keys(q))
		return flat.Key{Name: name, Place: place}
	}
	x := index{Registry: r, component: c, present: present, apart: ask.Apart, key: key}
	// What is stated is one version, so that what has to move goes no further than it must.
	request := flat.Request{Goal: ask.Goal, Index: x, Locked: map[flat.Key]string{}, Tendency: want.Lowest}
	seen := map[flat.Key]bool{}
	for _, q := range c.Requirements {
		if q.Fixed != "" || seen[key(q)] {
			continue
		}
		rng, err := version.Maven{}.ParseRange(q.Range)
		if err != nil {
			return nil, &model.Fault{Doing: "reading a pom", File: q.Site.File, Line: q.Site.Line, Wrong: err.Error()}
		}
		seen[key(q)] = true
		if ask.Bound(keys(q)).Allow == nil && q.Locked == "" && !ranged(r, c, q) {
			// It has just come by a rule, and may be as new as that allows.
			request.Goal.Bounds = maps.Clone(request.Goal.Bounds)
			if request.Goal.Bounds == nil {
				request.Goal.Bounds = map[string]contract.Bound{}
			}
			request.Goal.Bounds[keys(q)] = contract.Bound{Allow: rng.Contains, Newest: true, Why: q.Name + " " + q.Range + " is asked for"}
		}
		switch {
		case q.Locked != "":
			request.Locked[key(q)] = q.Locked
		case ranged(r, c, q) && present.gets[q.Name] != "": // it stays at what the range gives, unless the goal moves it
			request.Locked[key(q)] = present.gets[q.Name]
		}
		request.Roots = append(request.Roots, flat.Root{
			Name: q.Name, Spoken: keys(q), Option: flat.Option{Key: key(q), Allows: rng.Contains}, Range: q.Range, Where: q.Site.String(),
		})
	}
	for {
		state, err := x.solve(ctx, r, ask, request)
		if errors.Is(err, errLearned) {
			request.Index = x
			continue
		}
		var none *mediate.Conflict
		if !errors.As(err, &none) || !x.learn(none) {
			return state, err
		}
		request.Index = x
	}
}

// solve finds versions, and looks at the trees that they give.
func (x *index) solve(ctx context.Context, r *registry.Registry, ask ecosystem.Ask, request flat.Request) (*contract.State, error) {
	c := ask.Component
	result, err := flat.Resolve(ctx, request)
	var conflict *solve.Conflict
	if errors.As(err, &conflict) { // Maven takes lower ones, too; then that is told
		free := *x
		free.free = true
		request.Index = free
		result, err = flat.Resolve(ctx, request)
	}
	if err != nil {
		return nil, err
	}
	free := slices.DeleteFunc(slices.Clone(c.Requirements), func(q model.Requirement) bool { return q.Fixed != "" })
	moves := result.Moves(mavenrepo.Type, free, x.key, version.Maven{})
	s := &contract.State{Moves: moves.Moved, Carried: moves.Carried, Notable: moves.Down}
	s.Moves = slices.DeleteFunc(s.Moves, func(m model.Move) bool { // a range gives the same as before
		found := c.Find(m.Key())
		return m.To == x.present.gets[m.Name] && len(found) > 0 &&
			!slices.ContainsFunc(found, func(q model.Requirement) bool { return q.Locked != "" || !ranged(r, c, q) })
	})
	if err := write(r, c, s, ask.Apart); err != nil || ask.Peek {
		return s, err
	}
	return s, after(ctx, r, cmp.Or(ask.Before, c), c, s, func(was, is []graph.Tree) error {
		if l, ahead := outrun(s.Moves, was, is); ahead && ask.Fit && x.take(l) {
			return errLearned
		}
		broken := forbidden(c.Detail.(*project.Project), was, is)
		if broken == nil {
			return nil
		}
		if x.learn(broken) {
			return errLearned
		}
		s.Notable = append(s.Notable, broken.Error()+"; "+broken.Why)
		return nil
	}, func(is []graph.Tree, all []linked.Short) error {
		if l, starved := starved(s.Moves, is, all); starved && ask.Fit && x.take(l) {
			return errLearned
		}
		return nil
	})
}

// write gives the edits: each place that states a version, once.
func write(r *registry.Registry, c *model.Component, s *contract.State, apart []string) error {
	splices := map[string][]model.Splice{}
	parted := c.Detail.(*project.Project).Parted(c, s.Moves, apart, splices)
	for i := range s.Moves {
		m := &s.Moves[i]
		m.Sites = nil
		to, err := version.Maven{}.Parse(m.To)
		if err != nil {
			return err
		}
		for _, q := range c.Find(m.Key()) {
			if q.Fixed != "" || q.Site.End == q.Site.Start {
				s.Notices = append(s.Notices, fmt.Sprintf("%s asks for %s besides, which is not changed here: %s", q.Site, q.Name, q.Fixed))
				continue
			}
			m.Sites = append(m.Sites, q.Site)
			if parted[m.Name] {
				continue
			}
			fresh := version.Maven{}.Restate(q.Range, to)
			switch {
			case q.Locked == "" && !ranged(r, c, q):
				fresh = m.To // what a rule asks for is a range, and a pom states one version
			case q.Locked == "":
				m.From = "" // nothing is locked: the range gives it
				s.Notable = append(s.Notable, fmt.Sprintf("%s asks for %s %s from here on", q.Site, q.Name, fresh))
			}
			fresh = xmldoc.Escaped(fresh)
			if !slices.ContainsFunc(splices[q.Site.File], func(o model.Splice) bool { return project.SamePlace(o.Site, q.Site) }) {
				splices[q.Site.File] = append(splices[q.Site.File], model.Splice{Site: q.Site, New: fresh})
			}
		}
	}
	for file, list := range splices {
		src, err := fs.ReadFile(r.Around.Files, file)
		if p := c.Detail.(*project.Project).File(file); p != nil {
			src, err = p.Src, nil
		}
		if err != nil {
			return err
		}
		text, err := model.Apply(src, list)
		if err != nil {
			return err
		}
		if string(text) != string(src) {
			s.Edits = append(s.Edits, model.FileEdit{File: file, Old: src, New: text})
		}
	}
	slices.SortFunc(s.Edits, func(a, b model.FileEdit) int { return strings.Compare(a.File, b.File) })
	return nil
}

// ranged tells whether the files on the disk ask for a package by a range.
func ranged(r *registry.Registry, c *model.Component, q model.Requirement) bool {
	there, err := project.Read(r.Around.Files, c.Dir)
	return err != nil || slices.ContainsFunc(there.Find(q.Name), func(o model.Requirement) bool { return o.Locked == "" && o.Range != "" })
}
