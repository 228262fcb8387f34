package resolving

import (
	"fmt"

	"bellwether/internal/core/mediate"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/maven/graph"
	"bellwether/internal/ecosystem/maven/project"
	"bellwether/internal/ecosystem/mavenrepo"
)

// forbidden is the first thing about a state that the project's own rules forbid and that was not so before; nil for none. What the
// project's management holds down is not looked at.
func forbidden(p *project.Project, was, is []graph.Tree) *mediate.Conflict {
	strict := p.Strictness()
	if strict == (project.Strict{}) {
		return nil
	}
	before := map[string]bool{}
	for _, t := range was {
		for _, w := range t.Won {
			if c := strictly(strict, w); c != nil {
				before[w.Coords.String()] = true
			}
		}
	}
	for _, t := range is {
		for _, w := range t.Won {
			if c := strictly(strict, w); c != nil && !before[w.Coords.String()] {
				return c
			}
		}
	}
	return nil
}

// strictly is what the rules have against a package that a module gets; nil for nothing.
func strictly(strict project.Strict, w graph.Won) *mediate.Conflict {
	lost, at, says := w.Below(mavenrepo.Compare), strict.Upper, "nothing lower than what is asked for"
	if strict.Converge != (model.Site{}) {
		lost, at, says = w.Lost, strict.Converge, "the same version for all who ask"
	}
	if at == (model.Site{}) || len(lost) == 0 {
		return nil
	}
	c := &mediate.Conflict{Name: w.Coords.String(), Asked: []mediate.Statement{w.Statement}, Why: fmt.Sprintf("%s wants %s", at, says)}
	for _, l := range lost {
		if l.Version != "" && l.Version != w.Version {
			c.Asked = append(c.Asked, l.Statement)
		}
	}
	if len(c.Asked) == 1 {
		return nil
	}
	return c
}
