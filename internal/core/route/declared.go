package route

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
)

// declaration is the place of a requirement, as far as it stays the same while versions change: the same package may be
// declared in many places.
type declaration struct {
	name, file, group string
	nth               int // among those of the same name in the group of the file
}

// declared are the requirements of a component by their places, in their order.
func declared(c *model.Component) (order []declaration, all map[declaration]model.Requirement) {
	all = map[declaration]model.Requirement{}
	for _, r := range c.Requirements {
		at := declaration{name: r.Name, file: r.Site.File, group: r.Group}
		for _, taken := all[at]; taken; _, taken = all[at] {
			at.nth++
		}
		all[at] = r
		order = append(order, at)
	}
	return order, all
}

// Apart are the names that a component declares at versions of several lines, in places that can move, with a sentence that
// tells those places: what is right for one of them is not for another.
func Apart(order version.Order, c *model.Component) map[string]string {
	lines, places := map[string]map[string]bool{}, map[string][]string{}
	for _, r := range c.Requirements {
		v, err := order.Parse(r.Locked)
		if r.Locked == "" || r.Fixed != "" || err != nil {
			continue
		}
		if lines[r.Name] == nil {
			lines[r.Name] = map[string]bool{}
		}
		if !lines[r.Name][v.Line()] {
			lines[r.Name][v.Line()] = true
			places[r.Name] = append(places[r.Name], fmt.Sprintf("%s (%s)", r.Locked, r.Site))
		}
	}
	apart := map[string]string{}
	for name, all := range places {
		if len(all) > 1 {
			apart[name] = fmt.Sprintf("%s is at %s and %s", name, strings.Join(all[:len(all)-1], ", "), all[len(all)-1])
		}
	}
	return apart
}

// LeftApart tells of packages that a component declares at versions of several lines, and that no reach moves therefore.
func (p *Plan) LeftApart(c *model.Component) (notices []string) {
	apart := Apart(p.Order, c)
	for _, name := range slices.Sorted(maps.Keys(apart)) {
		if !slices.ContainsFunc(p.Subjects, func(s *Subject) bool { return s.Name == name }) {
			notices = append(notices, fmt.Sprintf(
				"%s: a reach does not move what is declared at versions this far apart; --to %s@RANGE brings the places together", apart[name], name,
			))
		}
	}
	return notices
}

// Crossing is a declaration of which a state makes something else than what is said of it.
type Crossing struct {
	Name string
	Text string // a sentence without a full stop
}

// Crossings compares what is declared before and after a state with the moves that are said to make it. A declaration that
// goes down, or to another line, is to be one of the moves; where somebody named the package, those that go up come along.
func Crossings(
	order version.Order, before, after *model.Component, moves []model.Move, named func(name string) bool,
) (found []Crossing) {
	places, was := declared(before)
	_, is := declared(after)
	for _, at := range places {
		old, now := was[at], is[at]
		from, ferr := order.Parse(old.Locked)
		to, terr := order.Parse(now.Locked)
		if old.Locked == now.Locked || old.Locked == "" || now.Locked == "" || ferr != nil || terr != nil {
			continue
		}
		said := slices.ContainsFunc(moves, func(m model.Move) bool { return m.Name == at.name && m.From == old.Locked && m.To == now.Locked })
		down, crosses := to.Compare(from) < 0, to.Line() != from.Line()
		if said && named(at.name) || !down && (!crosses || named(at.name)) {
			continue
		}
		way := "go to"
		if down {
			way = "go down to"
		}
		found = append(found, Crossing{
			at.name, fmt.Sprintf("%s is at %s in %s, and would %s %s there", at.name, old.Locked, old.Site, way, now.Locked),
		})
	}
	return found
}
