package resolving

import (
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/mediate"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/maven/graph"
	"bellwether/internal/ecosystem/mavenrepo"
)

// outrun is what a state teaches in which a package that moves runs ahead of its family: it asks for others of it that are
// released with it, and that the project's management holds lower. Ok is false where there is none, and for what was so before.
func outrun(moves []model.Move, was, is []graph.Tree) (l lesson, ok bool) {
	before := map[graph.Statement]bool{} // without the versions of who asks
	for _, t := range was {
		for _, a := range aheadIn(t) {
			before[graph.Statement{By: mediate.Module{Name: a.by.Name}, Name: a.held.Coords.String()}] = true
		}
	}
	for _, t := range is {
		for _, a := range aheadIn(t) {
			if before[graph.Statement{By: mediate.Module{Name: a.by.Name}, Name: a.held.Coords.String()}] {
				continue
			}
			root := a.by.Module // or what brings it
			if way := a.by.Statement.Way.Modules(); len(way) > 1 {
				root = way[1]
			}
			moved := slices.ContainsFunc(moves, func(m model.Move) bool { return m.Name == root.Name && m.To == root.Version })
			if moved && sameMinor(root.Version, a.by.Version) {
				return lesson{parts: []mediate.Module{root}, over: a.held.Version, why: fmt.Sprintf(
					"%s at its own version, which the project manages at %s", a.held.Coords, a.held.Version,
				)}, true
			}
		}
	}
	return l, false
}

// ahead is a package that asks for a newer one of its family than the project's management lets it have.
type ahead struct {
	by, held graph.Won
}

func aheadIn(t graph.Tree) (all []ahead) {
	for _, held := range t.Won {
		for _, by := range t.Won {
			asked := t.Overruled[graph.Statement{By: by.Module, Name: held.Name}]
			if asked != "" && mavenrepo.Compare(asked, held.Version) > 0 && !sameMinor(asked, held.Version) &&
				sameMinor(asked, by.Version) && kin(by.Coords, held.Coords) {
				all = append(all, ahead{by, held})
			}
		}
	}
	return all
}

// kin tells whether two packages are of one family: their groups are the same in the first three parts, or as a whole.
func kin(a, b mavenrepo.Coordinates) bool {
	const parts = 3
	x, y := strings.Split(a.Group, "."), strings.Split(b.Group, ".")
	return slices.Equal(x[:min(len(x), parts)], y[:min(len(y), parts)])
}

// sameMinor tells whether two versions differ in no more than what follows their minor one.
func sameMinor(a, b string) bool {
	x, xerr := version.Maven{}.Parse(a)
	y, yerr := version.Maven{}.Parse(b)
	return xerr == nil && yerr == nil && (version.Maven{}).Step(x, y) <= version.Patch
}
