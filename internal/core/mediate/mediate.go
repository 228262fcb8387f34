// Package mediate decides which of several statements about one package wins, where a build
// tool takes one version of each and solves nothing: nearest, highest, or lowest applicable.
// The graph is asked for module by module; every decision comes with its reason.
package mediate

import (
	"context"
	"fmt"
	"slices"
	"strings"
)

// Module is a package at a version. The project itself is the zero module.
type Module struct{ Name, Version string }

// String is the form for people: "hawser 2.0.0", "the project".
func (m Module) String() string {
	if m == (Module{}) {
		return "the project"
	}
	return m.Name + " " + m.Version
}

// Ask is what a module asks for.
type Ask struct {
	Name  string
	Wants string // a version or a range, as it is written
	// Excludes tells of what is not to come by way of this; nil for nothing.
	Excludes func(name string) bool
	// Was are the names by which it is asked for, if it is called otherwise by now: all of them take each
	// other's place. Only Nearest knows of it.
	Was []string
	// Mark is the graph's own, by which it knows an ask again.
	Mark int
	// Hard is that no version will do which the wish does not allow. Only Nearest knows of it.
	Hard bool
}

// excluded tells whether an ask is not to come.
func (a Ask) excluded(by func(name string) bool) bool {
	return by(a.Name) || slices.ContainsFunc(a.Was, by)
}

// Graph is what modules ask for. Its methods are called one after the other.
type Graph interface {
	// Asks are what a module asks for, in the order of its statements.
	Asks(ctx context.Context, m Module) ([]Ask, error)
	// Choose is the version that several wishes for a package give together: the one that one wish
	// stands for by itself, the lowest that meets all; "" where nothing does.
	Choose(ctx context.Context, name string, wants []string) (string, error)
	// Compare orders versions.
	Compare(a, b string) int
}

// Way is a module with the modules that lead to it, from the project on. Ways share their beginnings.
type Way struct {
	Module
	up    *Way // nil for the project
	depth int  // how many modules it has
}

// Start is the way that the project itself is.
func Start() *Way { return &Way{depth: 1} }

// To is a way one module further.
func (w *Way) To(m Module) *Way { return &Way{m, w, w.depth + 1} }

// Modules are all of the way, the project first.
func (w *Way) Modules() []Module {
	all := make([]Module, w.depth)
	for at := w; at != nil; at = at.up {
		all[at.depth-1] = at.Module
	}
	return all
}

// same tells whether two ways have the same modules.
func (w *Way) same(other *Way) bool {
	for a, b := w, other; a != b; a, b = a.up, b.up {
		if a == nil || b == nil || a.depth != b.depth || a.Module != b.Module {
			return false
		}
	}
	return true
}

// Statement is an ask with the way to the module that states it.
type Statement struct {
	Ask
	Way     *Way
	Version string // what it stands for by itself
}

// By is who states it, and by way of whom: "tide-form 2.0.0 by way of quayside 4.0.0".
func (s Statement) By() string {
	text := s.Way.String()
	for at := s.Way.up; at != nil && at.up != nil; at = at.up {
		text += " by way of " + at.String()
	}
	return text
}

// Lost is a statement that did not win.
type Lost struct {
	Statement
	Because string // a clause: "the project itself asks for another one"
}

// Won is a package with the version that it gets.
type Won struct {
	Module
	Statement Statement // the one that won
	Because   string    // a clause; empty where there was no other
	Lost      []Lost    // those that stand for another version
	Also      []Also    // others that stand for the same
}

// Also is a statement that stands for the version that won, too: one of very many, so that it is kept short.
type Also struct {
	Way  *Way
	Mark int
}

// Below are the lost statements that stand for a newer version than the one that won.
func (w *Won) Below(compare func(a, b string) int) (all []Lost) {
	for _, l := range w.Lost {
		if l.Version != "" && compare(w.Version, l.Version) < 0 {
			all = append(all, l)
		}
	}
	return all
}

// Mediation is every package of a graph, in the order in which they were found.
type Mediation struct{ Won []*Won }

// Of is what a package gets, nil for one that is not in the graph.
func (m *Mediation) Of(name string) *Won {
	for _, w := range m.Won {
		if w.Name == name {
			return w
		}
	}
	return nil
}

// walk goes through a graph level by level, in the order of the statements. Visit tells for a
// statement which version its package has, and whether to go on from there.
type walk struct {
	ctx     context.Context
	graph   Graph
	visit   func(s Statement) (version string, further bool, err error)
	dropped func(*Way) bool // it is not to be walked any more; nil for nothing
}

// maxDepth bounds by how many others a module may be needed.
const maxDepth = 5000

// step is a module to look at, with the statements that lead to it.
type step struct {
	way      *Way
	excludes []func(name string) bool
}

