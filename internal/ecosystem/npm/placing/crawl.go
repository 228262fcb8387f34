package placing

import (
	"context"
	"sync"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/registry"
	"bellwether/internal/ecosystem/npm/tree"
)

// Crawl fetches ahead, many at a time, what resolving from these edges will
// most likely ask for: the best release of each, and what it depends on.
func Crawl(ctx context.Context, r *registry.Registry, edges []packagejson.Edge) {
	var (
		g    errgroup.Group
		mu   sync.Mutex
		seen = map[string]bool{}
	)
	g.SetLimit(registry.Parallel)
	for work := edges; len(work) > 0 && ctx.Err() == nil; {
		list := work
		work = nil
		for _, e := range list {
			key := e.Spec.Name + "\x00" + e.Spec.Text
			if seen[key] || e.Spec.Kind > packagejson.SpecTag || e.Kind == packagejson.PeerOptional {
				continue
			}
			seen[key] = true
			g.Go(func() error {
				p, err := r.Package(ctx, e.Spec.Name)
				if err != nil {
					return nil
				}
				mu.Lock()
				defer mu.Unlock()
				if rel := r.Pick(p, e.Spec); rel != nil {
					work = append(work, tree.BodyEdges(rel.Manifest(), nil)...)
				}
				return nil
			})
		}
		_ = g.Wait()
	}
}
