package npm

import (
	"fmt"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
)

// pick is the best release for which all specs hold, that is not to be avoided
// and that has no hole; if all are one or the other, the best of them.
func (b *builder) pick(p *pkg, specs ...spec) *release {
	holed := map[*release]bool{}
	if b.avoid != nil {
		for _, r := range p.releases {
			holed[r] = b.avoid(p.name, r.text)
		}
	}
	for {
		rel := b.reg.pickWhere(p, func(r *release) bool { return !holed[r] }, specs)
		if rel == nil {
			return b.reg.pick(p, specs...)
		}
		hole := b.hole(rel)
		if hole == "" {
			return rel
		}
		holed[rel] = true
	}
}

// hole is registry.hole, remembered for the notices.
func (b *builder) hole(rel *release) string {
	h, known := b.holes[rel]
	if !known {
		h = b.reg.hole(b.ctx, rel)
		b.holes[rel] = h
	}
	return h
}

// holeNotices tell which releases were passed over for a hole, package by
// package.
func (b *builder) holeNotices() []string {
	byName := map[string][]*release{}
	for rel, hole := range b.holes {
		if hole != "" {
			byName[rel.pkg.name] = append(byName[rel.pkg.name], rel)
		}
	}
	var notices []string
	for _, name := range collated(byName) {
		rels := byName[name]
		slices.SortFunc(rels, func(a, b *release) int { return a.index - b.index })
		which := solve.Runs(rels[0].pkg.versions, func(i int) bool {
			return slices.ContainsFunc(rels, func(r *release) bool { return r.index == i })
		})
		last := rels[len(rels)-1]
		notices = append(
			notices,
			fmt.Sprintf("%s %s passed over: %s wants %s for one platform, which was never published", name, which, last.text, b.holes[last]),
		)
	}
	return notices
}

// packageWith gives the package; if what is installed is no release that the
// registry has (any more), it is added as one, since it can stay.
func (b *builder) packageWith(name string, at *node, site model.Site) (*pkg, error) {
	p, err := b.reg.pkg(b.ctx, name)
	if isAbsent(err) && at != nil && at.linkTo == nil && at.pkgName == name { // it stays as the lock has it
		p, err = &pkg{name: name}, nil
	}
	if err != nil {
		if b.ctx.Err() != nil {
			return nil, b.ctx.Err()
		}
		return nil, fmt.Errorf("%s: %w", site, err)
	}
	if at == nil || at.linkTo != nil || at.pkgName != name || p.find(at.version) != nil {
		return p, nil
	}
	v, err := parseVersion(at.version)
	if err != nil {
		return p, nil
	}
	kept := p.copied()
	rel := &release{pkg: kept, parsed: v, text: at.version}
	rel.Version, rel.Integrity, rel.Tarball, rel.Deprecated = at.version, at.integrity, at.resolved, at.deprecate
	rel.Body, rel.Terms = len(kept.decoded), len(kept.terms)
	kept.decoded = append(slices.Clone(kept.decoded), at.body)
	kept.terms = append(slices.Clone(kept.terms), at.body.terms)
	kept.releases = append(kept.releases, rel)
	kept.sort()
	b.reg.mu.Lock()
	b.reg.packages[name] = settled(kept)
	b.reg.mu.Unlock()
	return kept, nil
}

func settled(p *pkg) *pending {
	done := &pending{pkg: p}
	done.once.Do(func() {})
	return done
}
