package view

import (
	"cmp"
	"fmt"
	"strings"

	"bellwether/internal/core/output"
	"bellwether/internal/core/spelling"
	"bellwether/internal/view/doc"
)

// Culprit shows which moves of a leg break something.
func (o Out) Culprit(r *output.CulpritResult) error {
	d := &doc.Document{}
	d.Add(
		doc.Heading{
			Title: "what breaks leg " + r.Leg,
			Note: fmt.Sprintf(
				"%s, %s in %.1f s", doc.Count(r.Moves, "move", "moves"), doc.Count(r.Trials, "trial", "trials"), r.Duration.Seconds(),
			),
		},
		doc.Gap{},
	)
	for _, c := range r.Culprits {
		culpritSet(d, c)
	}
	for _, name := range r.Unstable {
		d.Add(doc.Line{doc.Warn("unstable"), doc.Plain(": %s failed and passed with the same moves; no move is to blame", name)})
	}
	if len(r.Culprits) == 0 && len(r.Unstable) == 0 && !r.Spent {
		d.Add(doc.Line{doc.Plain("nothing that fails with the leg fails with a part of it")})
	}
	if n := len(r.Rest); n > 0 {
		d.Add(doc.Line{doc.Good("passes"), doc.Plain(": the other %s together (%s)", doc.Count(n, "move", "moves"), spelling.Few(r.Rest, 6))})
	}
	if r.Spent {
		d.Add(doc.Line{doc.Warn("the budget is spent"), doc.Plain(": what is told is what is known so far; the next call goes on from there")})
	}
	switch {
	case len(r.Parted) > 0:
		d.Add(
			doc.Line{doc.Plain("the leg is taken back, and the route has two in its place: %s", strings.Join(r.Parted, ", "))},
			doc.Line{
				doc.Plain("next: "), doc.Strong("bellwether advance"),
				doc.Plain(" carries out the first; drop the second from .bellwether/route.yaml to hold it"),
			},
		)
	case len(r.Culprits) > 0 && len(r.Rest) > 0:
		d.Add(
			doc.Line{
				doc.Plain("next: "), doc.Strong("bellwether culprit --part"),
				doc.Plain(" makes a leg of what passes, and another of the rest behind it; or repair what fails"),
			},
		)
	case len(r.Culprits) > 0:
		d.Add(
			doc.Line{
				doc.Plain("next: repair what fails and run "), doc.Strong("bellwether advance"), doc.Plain(", or take the leg back with "),
				doc.Strong("bellwether undo"),
			},
		)
	}
	return o.show("culprit", r, d)
}

func culpritSet(d *doc.Document, c output.CulpritSet) {
	g := doc.Grid{Columns: []string{"package", "from", "to", ""}}
	row := func(m output.MoveSummary, note string) {
		g.Row(doc.Usual(m.Spoken()), doc.Faint(cmp.Or(m.From, "new")), doc.Bad(m.To), doc.Faint(note))
	}
	for _, m := range c.Moves {
		note := ""
		if c.Fails != "" && c.Passes != "" {
			note = fmt.Sprintf("%s passes, %s fails", c.Passes, c.Fails)
		}
		row(m, note)
	}
	for _, m := range c.With {
		row(m, "moves along, and does not break it by itself")
	}
	title := "culprit"
	if !c.Certain {
		title = "the culprit is among these"
	} else if len(c.Moves) > 1 {
		title = "culprit: these together"
	}
	var breaks doc.List
	for _, b := range c.Breaks {
		breaks = append(breaks, doc.Line{doc.Usual(b)})
	}
	d.Add(doc.Line{doc.Bad(title)}, g, doc.Line{doc.Plain("breaks:")}, breaks, doc.Gap{})
}
