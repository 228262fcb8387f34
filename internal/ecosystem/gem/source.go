package gem

import (
	"strings"

	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gem/gemfile"
)

// IsSource tells whether a range asks for a repository.
func (Ecosystem) IsSource(rng string) bool { return strings.HasPrefix(rng, gemfile.SourceMark) }

// SourceRange is the range that asks for a ref of a repository.
func (Ecosystem) SourceRange(address, ref string) string {
	return gemfile.Repository{Address: strings.TrimPrefix(address, gemfile.SourceMark), At: ref}.String()
}

var _ ecosystem.Sourced = Ecosystem{}
