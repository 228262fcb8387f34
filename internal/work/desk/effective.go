package desk

import (
	"context"
	"fmt"
	"sync"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/tree"
)

// inEffect remembers the packages in effect of components, each read once.
type inEffect struct {
	mu sync.Mutex
	of map[*model.Component][]model.Package
}

// Effective are the packages in effect in a project. Registries are asked where files alone
// do not tell.
func (d *Desk) Effective(ctx context.Context, t *tree.Tree) (*tree.Packages, error) {
	all := make([][]model.Package, len(t.Parts))
	for i, part := range t.Parts {
		var err error
		all[i], err = d.EffectiveIn(ctx, part)
		if ecosystem.Unreached(err) {
			d.Aside(fmt.Sprintf("%s: what is in effect below it is known from its own files alone: %v", part.Manifest, err))
			all[i], err = part.Eco.Packages(part.Component), nil
		}
		if err != nil {
			return nil, err
		}
	}
	return tree.NewPackages(t.Table, all...), nil
}

// EffectiveIn are the packages in effect in a component.
func (d *Desk) EffectiveIn(ctx context.Context, part *tree.Part) ([]model.Package, error) {
	d.table.inEffect.mu.Lock()
	known, ok := d.table.inEffect.of[part.Component]
	d.table.inEffect.mu.Unlock()
	if ok {
		return known, nil
	}
	all, err := d.InTrial(ctx, part)
	if err != nil {
		return nil, err
	}
	d.table.inEffect.mu.Lock()
	defer d.table.inEffect.mu.Unlock()
	d.table.inEffect.of[part.Component] = all
	return all, nil
}

// InTrial are the packages in effect in a component of a state that may not be taken: they are not remembered, since a route
// tries many.
func (d *Desk) InTrial(ctx context.Context, part *tree.Part) ([]model.Package, error) {
	eco, ok := part.Eco.(ecosystem.Effective)
	if !ok {
		return part.Eco.Packages(part.Component), nil
	}
	registry, err := d.Registry(ctx, part)
	if err != nil {
		return nil, err
	}
	return eco.Effective(ctx, registry, part.Component)
}
