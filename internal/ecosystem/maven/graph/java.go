package graph

import (
	"context"
	"fmt"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/maven/pom"
	"bellwether/internal/ecosystem/maven/registry"
	"bellwether/internal/ecosystem/mavenrepo"
)

// NeededJava is what a version of Java is needed as; nothing for 0.
func NeededJava(java int) []model.Need {
	if java < 1 {
		return nil
	}
	return []model.Need{{Subject: model.Subject{Kind: "runtime", Name: "java"}, Range: fmt.Sprintf(">=%d", java)}}
}

// Java notes of packages which Java they need. What cannot be asked for states nothing.
func Java(ctx context.Context, r *registry.Registry, s *pom.Finder, repositories []mavenrepo.Repository, all []model.Package) error {
	var group errgroup.Group
	group.SetLimit(16)
	for i := range all {
		c, ok := mavenrepo.Read(all[i].Subject.Name)
		if !ok || s.Own[c] != nil {
			continue
		}
		e, err := s.Of(ctx, repositories, c, all[i].Version, 0)
		if err != nil || e == nil || e.Packaging == "pom" {
			continue
		}
		group.Go(func() error {
			if java, err := r.Client.Java(ctx, repositories, c, all[i].Version, e.Level); err == nil {
				all[i].Needs = NeededJava(java)
			}
			return nil
		})
	}
	_ = group.Wait()
	return ctx.Err()
}
