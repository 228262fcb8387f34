package tree

import (
	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
)

// packages are those in effect, as far as the files tell.
type packages struct {
	of    map[model.Subject][]model.Package
	order []model.Subject // as they come
}

func packagesOf(parts []*Part) *packages {
	p := &packages{of: map[model.Subject][]model.Package{}}
	for _, part := range parts {
		for _, pkg := range part.Eco.Packages(part.Component) {
			if p.of[pkg.Subject] == nil {
				p.order = append(p.order, pkg.Subject)
			}
			p.of[pkg.Subject] = append(p.of[pkg.Subject], pkg)
		}
	}
	return p
}

// Subjects are all packages in effect, as they come.
func (t *Tree) Subjects() []model.Subject { return t.packages().order }

// Packages are the copies of a package that are in effect.
func (t *Tree) Packages(s model.Subject) []model.Package { return t.packages().of[s] }

// World is the packages in effect as a question wants them.
func (t *Tree) World() compat.World {
	w := compat.World{}
	for subject, all := range t.packages().of {
		order := Order(subject.Kind)
		for _, pkg := range all {
			if v, err := order.Parse(pkg.Version); err == nil {
				w[subject] = append(w[subject], v)
			}
		}
	}
	return w
}

// Demands are what the packages in effect need: the strictest needs, each told of the
// package that the shortest way leads to.
func (t *Tree) Demands() []compat.Demand {
	type key struct {
		subject model.Subject
		text    string
		advice  bool
	}
	nearest := map[key]model.Package{}
	var order []key
	for _, subject := range t.Subjects() {
		for _, pkg := range t.Packages(subject) {
			for _, n := range pkg.Needs {
				k := key{n.Subject, n.Range, n.Advice}
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
			continue // some state what nobody can read
		}
		pkg := nearest[k]
		all = append(all, compat.Demand{
			By: pkg.Subject, Which: pkg.Version, Via: pkg.Via, Place: pkg.Site.String(), Advice: k.advice,
			Need: compat.Condition{Subject: k.subject, Text: k.text, Range: rng},
		})
	}
	return compat.Strictest(all, version.Plain{})
}
