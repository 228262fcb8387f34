package gomod

import (
	"context"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gomod/goenv"
	"bellwether/internal/ecosystem/gomod/registry"
)

// Connect reads the go command's settings.
func (Ecosystem) Connect(ctx context.Context, s ecosystem.Surroundings, _ string) (ecosystem.Registry, error) {
	g, err := goenv.Read(ctx, s)
	if err != nil {
		return nil, err
	}
	return s.Shared("", func() (ecosystem.Registry, error) { return &registries{registry.Connect(ctx, s, g)}, nil })
}

// Brought are the modules in effect, each with what brings it.
func (Ecosystem) Brought(ctx context.Context, r ecosystem.Registry, c *model.Component) ([]model.Package, error) {
	return r.(*registries).Registry.Brought(ctx, c)
}
