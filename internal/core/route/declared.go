package route

import (
	"fmt"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
)

// Crossing is a declaration of which a state makes something else than what is said of it.
type Crossing struct {
	Name string
	Text string // a sentence without a full stop
}

// Crossings compares what is declared before and after a state with the moves that are said to make it. A declaration that
// goes down, or to another line, is to be one of the moves; where somebody named it, by name or by ID, those that go up come
// along.
func Crossings(
	order version.Order, before, after *model.Component, moves []model.Move, named func(r model.Requirement) bool,
) (found []Crossing) {
	is := map[model.DeclarationID]string{}
	for _, r := range after.Requirements {
		is[r.ID] = r.Locked
	}
	told := map[model.DeclarationID]bool{}
	for _, r := range before.Requirements {
		now := is[r.ID]
		from, ferr := order.Parse(r.Locked)
		to, terr := order.Parse(now)
		if told[r.ID] || r.Locked == now || r.Locked == "" || now == "" || ferr != nil || terr != nil {
			continue
		}
		told[r.ID] = true
		said := slices.ContainsFunc(moves, func(m model.Move) bool { return m.Says(r) && m.From == r.Locked && m.To == now })
		down, crosses := to.Compare(from) < 0, to.Line() != from.Line()
		if said && named(r) || !down && (!crosses || named(r)) {
			continue
		}
		way := "go to"
		if down {
			way = "go down to"
		}
		found = append(found, Crossing{
			r.Name, fmt.Sprintf("%s is at %s in %s, and would %s %s there", r.Name, r.Locked, r.Site, way, now),
		})
	}
	return found
}

// Unmoved are declarations that a state does not have where its moves say that they are. What may be apart may have stayed
// behind.
func Unmoved(after *model.Component, moves []model.Move, apart []string) (found []Crossing) {
	for _, m := range moves {
		elsewhere := func(o model.Move) bool { return o.Name == m.Name && o.To != m.To }
		if m.Subject.IsPin() || m.To == "" || m.Place == "" && (slices.Contains(apart, m.Name) || slices.ContainsFunc(moves, elsewhere)) {
			continue
		}
		said := m
		if m.Becomes != "" {
			said.Name = m.Becomes
		}
		for _, r := range after.Find(said.Key()) {
			if r.Fixed == "" && r.Locked != "" && r.Locked != m.To {
				found = append(found, Crossing{
					r.Name, fmt.Sprintf("%s is said to move to %s in %s, and would be at %s there", r.Name, m.To, r.Site, r.Locked),
				})
			}
		}
	}
	return found
}
