package resolving

import (
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/mediate"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/maven/graph"
	"bellwether/internal/ecosystem/maven/linked"
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
			root := rootOf(a.by)
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

// starved is what a state teaches in which a package that moves asks for a newer one than it gets, and refers to what that one
// lacks. Which of its releases do not is known when they are tried.
func starved(moves []model.Move, is []graph.Tree, short []linked.Short) (l lesson, ok bool) {
	for _, t := range is {
		won := map[string]graph.Won{} // "pier:quay 2.0"
		for _, w := range t.Won {
			won[w.Coords.String()+" "+w.Version] = w
		}
		for _, s := range short {
			by, here := won[s.By]
			held, there := won[s.Of]
			if !here || !there {
				continue
			}
			asked := t.Overruled[graph.Statement{By: by.Module, Name: held.Name}]
			for _, lost := range held.Lost {
				if way := lost.Statement.Way.Modules(); len(way) > 0 && way[len(way)-1] == by.Module {
					asked = lost.Version
				}
			}
			root := rootOf(by)
			moved := slices.ContainsFunc(moves, func(m model.Move) bool { return m.Name == root.Name && m.To == root.Version })
			if moved && asked != "" && mavenrepo.Compare(asked, held.Version) > 0 {
				return lesson{parts: []mediate.Module{root}, minor: true, why: fmt.Sprintf(
					"classes of %s %s, of which the project gets %s", held.Coords, asked, held.Version,
				)}, true
			}
		}
	}
	return l, false
}

// rootOf is the requirement that brings a package: itself, or what leads to it.
func rootOf(w graph.Won) mediate.Module {
	if way := w.Statement.Way.Modules(); len(way) > 1 {
		return way[1]
	}
	return w.Module
}

// ahead is a package that asks for a newer one of its family than the project's management lets it have.
type ahead struct {
	by, held graph.Won
}

func aheadIn(t graph.Tree) (all []ahead) {
	asks := map[mediate.Module][]string{} // what is overruled of each
	for said := range t.Overruled {
		asks[said.By] = append(asks[said.By], said.Name)
	}
	won := map[string]graph.Won{}
	for _, w := range t.Won {
		won[w.Name] = w
	}
	for _, by := range t.Won {
		for _, name := range slices.Sorted(slices.Values(asks[by.Module])) {
			asked, held := t.Overruled[graph.Statement{By: by.Module, Name: name}], won[name]
			if held.Won != nil && mavenrepo.Compare(asked, held.Version) > 0 && !sameMinor(asked, held.Version) &&
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
