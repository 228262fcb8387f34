package gem

import (
	"context"
	"sync"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
)

// Effective are the gems of the lock, with what their releases state that they run on, as far as
// the gem servers tell.
func (e Ecosystem) Effective(ctx context.Context, reg ecosystem.Registry, c *model.Component) ([]model.Package, error) {
	all := e.Packages(c)
	r, ok := reg.(*registries)
	if !ok {
		return all, nil
	}
	var wait sync.WaitGroup
	limit := make(chan struct{}, 16)
	for i := range all {
		wait.Add(1)
		limit <- struct{}{}
		go func() {
			defer func() { <-limit; wait.Done() }()
			list, err := r.Variants(ctx, all[i].Subject.Name)
			if err != nil {
				return // what cannot be asked for states nothing
			}
			if text := r.TakenBack(ctx, all[i].Subject.Name, all[i].Version); text != "" {
				r.Around.Note(text)
			}
			for _, v := range list {
				if v.Version == all[i].Version {
					all[i].Needs = v.Needs()
				}
			}
		}()
	}
	wait.Wait()
	return all, ctx.Err()
}
