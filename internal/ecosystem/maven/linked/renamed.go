package linked

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/linkage"
	"bellwether/internal/core/spelling"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/maven/graph"
	"bellwether/internal/ecosystem/maven/registry"
	"bellwether/internal/ecosystem/mavenrepo"
)

// toldRenamed says which archives refer to classes by new names that nothing has, and what the names were before: a sentence
// for each archive that has them by the former ones, with the releases that have the new ones. These are cures.
func toldRenamed(
	ctx context.Context, r *registry.Registry, t graph.Tree, archives []linkage.Archive, renamed []linkage.Missing,
	cure func(contract.Cure),
) (all []string) {
	slices.SortStableFunc(renamed, func(a, b linkage.Missing) int { return strings.Compare(a.Was, b.Was) })
	for len(renamed) > 0 {
		end := slices.IndexFunc(renamed, func(m linkage.Missing) bool { return m.Was != renamed[0].Was })
		if end < 0 {
			end = len(renamed)
		}
		var by, names []string
		for _, m := range renamed[:end] {
			by, names = append(by, m.By), append(names, m.What)
		}
		slices.Sort(by)
		slices.Sort(names)
		by, names = slices.Compact(by), slices.Compact(names)
		refer, them := "refer", "it"
		if len(by) == 1 {
			refer = "refers"
		}
		who, first := spelling.Few(by, shownMissing), renamed[0]
		text := fmt.Sprintf("%s %s to %s in the place of %s", who, refer, spoken(first.What), spoken(first.Former))
		if more := len(names) - 1; more > 0 {
			text, them = text+fmt.Sprintf(", and to %d more likewise", more), "them"
		}
		all = append(all, fmt.Sprintf("%s; nothing has %s after this leg", text, them)+wayIn(ctx, r, t, archives, first, them, cure))
		renamed = renamed[end:]
	}
	return all
}

// The bounds of what is looked through for classes by their new names: packages, releases of each, and what
// one of them asks for.
const (
	mostProviders = 3
	mostMajors    = 4
	mostBrought   = 8
)

// wayIn says which releases have a class by its new name: newer ones of the packages that have it by the former one. Archives
// are those of what a module gets, in its order.
func wayIn(
	ctx context.Context, r *registry.Registry, t graph.Tree, archives []linkage.Archive, m linkage.Missing, them string,
	cure func(contract.Cure),
) (text string) {
	looked := 0
	for i, a := range archives {
		w := t.Won[i]
		has := slices.ContainsFunc(a.Units, func(u linkage.Unit) bool { return u.Name == m.Former })
		if looked == mostProviders || !has {
			continue
		}
		looked++
		list, err := r.Client.Versions(ctx, t.Of.Repositories, w.Coords)
		if err != nil {
			continue
		}
		for _, v := range newestOfMajors(w.Version, list) {
			if brings(ctx, r, t, w.Coords, v, m.What) {
				text += fmt.Sprintf("; %s has %s at %s", w.Coords, them, v)
				cure(contract.Cure{
					Name: w.Coords.String(), To: v, Why: fmt.Sprintf("brings %s, which others refer to after this leg", spoken(m.What)),
				})
				break
			}
		}
	}
	return text
}

// brings tells whether a release has a class, or asks for something that has it.
func brings(ctx context.Context, r *registry.Registry, t graph.Tree, c mavenrepo.Coordinates, release, unit string) bool {
	has := func(c mavenrepo.Coordinates, version string) bool {
		classes, err := r.Client.Classes(ctx, t.Of.Repositories, c, version)
		return err == nil && slices.ContainsFunc(classes.Units, func(u linkage.Unit) bool { return u.Name == unit })
	}
	if has(c, release) {
		return true
	}
	for i, o := range t.AsksOf(ctx, r, c, release) {
		if i < mostBrought && has(o.Coords, o.Version) {
			return true
		}
	}
	return false
}

// newestOfMajors are the newest releases of the majors behind that of a version, the lowest first.
func newestOfMajors(at string, list []string) (all []string) {
	major := func(v string) string { return strings.SplitN(v, ".", 2)[0] }
	for _, v := range list {
		parsed, err := version.Maven{}.Parse(v)
		if err != nil || parsed.Preview() || mavenrepo.Compare(v, at) <= 0 || major(v) == major(at) {
			continue
		}
		if n := len(all); n > 0 && major(all[n-1]) == major(v) {
			all[n-1] = v
		} else if n < mostMajors {
			all = append(all, v)
		}
	}
	return all
}
