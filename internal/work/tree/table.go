package tree

import (
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gem"
	"bellwether/internal/ecosystem/gomod"
	"bellwether/internal/ecosystem/maven"
	"bellwether/internal/ecosystem/npm"
)

// BuiltIn is the table of all ecosystems that are built in.
func BuiltIn() ecosystem.Table {
	return ecosystem.Table{npm.Ecosystem{}, gomod.Ecosystem{}, gem.Ecosystem{}, maven.Ecosystem{}}
}