func (w *walk) run() error {
	queue := []step{{way: Start()}}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		if err := w.ctx.Err(); err != nil {
			return err
		}
		if w.dropped != nil && w.dropped(at.way) {
			continue
		}
		if at.way.depth > maxDepth {
			return fmt.Errorf("%s is needed by way of more than %d others: there is no end of it", at.way, maxDepth)
		}
		here := at.way.Module
		asks, err := w.graph.Asks(w.ctx, here)
		if err != nil {
			return fmt.Errorf("%s: %w", here, err)
		}
		for _, ask := range asks {
			if slices.ContainsFunc(at.excludes, ask.excluded) {
				continue
			}
			s := Statement{Ask: ask, Way: at.way}
			if s.Version, err = w.graph.Choose(w.ctx, ask.Name, []string{ask.Wants}); err != nil {
				return fmt.Errorf("%s asks for %s %s: %w", s.By(), ask.Name, ask.Wants, err)
			}
			version, further, err := w.visit(s)
			if err != nil {
				return err
			}
			if !further {
				continue
			}
			next := step{way: at.way.To(Module{ask.Name, version}), excludes: at.excludes}
			if ask.Excludes != nil {
				next.excludes = append(slices.Clone(at.excludes), ask.Excludes)
			}
			queue = append(queue, next)
		}
	}
	return nil
}

// A graph is walked anew until nothing changes. Modules that ask for each other may go back
// and forth; after some rounds nothing goes down any more, so that it comes to an end.
const (
	freeRounds = 50
	maxRounds  = 1000
)

// Highest lets the highest version win that any module in the graph asks for (Gradle:
// "Understanding dependency resolution", version conflicts).
func Highest(ctx context.Context, g Graph) (*Mediation, error) {
	return settle(ctx, g, func(name, present string, all []Statement) (string, error) {
		best := present
		for _, s := range all {
			if best == "" || g.Compare(s.Version, best) > 0 {
				best = s.Version
			}
		}
		return best, nil
	}, "it is the highest that is asked for")
}

// Lowest gives each package the lowest version that meets all who ask for it. A module that
// asks for a package itself decides for all below it (NuGet: "How NuGet resolves package
// dependencies", lowest applicable version, direct dependency wins, cousin dependencies).
func Lowest(ctx context.Context, g Graph) (*Mediation, error) {
	return settle(ctx, g, func(name, present string, all []Statement) (string, error) {
		var wants []string
		highest := ""
		for _, s := range all {
			if !shadowed(s, all) {
				wants = append(wants, s.Wants)
				if highest == "" || g.Compare(s.Version, highest) > 0 {
					highest = s.Version
				}
			}
		}
		version, err := g.Choose(ctx, name, wants)
		if version == "" {
			version = highest // nothing meets all; the highest is what is installed, and it is told
		}
		if present != "" && g.Compare(present, version) > 0 {
			version = present
		}
		return version, err
	}, "it is the lowest that meets all who decide")
}

// shadowed tells whether some module on the way to a statement asks for the same package.
func shadowed(s Statement, all []Statement) bool {
	return slices.ContainsFunc(all, func(o Statement) bool {
		at := s.Way
		for at.depth > o.Way.depth {
			at = at.up
		}
		return at != s.Way && at.same(o.Way)
	})
}

// settle walks a graph again and again, with one version a package, until none changes. Choose
// gives the version of a package by the statements about it; present is one that it is not to
// go below, empty for none.
func settle(
	ctx context.Context, g Graph, choose func(name, present string, all []Statement) (string, error), because string,
) (*Mediation, error) {
	selected := map[string]string{}
	for round := range maxRounds {
		var names []string
		asked := map[string][]Statement{}
		seen := map[Module]bool{}
		err := (&walk{ctx: ctx, graph: g, visit: func(s Statement) (string, bool, error) {
			if asked[s.Name] == nil {
				names = append(names, s.Name)
			}
			asked[s.Name] = append(asked[s.Name], s)
			version := selected[s.Name]
			if version == "" {
				version = s.Version
			}
			m := Module{s.Name, version}
			further := !seen[m]
			seen[m] = true
			return version, further, nil
		}}).run()
		if err != nil {
			return nil, err
		}
		changed := false
		for _, name := range names {
			present := ""
			if round >= freeRounds {
				present = selected[name]
			}
			version, err := choose(name, present, asked[name])
			if err != nil {
				return nil, err
			}
			changed = changed || selected[name] != version
			selected[name] = version
		}
		if !changed {
			return mediation(names, asked, selected, because), nil
		}
	}
	return nil, fmt.Errorf("no state was reached in %d rounds: the modules ask for each other in turn", maxRounds)
}

// mediation puts a settled graph into the words of results.
func mediation(names []string, asked map[string][]Statement, selected map[string]string, because string) *Mediation {
	m := &Mediation{}
	for _, name := range names {
		w := &Won{Module: Module{name, selected[name]}}
		all := asked[name]
		at := max(0, slices.IndexFunc(all, func(s Statement) bool { return s.Version == w.Version }))
		w.Statement = all[at]
		for i, s := range all {
			if i == at {
				continue
			}
			if s.Version == w.Version {
				w.Also = append(w.Also, Also{s.Way, s.Mark})
				continue
			}
			w.Because = because
			w.Lost = append(w.Lost, Lost{s, strings.TrimSpace(w.Statement.By() + " asks for " + w.Version + "; " + because)})
		}
		m.Won = append(m.Won, w)
	}
	return m
}
