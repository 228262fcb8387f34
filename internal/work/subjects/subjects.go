// Package subjects is what of a component can move, declaration by declaration, and what compat books say of it.
package subjects

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/world"
)

// manyFollow is how many requirements have to take their versions from parents and lists for these to be frameworks, which go
// through their majors one by one. Which of several lists it is that states a version is not looked at.
const manyFollow = 3

// Of are the direct requirements that can move: each name once, or each of its declarations where they are at several
// versions or something is asked of one of them.
func Of(ctx context.Context, t *tree.Tree, w *world.World, plan *route.Plan, hold []string) ([]*route.Subject, error) {
	part, registry := w.Part, w.Registry
	keys := func(r model.Requirement) string { return r.Name }
	if part.Eco.Supports().Places {
		keys = keysOf(plan, hold)
	}
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
		wished := asked(plan, r)
		return r.Fixed == "" && (!r.Asked || wished || family(r.Name) != nil)
	}
	known := make([][]model.Release, len(part.Requirements))
	failed := make([]error, len(part.Requirements))
	var group errgroup.Group
	group.SetLimit(desk.AskAtOnce)
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
	unknown := map[string]bool{}
	for i, err := range failed { // the first in the manifest, whichever came first
		r := part.Requirements[i]
		switch {
		case err == nil:
		case errors.Is(err, ecosystem.ErrUnknown) && r.Locked != "" && !asked(plan, r):
			if key := keys(r); !unknown[key] {
				unknown[key] = true
				err = fmt.Errorf("%s stays at %s: %w", model.Spoken(key), r.Locked, err)
				plan.Told = append(plan.Told, err.Error())
				if !r.Optional && r.When == nil { // else it need not be there
					plan.Missed = append(plan.Missed, err)
				}
			}
		default:
			return nil, err
		}
	}
	var subjects []*route.Subject
	taken := map[string]bool{}
	order := part.Eco.Order()
	following := 0
	for _, r := range part.Requirements {
		if r.Role == model.Follows {
			following++
		}
	}
	places, _ := t.Places() // what cannot be read is told when it is asked for
	for i, r := range part.Requirements {
		key := keys(r)
		if !moves(r) || taken[key] || unknown[key] {
			continue
		}
		taken[key] = true
		held := func(name string) bool { return name == r.Name || name == string(r.ID) || name == r.Subject.String() }
		s := &route.Subject{
			Name: key, Held: slices.ContainsFunc(hold, held),
			Previews: slices.Contains(plan.Previews, r.Name), Family: family(r.Name), Runtime: r.Subject.Kind == "runtime",
			Carries:     r.Role == model.Imports && following >= manyFollow,
			Development: !slices.ContainsFunc(part.Requirements, func(o model.Requirement) bool { return keys(o) == key && !o.Development }),
		}
		s.Stated = r.Range
		if rng, err := order.ParseRange(r.Range); err == nil && !exact(order, r.Range) && r.Range != "" {
			s.Admits = rng.Contains
		}
		s.Exact = !part.Lockless && exact(order, r.Range) && slices.ContainsFunc(part.Requirements, func(o model.Requirement) bool {
			beside := o.Site.File == r.Site.File && o.Subject.Kind == r.Subject.Kind && o.Fixed == "" && !o.Peer
			return beside && o.Range != "" && !exact(order, o.Range)
		})
		s.Ranged = part.Lockless && r.Locked == "" && s.Admits != nil
		d := describer{w, part, places, r.Development}
		d.describe(ctx, s, r.Name, known[i])
		s.Again = d.again
		if r.Locked != "" {
			if s.At, err = order.Parse(r.Locked); err != nil {
				return nil, &model.Fault{Doing: "reading the lock", File: part.LockFiles(), Wrong: fmt.Sprintf("%s: %v", r.Name, err)}
			}
		}
		subjects = append(subjects, s)
	}
	return subjects, nil
}

// describer says of a subject what its releases are like.
type describer struct {
	world       *world.World
	part        *tree.Part
	places      *tree.Places
	development bool
}

// describe fills in what the releases of a name are like.
func (d describer) describe(ctx context.Context, s *route.Subject, name string, known []model.Release) {
	order := d.part.Eco.Order()
	s.Releases, s.Peers, s.GoesOn = nil, nil, ""
	against, barred, peers := map[string]string{}, map[string]string{}, map[string][]string{}
	for _, rel := range known {
		v, err := order.Parse(rel.Version)
		if err != nil {
			continue
		}
		s.Releases = append(s.Releases, v)
		if rel.Replaced != "" && !v.Preview() {
			s.GoesOn = rel.Replaced
		}
		switch lacks := d.world.Lacks(ctx, rel.Needs, d.development); {
		case rel.Retracted:
			against[rel.Version] = "its author took it back"
		case rel.Deprecated != "":
			against[rel.Version] = "it is deprecated: " + rel.Deprecated
		case lacks != "":
			barred[rel.Version] = "it needs " + lacks
		default:
			barred[rel.Version] = rel.Unfit
		}
		peers[rel.Version] = rel.Peers
		for _, peer := range rel.Peers {
			if !slices.Contains(s.Peers, peer) {
				s.Peers = append(s.Peers, peer)
			}
		}
	}
	s.PeersAt = func(v version.Version) []string { return peers[v.String()] }
	s.Bars = func(v version.Version) string {
		if against[v.String()] != "" {
			return ""
		}
		return cmp.Or(barred[v.String()], beyondRuntime(d.part, d.places, name, v))
	}
	s.Shun = func(v version.Version) string { return cmp.Or(against[v.String()], s.Bars(v)) }
}

// again describes a subject that goes on under another name.
func (d describer) again(ctx context.Context, s *route.Subject, name string) error {
	known, err := d.world.Registry.Releases(ctx, model.Subject{Kind: d.part.Type, Name: name})
	if errors.Is(err, ecosystem.ErrUnknown) {
		return nil // it comes from a repository alone, and stays as it is known
	}
	if err != nil {
		return err
	}
	d.describe(ctx, s, name, known)
	s.Stated, s.Admits = "", nil // that was said of the old name
	return nil
}

// exact tells whether a range is written as one version.
func exact(order version.Order, text string) bool {
	_, err := order.Parse(strings.TrimSpace(strings.TrimPrefix(text, "=")))
	return err == nil && !strings.ContainsAny(text, "[](),") // Maven takes any text for a version
}

// asked tells whether a wish is about a declaration.
func asked(plan *route.Plan, r model.Requirement) bool {
	return slices.ContainsFunc(plan.Wishes, func(w route.Wish) bool { return w.Name == r.Name || w.Name == string(r.ID) })
}

// keysOf tells how a plan speaks of declarations: what is asked of one of them parts it from the others.
func keysOf(plan *route.Plan, hold []string) func(r model.Requirement) string {
	asked := contract.Goal{Bounds: map[string]contract.Bound{}}
	for _, w := range plan.Wishes {
		asked.Bounds[w.Name] = contract.Bound{}
	}
	for _, name := range hold {
		asked.Bounds[name] = contract.Bound{}
	}
	return asked.Keys()
}
