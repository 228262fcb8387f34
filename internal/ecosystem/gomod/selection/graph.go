// Package selection is minimal version selection over a module's requirement graph, and the order of versions that it needs.
package selection

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/mod/module"
	"golang.org/x/sync/errgroup"
)

// AskAtOnce is how many modules are asked for at a time.
const AskAtOnce = 32

// Graph is a module's requirement graph, with the selected versions: of each
// path the highest that anything in the graph requires. That is minimal
// version selection, after Russ Cox, "Minimal Version Selection" (2018), and
// the Go Modules Reference.
type Graph struct {
	Roots    map[string]string                   // the main module's requirements, by path
	Pruned   bool                                // the main module states Go 1.17 or later
	Requires map[module.Version][]module.Version // of every module whose go.mod counts
	Selected map[string]string
	Asker    map[module.Version]module.Version // who first required it; zero for the main module
	Order    []module.Version                  // as met, breadth first
}

// Summarizer gives what a module requires, with Go among it, and whether that
// is all it takes to build it.
type Summarizer func(ctx context.Context, m module.Version) (requires []module.Version, pruned bool, err error)

// Load loads the graph that hangs on roots. Below a module that states Go
// 1.17 or later only its own requirements count, since they are complete; what
// lies below them is pruned (Go Modules Reference, "Module graph pruning").
func Load(ctx context.Context, main string, roots []module.Version, pruned bool, look Summarizer) (*Graph, error) {
	g := &Graph{
		Roots: map[string]string{}, Pruned: pruned, Requires: map[module.Version][]module.Version{},
		Selected: map[string]string{}, Asker: map[module.Version]module.Version{},
	}
	type visit struct {
		m    module.Version
		deep bool // nothing below is pruned
	}
	seen := map[visit]bool{}
	var queue []visit
	enqueue := func(v visit) {
		if v.m.Path == main || v.m.Path == "go" || v.m.Path == "toolchain" || v.m.Version == "" || seen[v] || seen[visit{v.m, true}] {
			return
		}
		seen[v] = true
		queue = append(queue, v)
	}
	for _, m := range roots {
		if g.Roots[m.Path] == "" || CompareVersions(m.Path, g.Roots[m.Path], m.Version) < 0 {
			g.Roots[m.Path] = m.Version
		}
		g.meet(m, module.Version{})
		enqueue(visit{m, !pruned})
	}
	for len(queue) > 0 {
		batch := queue
		queue = nil
		found, complete, failed, err := lookAll(ctx, batch, func(v visit) module.Version { return v.m }, look)
		if err != nil {
			if by := g.Asker[failed]; by.Path != "" {
				err = fmt.Errorf("%s requires %s %s: %w", by.Path, failed.Path, failed.Version, err)
			}
			return nil, err
		}
		for i, v := range batch {
			if _, known := g.Requires[v.m]; !known {
				g.Requires[v.m] = found[i]
			}
			deep := v.deep || !complete[i]
			for _, q := range found[i] {
				if q.Path == main {
					continue
				}
				g.meet(q, v.m)
				if deep {
					enqueue(visit{q, true})
				}
			}
		}
	}
	return g, nil
}

// lookAll looks at many modules at once, and gives the answers in their order.
// With an error comes the first module that it is about.
func lookAll[V any](
	ctx context.Context, batch []V, of func(V) module.Version, look Summarizer,
) (found [][]module.Version, complete []bool, failed module.Version, err error) {
	found, complete = make([][]module.Version, len(batch)), make([]bool, len(batch))
	var group errgroup.Group
	group.SetLimit(AskAtOnce)
	errs := make([]error, len(batch))
	for i, v := range batch {
		group.Go(func() error {
			found[i], complete[i], errs[i] = look(ctx, of(v))
			return nil
		})
	}
	_ = group.Wait()
	for i, err := range errs {
		if err != nil {
			return nil, nil, of(batch[i]), err
		}
	}
	return found, complete, module.Version{}, nil
}

// meet notes a module that is required.
func (g *Graph) meet(m, by module.Version) {
	if _, known := g.Asker[m]; !known {
		g.Asker[m] = by
		g.Order = append(g.Order, m)
	}
	if at, known := g.Selected[m.Path]; !known || CompareVersions(m.Path, at, m.Version) < 0 {
		g.Selected[m.Path] = m.Version
	}
}

// Chain is how a module came into the graph: from one of the roots to it.
func (g *Graph) Chain(m module.Version) []module.Version {
	var all []module.Version
	for m.Path != "" && !slices.Contains(all, m) {
		all = append(all, m)
		m = g.Asker[m]
	}
	slices.Reverse(all)
	return all
}

// BuildList are the selected modules, sorted, without Go.
func (g *Graph) BuildList() []module.Version {
	var all []module.Version
	for path, v := range g.Selected {
		if path != "go" && path != "toolchain" {
			all = append(all, module.Version{Path: path, Version: v})
		}
	}
	module.Sort(all)
	return all
}

// Askers are those that require a module, in whatever version, and which.
func (g *Graph) Askers(path string) []module.Version {
	var all []module.Version
	for m, list := range g.Requires {
		if slices.ContainsFunc(list, func(q module.Version) bool { return q.Path == path }) {
			all = append(all, m)
		}
	}
	module.Sort(all)
	return all
}

// Minimal gives the fewest roots that select what the graph selects, with the
// paths of base among them.
func (g *Graph) Minimal(main string, base []string) []module.Version {
	have := map[module.Version]bool{}
	var imply func(m module.Version)
	imply = func(m module.Version) {
		if have[m] {
			return
		}
		have[m] = true
		for _, q := range g.Requires[m] {
			imply(q)
		}
	}
	var roots []module.Version
	for _, path := range base {
		m := module.Version{Path: path, Version: g.Selected[path]}
		roots = append(roots, m)
		imply(m)
	}
	var post []module.Version
	seen := map[module.Version]bool{}
	var walk func(m module.Version)
	walk = func(m module.Version) {
		if seen[m] || m.Path == main {
			return
		}
		seen[m] = true
		for _, q := range g.Requires[m] {
			walk(q)
		}
		post = append(post, m)
	}
	for _, m := range g.BuildList() {
		walk(m)
	}
	for _, m := range slices.Backward(post) {
		if g.Selected[m.Path] == m.Version && !have[m] && m.Path != "go" {
			roots = append(roots, m)
			imply(m)
		}
	}
	SortRoots(roots)
	return roots
}

// SortRoots sorts by path.
func SortRoots(roots []module.Version) {
	slices.SortFunc(roots, func(a, b module.Version) int { return strings.Compare(a.Path, b.Path) })
}

// Requirements are what a go.mod requires, with the graph that follows.
type Requirements struct {
	*Graph
	List   []module.Version // the roots, sorted by path, Go among them
	Direct map[string]bool  // paths of modules whose packages the module's own import
}
