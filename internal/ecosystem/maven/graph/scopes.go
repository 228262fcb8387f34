package graph

import (
	"iter"
	"slices"

	"bellwether/internal/core/mediate"
)

// The scopes of what a module gets, the widest first (Maven: Introduction to the Dependency Mechanism, "dependency scope").
const (
	compile  = "compile"
	runtime  = "runtime"
	provided = "provided"
	forTests = "test"
	system   = "system"
)

// use is in what scope a statement uses a package.
type use struct {
	scope   string
	managed bool // the project manages it
}

// scopes are those of all that a module gets: of what it asks for itself as it says, of what comes along the widest of all
// ways on which it comes. Uses are those of the statements, by their marks, in the order in which they were found.
func scopes(m *mediate.Mediation, uses []use) map[string]string {
	all := map[string]string{}
	below := map[string][]*mediate.Won{} // by a package, those that it asks for
	queue := slices.Clone(m.Won)
	waiting := map[*mediate.Won]bool{}
	for _, w := range m.Won {
		waiting[w] = true
		for by := range askers(w) {
			below[by.Name] = append(below[by.Name], w)
		}
	}
	// A scope that grew makes those below it grow, each a few times at most.
	for left := maxGrowths * len(m.Won); len(queue) > 0 && left > 0; left-- {
		w := queue[0]
		queue, waiting[w] = queue[1:], false
		scope := scopeOf(w, uses, all)
		if scope == all[w.Name] {
			continue
		}
		all[w.Name] = scope
		for _, next := range below[w.Name] {
			if !waiting[next] {
				queue, waiting[next] = append(queue, next), true
			}
		}
	}
	return all
}

// maxGrowths bounds how often the scope of one package is found anew, on average: there are few scopes.
const maxGrowths = 20

// askers are the modules that ask for a package, with the marks of what they state.
func askers(w *mediate.Won) iter.Seq2[mediate.Module, int] {
	return func(yield func(mediate.Module, int) bool) {
		if !yield(w.Statement.Way.Module, w.Statement.Mark) {
			return
		}
		for _, l := range w.Lost {
			if !yield(l.Way.Module, l.Mark) {
				return
			}
		}
		for _, a := range w.Also {
			if !yield(a.Way.Module, a.Mark) {
				return
			}
		}
	}
}

// scopeOf is the scope of a package, as those of its askers are known so far.
func scopeOf(w *mediate.Won, uses []use, known map[string]string) string {
	var ways []string
	own := -1 // the project's own statement, the first one
	for by, mark := range askers(w) {
		use, parent := uses[mark], known[by.Name]
		switch {
		case by == (mediate.Module{}):
			if own < 0 || mark < own {
				own = mark
			}
		case use.managed && parent != "":
			ways = append(ways, use.scope)
		case parent != "":
			ways = append(ways, alongWith(parent, use.scope))
		}
	}
	if own >= 0 {
		return uses[own].scope
	}
	return widest(ways)
}

// alongWith is the scope of what something of a scope brings along.
func alongWith(parent, scope string) string {
	switch {
	case scope == system || scope == forTests || parent == compile:
		return scope
	case parent == forTests || parent == runtime:
		return parent
	case parent == system || parent == provided:
		return provided
	}
	return runtime
}

// widest is the scope of several in which all of them are used.
func widest(of []string) string {
	for _, scope := range []string{compile, runtime, provided, forTests, system} {
		if slices.Contains(of, scope) {
			return scope
		}
	}
	return ""
}
