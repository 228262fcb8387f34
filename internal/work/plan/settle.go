package plan

import (
	"errors"
	"fmt"

	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
	"bellwether/internal/core/version"
)

// settleFirst puts a leg before the first that goes to another major: no more
// deprecations of the project's own than a limit.
func (p *planner) settleFirst(legs []model.Leg, limit int) []model.Leg {
	for i, leg := range legs {
		for _, m := range leg.Moves {
			if !p.isMajor(leg, m) {
				continue
			}
			title := "no deprecations of our own left"
			if limit > 0 {
				title = fmt.Sprintf("at most %s of our own left", spelling.Count(limit, "deprecation", "deprecations"))
			}
			settle := model.Leg{ID: fmt.Sprintf("%d-settle", i+1), Title: title, Deprecations: &limit}
			return append(append(legs[:i:i], settle), legs[i:]...)
		}
	}
	return legs
}

// isMajor tells whether a move of a package goes to another major.
func (p *planner) isMajor(leg model.Leg, m model.Move) bool {
	part := p.tree.Part(leg.Component)
	if part == nil || m.Subject.IsPin() || m.From == "" || m.To == "" {
		return false
	}
	order := part.Eco.Order()
	from, err := order.Parse(m.From)
	to, err2 := order.Parse(m.To)
	return errors.Join(err, err2) == nil && order.Step(from, to) == version.Major && to.Compare(from) > 0
}
