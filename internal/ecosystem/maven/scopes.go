package maven

import (
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
	again := true
	for round := 0; again && round <= len(m.Won); round++ { // a scope that grew makes those below it grow
		again = false
		for _, w := range m.Won {
			statements := []mediate.Statement{w.Statement}
			for _, l := range w.Lost {
				statements = append(statements, l.Statement)
			}
			var ways []string
			own := -1 // the project's own statement, the first one
			for _, s := range statements {
				by := s.Path[len(s.Path)-1]
				use, parent := uses[s.Mark], all[by.Name]
				switch {
				case by == (mediate.Module{}):
					if own < 0 || s.Mark < own {
						own = s.Mark
					}
				case use.managed && parent != "":
					ways = append(ways, use.scope)
				case parent != "":
					ways = append(ways, alongWith(parent, use.scope))
				}
			}
			if own >= 0 {
				ways = []string{uses[own].scope}
			}
			if scope := widest(ways); scope != all[w.Name] {
				all[w.Name], again = scope, true
			}
		}
	}
	return all
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
