package tree

import (
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
)

// Part is a component with its ecosystem.
type Part struct {
	*model.Component
	Eco ecosystem.Ecosystem
	// ID is what results, routes and settings call it: its folder, or its manifest where its folder has several components.
	ID string
}

// In is the part as it is in another state of the project's files.
func (p *Part) In(files *ecosystem.Index) (*Part, error) {
	c, err := ecosystem.Read(p.Eco, files, p.Dir)
	if err != nil {
		return nil, err
	}
	return &Part{Component: c, Eco: p.Eco, ID: p.ID}, nil
}

// Called tells whether a name is the component's: its ID, or its folder, which may be that of others, too.
func (p *Part) Called(name string) bool { return name == p.ID || name == p.Dir }

// Has tells whether a package is in effect in the component, or required by it.
func (p *Part) Has(name string) bool {
	return p.Declares(name) ||
		slices.ContainsFunc(p.Eco.Packages(p.Component), func(pkg model.Package) bool { return pkg.Subject.Name == name })
}

// IsSource tells whether what a manifest asks for is a repository, and no range of releases.
func (p *Part) IsSource(rng string) bool {
	eco, ok := p.Eco.(ecosystem.Sourced)
	return ok && eco.IsSource(rng)
}

// CanOverride tells whether the component's manifest can say what a package gets of another.
func (p *Part) CanOverride() bool {
	eco, ok := p.Eco.(ecosystem.Overrider)
	return ok && eco.CanOverride(p.Component)
}

// states tells whether the component requires a subject itself, so that its ecosystem
// moves it.
func (p *Part) states(s model.Subject) bool {
	return slices.ContainsFunc(p.Requirements, func(r model.Requirement) bool { return r.Subject == s })
}

// Version reads a version of the component's packages as people write it: in short ("5", "5.1"),
// and without the "v" that other versions there begin with.
func (p *Part) Version(text string) (version.Version, error) {
	prefixed := slices.ContainsFunc(p.Requirements, func(r model.Requirement) bool { return strings.HasPrefix(r.Locked, "v") })
	if prefixed && !strings.HasPrefix(text, "v") {
		text = "v" + text
	}
	return version.Complete(p.Eco.Order(), text)
}
