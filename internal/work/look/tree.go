package look

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/tree"
)

// InEffect tells all packages in effect, each below what brings it by the shortest way. With a component that could not be looked at
// it gives the others, and the error of that one.
func InEffect(ctx context.Context, d *desk.Desk, t *tree.Tree) (*output.InEffect, error) {
	all := &output.InEffect{Components: []output.ComponentInEffect{}}
	var problems []error
	for _, part := range t.Parts {
		packages, err := d.EffectiveIn(ctx, part)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			problems = append(problems, err)
			continue
		}
		if eco, ok := part.Eco.(ecosystem.Graphed); ok {
			brought, err := graphed(ctx, d, part, eco)
			if err != nil { // then all stand side by side
				problems = append(problems, fmt.Errorf("what brings what in %s is not known: %w", part.Manifest, err))
			} else {
				packages = brought
			}
		}
		c := output.ComponentInEffect{Dir: part.Dir, Name: part.Name, Ecosystem: part.Kind, Packages: below(part, packages)}
		all.Components = append(all.Components, c)
	}
	return all, joined(problems)
}

// graphed asks for what brings what.
func graphed(ctx context.Context, d *desk.Desk, part *tree.Part, eco ecosystem.Graphed) ([]model.Package, error) {
	registry, err := d.Registry(ctx, part)
	if err != nil {
		return nil, err
	}
	return eco.Brought(ctx, registry, part.Component)
}

// node is a package with what it brings.
type node struct {
	model.Package
	brings []*node
}

// below puts packages below what brings them, in the order of names. The component itself is none of them.
func below(part *tree.Part, packages []model.Package) []output.PackageInEffect {
	root := &node{}
	at := map[string]*node{"": root}
	named := map[string]*node{} // by name and version, for ways that are told in part
	const then = "\n"
	ordered := slices.Clone(packages)
	slices.SortStableFunc(ordered, func(a, b model.Package) int { return len(a.Via) - len(b.Via) })
	for _, p := range ordered {
		if p.Subject.IsPin() || p.Version == "" {
			continue
		}
		way := strings.Join(p.Via, then)
		by := at[way]
		if by == nil && len(p.Via) > 0 {
			by = named[p.Via[len(p.Via)-1]]
		}
		if by == nil {
			by = root
		}
		called := p.Subject.Name + " " + p.Version
		n := &node{Package: p}
		by.brings = append(by.brings, n)
		at[strings.TrimPrefix(way+then+called, then)] = n
		if named[called] == nil {
			named[called] = n
		}
	}
	rows := []output.PackageInEffect{}
	var list func(of *node, depth int)
	list = func(of *node, depth int) {
		slices.SortStableFunc(of.brings, func(a, b *node) int { return a.Subject.Compare(b.Subject) })
		for _, n := range of.brings {
			row := output.PackageInEffect{Depth: depth, Name: n.Subject.Name, Version: n.Version, Development: n.Development}
			if depth == 0 {
				row.Indirect = !required(part, n.Subject)
				if n.Site.File != "" {
					row.Place = n.Site.String()
				}
			}
			rows = append(rows, row)
			list(n, depth+1)
		}
	}
	list(root, 0)
	return rows
}

// required tells whether manifests ask for a package on account of the component itself.
func required(part *tree.Part, s model.Subject) bool {
	return slices.ContainsFunc(part.Requirements, func(r model.Requirement) bool { return r.Subject == s && !r.Asked })
}
