package flat

import (
	"fmt"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
)

// Moves are what a state changes, in the words of routes.
type Moves struct {
	Moved   []model.Move // of requirements
	Carried []model.Move // of what only the lock names
	Down    []string     // what goes to an older version, as sentences
}

// Moves are what the state changes of a component. Key is what a requirement asks for; kind is
// that of the component's subjects.
func (r *Result) Moves(kind string, requirements []model.Requirement, key func(q model.Requirement) Key, order version.Order) *Moves {
	m := &Moves{}
	direct := map[Key]bool{}
	for _, q := range requirements {
		k := key(q)
		c := r.Of(k)
		if direct[k] || c == nil {
			continue
		}
		direct[k] = true
		if c.Version != q.Locked {
			m.Moved = append(m.Moved, model.Move{
				Subject: q.Subject, Name: q.Name, Place: k.Place, From: q.Locked, To: c.Version, Sites: []model.Site{q.Site},
			})
			m.down(c, order)
		}
	}
	for _, c := range slices.Concat(r.Chosen, r.Gone) {
		if !direct[c.Key] && c.Version != c.Was {
			m.Carried = append(
				m.Carried, model.Move{Subject: model.Subject{Kind: kind, Name: c.Key.Name}, Name: c.Key.String(), From: c.Was, To: c.Version},
			)
			m.down(&c, order)
		}
	}
	model.SortMoves(m.Carried)
	return m
}

// down tells of something that goes to an older version, and who wants that.
func (m *Moves) down(c *Chosen, order version.Order) {
	if c.Was == "" || c.Version == "" {
		return // it comes in or goes away
	}
	was, err := order.Parse(c.Was)
	is, ierr := order.Parse(c.Version)
	if err != nil || ierr != nil || is.Compare(was) >= 0 {
		return
	}
	text := fmt.Sprintf("%s goes down from %s to %s", c.Key, c.Was, c.Version)
	for i, a := range c.Askers {
		if i == 0 {
			text += ": "
		} else {
			text += ", "
		}
		text += fmt.Sprintf("%s asks for %s", a.By, a.Wants)
	}
	m.Down = append(m.Down, text)
}
