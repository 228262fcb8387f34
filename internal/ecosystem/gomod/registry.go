package gomod

import (
	"context"

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
