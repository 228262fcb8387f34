package tree

import (
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gomod"
	"bellwether/internal/ecosystem/npm"
)

// Ecosystems is the table of all that are built in.
func Ecosystems() []ecosystem.Ecosystem {
	return []ecosystem.Ecosystem{npm.Ecosystem{}, gomod.Ecosystem{}}
}

// Order is how versions of a kind of subjects are ordered, nil for a kind that is not known.
func Order(kind string) version.Order {
	for _, eco := range Ecosystems() {
		if eco.Type() == kind {
			return eco.Order()
		}
	}
	if slices.Contains(model.PinKinds, kind) {
		return version.Plain{}
	}
	return nil
}
