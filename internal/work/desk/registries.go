package desk

import (
	"context"
	"os"
	"sync"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/run"
	"bellwether/internal/work/tree"
)

// table has the registries that a call asks: one for all components whose settings are the
// same.
type table struct {
	mu       sync.Mutex
	of       map[place]ecosystem.Registry
	shared   map[string]ecosystem.Registry
	inEffect inEffect
}

// place is a component, wherever its files are at the moment.
type place struct{ ecosystem, dir string }

func newTable() *table {
	return &table{
		of: map[place]ecosystem.Registry{}, shared: map[string]ecosystem.Registry{},
		inEffect: inEffect{of: map[*model.Component][]model.Package{}},
	}
}

// Registry is what a component's packages come from.
func (d *Desk) Registry(ctx context.Context, part *tree.Part) (ecosystem.Registry, error) {
	d.table.mu.Lock()
	defer d.table.mu.Unlock()
	at := place{part.Eco.Kind(), part.Dir}
	if r, known := d.table.of[at]; known {
		return r, nil
	}
	home, _ := os.UserHomeDir()
	r, err := part.Eco.Connect(ctx, ecosystem.Surroundings{
		Files: d.Files, Say: d.Aside, Environ: append(os.Environ(), d.Options.Env...), Home: home, Now: d.Clock,
		Client: d.Client(), Ask: d.prober.Ask, Find: run.Find, AsOf: d.Options.AsOf, MinAge: d.Options.MinAge,
		Share: func(settings string, open func() (ecosystem.Registry, error)) (ecosystem.Registry, error) {
			return d.table.share(at.ecosystem+"\n"+settings, open)
		},
	}, part.Dir)
	if err != nil {
		return nil, err
	}
	d.table.of[at] = r
	return r, nil
}

// share gives the registry of some settings, and opens it for the first who asks.
func (t *table) share(settings string, open func() (ecosystem.Registry, error)) (ecosystem.Registry, error) {
	if r, known := t.shared[settings]; known {
		return r, nil
	}
	r, err := open()
	if err == nil {
		t.shared[settings] = r
	}
	return r, err
}
