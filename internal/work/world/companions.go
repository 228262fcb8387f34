package world

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/companion"
	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/tree"
)

// Companions are the requirements of a component that are usually moved together although
// nothing asks for that, as far as the registry shows it. What cannot be asked for is in no
// group.
func Companions(ctx context.Context, part *tree.Part, registry ecosystem.Registry) [][]string {
	var all []companion.History
	order := part.Eco.Order()
	peers := map[string][]string{} // that the versions in use want to meet
	for _, r := range part.Requirements {
		_, only := Describes(part, r.Name)
		known := slices.ContainsFunc(all, func(h companion.History) bool { return h.Name == r.Name })
		if known || only || r.Fixed != "" || r.Locked == "" || r.Asked || r.Subject.Kind != part.Type {
			continue
		}
		releases, err := registry.Releases(ctx, r.Subject)
		if err != nil {
			continue
		}
		h := companion.History{Name: r.Name}
		h.At, _ = order.Parse(r.Locked)
		for _, rel := range releases {
			if rel.Version == r.Locked {
				peers[r.Name] = rel.Peers
			}
			if v, err := order.Parse(rel.Version); err == nil {
				h.Releases = append(h.Releases, companion.Release{Version: v, Published: rel.Published})
			}
		}
		all = append(all, h)
	}
	return slices.DeleteFunc(companion.Groups(all), func(names []string) bool {
		return !slices.ContainsFunc(names, func(name string) bool { return !linked(name, names, peers) })
	})
}

// linked tells whether a package says itself that it wants to meet another of some, or one of
// those that it wants to meet it: then it is moved along anyhow.
func linked(name string, names []string, peers map[string][]string) bool {
	return slices.ContainsFunc(names, func(other string) bool {
		return other != name && (slices.Contains(peers[name], other) || slices.Contains(peers[other], name))
	})
}

// Parted tells of requirements that are usually moved together, and that legs take to other
// lines, or at other times.
func Parted(groups [][]string, plan *route.Plan, legs []model.Leg) (notices []string) {
	for _, names := range groups {
		lines, times := map[string]bool{}, map[int]bool{}
		for _, s := range plan.Subjects {
			if slices.Contains(names, s.Name) && s.At != nil {
				lines[s.At.Line()] = true
			}
		}
		for i, leg := range legs {
			for _, m := range leg.Moves {
				from, err := plan.Order.Parse(m.From)
				to, terr := plan.Order.Parse(m.To)
				if slices.Contains(names, m.Name) && err == nil && terr == nil && from.Line() != to.Line() {
					times[i] = true
				}
			}
		}
		if len(times) > 0 && (len(lines) > 1 || len(times) > len(lines)) {
			list := strings.Join(names, ",")
			notices = append(
				notices,
				fmt.Sprintf("usually moved together, and not here: %s; --together %s takes them in one leg", strings.Join(names, ", "), list),
			)
		}
	}
	return notices
}

// Describes is what a package describes that does nothing else, another one or a runtime; ok is
// false for others.
func Describes(part *tree.Part, name string) (s model.Subject, ok bool) {
	eco, ok := part.Eco.(ecosystem.Describer)
	if !ok {
		return s, false
	}
	return eco.Describes(name)
}
