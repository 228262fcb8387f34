package ecosystem

import (
	"path"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
)

// Table is the ecosystems that are known.
type Table []Ecosystem

// Order is how versions of a kind of subjects are ordered, nil for a kind that is not known.
func (t Table) Order(kind string) version.Order {
	for _, eco := range t {
		if eco.Type() == kind {
			return eco.Order()
		}
	}
	if slices.Contains(model.PinKinds, kind) {
		return version.Plain{}
	}
	return nil
}

// Manifests are the names of all manifests, or patterns of them.
func (t Table) Manifests() (all []string) {
	for _, eco := range t {
		all = append(all, eco.Manifests()...)
	}
	return all
}

// IsManifest tells whether a file is a manifest of some ecosystem, by its name.
func (t Table) IsManifest(file string) bool { return matches(t.Manifests(), path.Base(file)) }
