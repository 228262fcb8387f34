package plan

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/version"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/world"
)

// subjects are the direct requirements that can move, each name once.
func (p *planner) subjects(ctx context.Context, w *world.World, plan *route.Plan, hold []string) ([]*route.Subject, error) {
	part, registry := w.Part, w.Registry
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
	apart := route.Apart(part.Eco.Order(), part.Component)
	moves := func(r model.Requirement) bool {
		wished := slices.ContainsFunc(plan.Wishes, func(w route.Wish) bool { return w.Name == r.Name })
		// What is declared at several lines has no version that all could count from: it moves by its name alone.
		return r.Fixed == "" && (!r.Asked || wished || family(r.Name) != nil) && (apart[r.Name] == "" || wished)
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
	for _, err := range failed { // the first in the manifest, whichever came first
		if err != nil {
			return nil, err
		}
	}
	var subjects []*route.Subject
	order := part.Eco.Order()
	places, _ := p.tree.Places() // what cannot be read is told when it is asked for
	for i, r := range part.Requirements {
		if !moves(r) || slices.ContainsFunc(subjects, func(s *route.Subject) bool { return s.Name == r.Name }) {
			continue
		}
		s := &route.Subject{
			Name: r.Name, Held: slices.Contains(hold, r.Name) || slices.Contains(hold, r.Subject.String()),
			Previews: slices.Contains(plan.Previews, r.Name), Family: family(r.Name), Runtime: r.Subject.Kind == "runtime",
			Apart: apart[r.Name] != "",
		}
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
			return cmp.Or(against[v.String()], beyondRuntime(part, places, r.Name, v))
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
