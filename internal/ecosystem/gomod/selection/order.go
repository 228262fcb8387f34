package selection

import (
	"strings"

	versions "bellwether/internal/core/version"
)

// Order tells versions of modules, which start with "v", from releases of Go.
type Order struct{}

func dialect(text string) versions.Order {
	if strings.HasPrefix(text, "go") || text != "" && text[0] >= '0' && text[0] <= '9' {
		return versions.GoRelease{}
	}
	return versions.GoMod{}
}

// Parse reads a module version or a release of Go.
func (Order) Parse(text string) (versions.Version, error) { return dialect(text).Parse(text) }

// ParseRange reads a version query, of modules or of Go.
func (Order) ParseRange(text string) (versions.Range, error) {
	if text == "latest" {
		return AnyRelease{}, nil
	}
	return dialect(strings.TrimLeft(text, "<>=")).ParseRange(text)
}

// Step is the size of the step between two versions of one kind.
func (Order) Step(from, to versions.Version) versions.Reach {
	return dialect(from.String()).Step(from, to)
}

// Onward is the range of what may follow a version.
func (o Order) Onward(v versions.Version) string { return versions.LineOf(o, v) }

// Restate gives the new version.
func (Order) Restate(_ string, v versions.Version) string { return v.String() }

// AnyRelease holds every release, of a module as of Go.
type AnyRelease struct{}

func (AnyRelease) String() string { return "latest" }

func (AnyRelease) Contains(v versions.Version) bool { return !v.Preview() }

// Prunes tells whether a go.mod that states this Go lists all that is needed
// to build its module (since Go 1.17).
func Prunes(goVersion string) bool {
	return goVersion != "" && CompareGo(goVersion, "1.17") >= 0
}

// CompareGo orders releases of Go; what is none comes first.
func CompareGo(a, b string) int { return compareIn(versions.GoRelease{}, a, b) }

// CompareVersions orders versions of one path, "go" among them. None at all
// comes before all others.
func CompareVersions(path, a, b string) int {
	switch {
	case a == b:
		return 0
	case path == "go":
		return CompareGo(a, b)
	}
	return compareIn(versions.GoMod{}, a, b)
}

func compareIn(order versions.Order, a, b string) int {
	va, errA := order.Parse(a)
	vb, errB := order.Parse(b)
	switch {
	case errA != nil && errB != nil:
		return 0
	case errA != nil:
		return -1
	case errB != nil:
		return 1
	}
	return va.Compare(vb)
}
