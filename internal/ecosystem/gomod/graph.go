package gomod

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/mod/module"
	"golang.org/x/sync/errgroup"
)

// askAtOnce is how many modules are asked for at a time.
const askAtOnce = 32

// graph is a module's requirement graph, with the selected versions: of each
// path the highest that anything in the graph requires. That is minimal
// version selection, after Russ Cox, "Minimal Version Selection" (2018), and
// the Go Modules Reference.
type graph struct {
	roots    map[string]string     // the main module's requirements, by path
	pruned   bool                  // the main module states Go 1.17 or later
	requires map[version][]version // of every module whose go.mod counts
	selected map[string]string
	asker    map[version]version // who first required it; zero for the main module
	order    []version           // as met, breadth first
}

// summarizer gives what a module requires, with Go among it, and whether that
// is all it takes to build it.
type summarizer func(ctx context.Context, m version) (requires []version, pruned bool, err error)

// newGraph loads the graph that hangs on roots. Below a module that states Go
// 1.17 or later only its own requirements count, since they are complete; what
// lies below them is pruned (Go Modules Reference, "Module graph pruning").
func newGraph(ctx context.Context, main string, roots []version, pruned bool, look summarizer) (*graph, error) {
	g := &graph{
		roots: map[string]string{}, pruned: pruned, requires: map[version][]version{},
		selected: map[string]string{}, asker: map[version]version{},
	}
	type visit struct {
		m    version
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
		if g.roots[m.Path] == "" || compareVersions(m.Path, g.roots[m.Path], m.Version) < 0 {
			g.roots[m.Path] = m.Version
		}
		g.meet(m, version{})
		enqueue(visit{m, !pruned})
	}
	for len(queue) > 0 {
		batch := queue
		queue = nil
		found, complete, failed, err := lookAll(ctx, batch, func(v visit) version { return v.m }, look)
		if err != nil {
			if by := g.asker[failed]; by.Path != "" {
				err = fmt.Errorf("%s requires %s %s: %w", by.Path, failed.Path, failed.Version, err)
			}
			return nil, err
		}
		for i, v := range batch {
			if _, known := g.requires[v.m]; !known {
				g.requires[v.m] = found[i]
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
	ctx context.Context, batch []V, of func(V) version, look summarizer,
) (found [][]version, complete []bool, failed version, err error) {
	found, complete = make([][]version, len(batch)), make([]bool, len(batch))
	var group errgroup.Group
	group.SetLimit(askAtOnce)
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
	return found, complete, version{}, nil
}

// meet notes a module that is required.
func (g *graph) meet(m, by version) {
	if _, known := g.asker[m]; !known {
		g.asker[m] = by
		g.order = append(g.order, m)
	}
	if at, known := g.selected[m.Path]; !known || compareVersions(m.Path, at, m.Version) < 0 {
		g.selected[m.Path] = m.Version
	}
}

// chain is how a module came into the graph: from one of the roots to it.
func (g *graph) chain(m version) []version {
	var all []version
	for m.Path != "" && !slices.Contains(all, m) {
		all = append(all, m)
		m = g.asker[m]
	}
	slices.Reverse(all)
	return all
}

// buildList are the selected modules, sorted, without Go.
func (g *graph) buildList() []version {
	var all []version
	for path, v := range g.selected {
		if path != "go" && path != "toolchain" {
			all = append(all, version{Path: path, Version: v})
		}
	}
	module.Sort(all)
	return all
}

// askers are those that require a module, in whatever version, and which.
func (g *graph) askers(path string) []version {
	var all []version
	for m, list := range g.requires {
		if slices.ContainsFunc(list, func(q version) bool { return q.Path == path }) {
			all = append(all, m)
		}
	}
	module.Sort(all)
	return all
}

// minimal gives the fewest roots that select what the graph selects, with the
// paths of base among them.
func (g *graph) minimal(main string, base []string) []version {
	have := map[version]bool{}
	var imply func(m version)
	imply = func(m version) {
		if have[m] {
			return
		}
		have[m] = true
		for _, q := range g.requires[m] {
			imply(q)
		}
	}
	var roots []version
	for _, path := range base {
		m := version{Path: path, Version: g.selected[path]}
		roots = append(roots, m)
		imply(m)
	}
	var post []version
	seen := map[version]bool{}
	var walk func(m version)
	walk = func(m version) {
		if seen[m] || m.Path == main {
			return
		}
		seen[m] = true
		for _, q := range g.requires[m] {
			walk(q)
		}
		post = append(post, m)
	}
	for _, m := range g.buildList() {
		walk(m)
	}
	for _, m := range slices.Backward(post) {
		if g.selected[m.Path] == m.Version && !have[m] && m.Path != "go" {
			roots = append(roots, m)
			imply(m)
		}
	}
	sortRoots(roots)
	return roots
}

// sortRoots sorts by path.
func sortRoots(roots []version) {
	slices.SortFunc(roots, func(a, b version) int { return strings.Compare(a.Path, b.Path) })
}
