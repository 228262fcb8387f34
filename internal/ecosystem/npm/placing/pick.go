package placing

import (
	"fmt"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/registry"
	"bellwether/internal/ecosystem/npm/tree"
)

// pick is the best release for which all specs hold, that is not to be avoided
// and that has no hole; if all are one or the other, the best of them.
func (b *Builder) pick(p *registry.Package, specs ...packagejson.Spec) *registry.Release {
	holed := map[*registry.Release]bool{}
	if b.Avoid != nil {
		for _, r := range p.Releases {
			holed[r] = b.Avoid(p.Name, r.Text)
		}
	}
	for {
		rel := b.Registry.PickWhere(p, func(r *registry.Release) bool { return !holed[r] }, specs)
		if rel == nil {
			return b.Registry.Pick(p, specs...)
		}
		hole := b.Hole(rel)
		if hole == "" {
			return rel
		}
		holed[rel] = true
	}
}

// Hole is registry.hole, remembered for the notices.
func (b *Builder) Hole(rel *registry.Release) string {
	h, known := b.holes[rel]
	if !known {
		h = b.Registry.Hole(b.Ctx, rel)
		b.holes[rel] = h
	}
	return h
}

// HoleNotices tell which releases were passed over for a hole, package by
// package.
func (b *Builder) HoleNotices() []string {
	byName := map[string][]*registry.Release{}
	for rel, hole := range b.holes {
		if hole != "" {
			byName[rel.Pkg.Name] = append(byName[rel.Pkg.Name], rel)
		}
	}
	var notices []string
	for _, name := range packagejson.Collated(byName) {
		rels := byName[name]
		slices.SortFunc(rels, func(a, b *registry.Release) int { return a.Index - b.Index })
		which := solve.Runs(rels[0].Pkg.Versions, func(i int) bool {
			return slices.ContainsFunc(rels, func(r *registry.Release) bool { return r.Index == i })
		})
		last := rels[len(rels)-1]
		notices = append(
			notices,
			fmt.Sprintf("%s %s passed over: %s wants %s for one platform, which was never published", name, which, last.Text, b.holes[last]),
		)
	}
	return notices
}

// PackageWith gives the package; if what is installed is no release that the
// registry has (any more), it is added as one, since it can stay.
func (b *Builder) PackageWith(name string, at *tree.Node, site model.Site) (*registry.Package, error) {
	p, err := b.Registry.Package(b.Ctx, name)
	if registry.IsAbsent(err) && at != nil && at.LinkTo == nil && at.Package == name { // it stays as the lock has it
		p, err = &registry.Package{Name: name}, nil
	}
	if err != nil {
		if b.Ctx.Err() != nil {
			return nil, b.Ctx.Err()
		}
		return nil, fmt.Errorf("%s: %w", site, err)
	}
	if at == nil || at.LinkTo != nil || at.Package != name || p.Find(at.Version) != nil {
		return p, nil
	}
	v, err := packagejson.ParseVersion(at.Version)
	if err != nil {
		return p, nil
	}
	kept := p.Copied()
	rel := &registry.Release{Pkg: kept, Parsed: v, Text: at.Version}
	rel.Version, rel.Integrity, rel.Tarball, rel.Deprecated = at.Version, at.Integrity, at.Resolved, at.Deprecate
	rel.Body, rel.Terms = len(kept.Decoded), len(kept.Terms)
	kept.Decoded = append(slices.Clone(kept.Decoded), at.Body)
	kept.Terms = append(slices.Clone(kept.Terms), at.Body.Terms)
	kept.Releases = append(kept.Releases, rel)
	kept.Sort()
	b.Registry.Mu.Lock()
	b.Registry.Packages[name] = settled(kept)
	b.Registry.Mu.Unlock()
	return kept, nil
}

func settled(p *registry.Package) *registry.Pending {
	done := &registry.Pending{Pkg: p}
	done.Once.Do(func() {})
	return done
}
