package tree

import (
	"fmt"
	"slices"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
)

// Packages are those in effect in a project at one state.
type Packages struct {
	Table    ecosystem.Table
	Subjects []model.Subject // as they come
	of       map[model.Subject][]model.Package
}

// NewPackages gathers the packages in effect of a project's components, in their order.
func NewPackages(table ecosystem.Table, all ...[]model.Package) *Packages {
	p := &Packages{Table: table, of: map[model.Subject][]model.Package{}}
	for _, pkg := range slices.Concat(all...) {
		if p.of[pkg.Subject] == nil {
			p.Subjects = append(p.Subjects, pkg.Subject)
		}
		p.of[pkg.Subject] = append(p.of[pkg.Subject], pkg)
	}
	return p
}

// Of are the copies of a package that are in effect.
func (p *Packages) Of(s model.Subject) []model.Package { return p.of[s] }

// Nearest is the shortest way to a version of a package, from the requirement on; nil where none is known.
func (p *Packages) Nearest(s model.Subject, version string) (via []string) {
	for _, pkg := range p.of[s] {
		if pkg.Version == version && (via == nil || len(pkg.Via) < len(via)) {
			via = pkg.Via
		}
	}
	return via
}

// World is the packages as a question wants them.
func (p *Packages) World() compat.World {
	w := compat.World{}
	for subject, all := range p.of {
		order := p.Table.Order(subject.Kind)
		if order == nil {
			continue
		}
		for _, pkg := range all {
			if v, err := order.Parse(pkg.Version); err == nil {
				w[subject] = append(w[subject], v)
			}
		}
	}
	return w
}

// UnreadNeed is a need that no dialect can read: whether it is met is not known.
type UnreadNeed struct {
	Subject model.Subject // what is needed
	Text    string        // who needs it and how it is written, a clause about the subject
}

// Unread are the needs that cannot be read, each once.
func (p *Packages) Unread() (all []UnreadNeed) {
	for _, subject := range p.Subjects {
		for _, pkg := range p.Of(subject) {
			for _, n := range pkg.Needs {
				if _, err := (version.Plain{}).ParseRange(n.Range); err == nil {
					continue
				}
				unread := UnreadNeed{n.Subject, fmt.Sprintf(
					"is needed by %s %s as %q, which is no range that can be read: whether that is met is not known", subject.Name, pkg.Version, n.Range,
				)}
				if !slices.Contains(all, unread) {
					all = append(all, unread)
				}
			}
		}
	}
	return all
}

// Demands are what the packages need: the strictest needs, each told of the
// package that the shortest way leads to.
func (p *Packages) Demands() []compat.Demand {
	type key struct {
		subject     model.Subject
		text        string
		advice      bool
		development bool
	}
	nearest := map[key]model.Package{}
	var order []key
	for _, subject := range p.Subjects {
		for _, pkg := range p.Of(subject) {
			for _, n := range pkg.Needs {
				k := key{n.Subject, n.Range, n.Advice, pkg.Development}
				known, seen := nearest[k]
				if !seen {
					order = append(order, k)
				}
				if !seen || len(pkg.Via) < len(known.Via) {
					nearest[k] = pkg
				}
			}
		}
	}
	var all []compat.Demand
	for _, k := range order {
		rng, err := version.Plain{}.ParseRange(k.text)
		if err != nil {
			continue // Unread tells of it
		}
		pkg := nearest[k]
		all = append(all, compat.Demand{
			By: pkg.Subject, Which: pkg.Version, Via: pkg.Via, Place: pkg.Site.String(), Advice: k.advice,
			Development: k.development,
			Need:        compat.Condition{Subject: k.subject, Text: k.text, Range: rng},
		})
	}
	return compat.Strictest(all, version.Plain{})
}
