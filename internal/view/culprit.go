package view

import (
	"fmt"
	"strings"

	"bellwether/internal/core/output"
	"bellwether/internal/core/spelling"
)

// Culprit shows which moves of a leg break something.
func (o Out) Culprit(r *output.CulpritResult) error {
	d := &document{}
	d.add(
		heading{
			"what breaks leg " + r.Leg,
			fmt.Sprintf("%s, %s in %.1f s", count(r.Moves, "move", "moves"), count(r.Trials, "trial", "trials"), r.Duration.Seconds()),
		},
		gap{},
	)
	for _, c := range r.Culprits {
		culpritSet(d, c)
	}
	for _, name := range r.Unstable {
		d.add(line{span{"unstable", warn}, plain(": %s failed and passed with the same moves; no move is to blame", name)})
	}
	if len(r.Culprits) == 0 && len(r.Unstable) == 0 && !r.Spent {
		d.add(line{plain("nothing that fails with the leg fails with a part of it")})
	}
	if n := len(r.Rest); n > 0 {
		d.add(line{span{"passes", good}, plain(": the other %s together (%s)", count(n, "move", "moves"), spelling.Few(r.Rest, 6))})
	}
	if r.Spent {
		d.add(line{span{"the budget is spent", warn}, plain(": what is told is what is known so far; the next call goes on from there")})
	}
	switch {
	case len(r.Parted) > 0:
		d.add(
			line{plain("the leg is taken back, and the route has two in its place: %s", strings.Join(r.Parted, ", "))},
			line{
				plain("next: "), span{"bellwether advance", strong},
				plain(" carries out the first; drop the second from .bellwether/route.yaml to hold it"),
			},
		)
	case len(r.Culprits) > 0 && len(r.Rest) > 0:
		d.add(
			line{
				plain("next: "), span{"bellwether culprit --part", strong},
				plain(" makes a leg of what passes, and another of the rest behind it; or repair what fails"),
			},
		)
	case len(r.Culprits) > 0:
		d.add(
			line{
				plain("next: repair what fails and run "), span{"bellwether advance", strong}, plain(", or take the leg back with "),
				span{"bellwether undo", strong},
			},
		)
	}
	return o.show("culprit", r, d)
}

func culpritSet(d *document, c output.CulpritSet) {
	g := grid{columns: []string{"package", "from", "to", ""}}
	row := func(m output.MoveSummary, note string) {
		g.rows = append(g.rows, line{plain("%s", m.Spoken()), span{cmpOr(m.From, "new"), faint}, span{m.To, bad}, span{note, faint}})
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
	var breaks list
	for _, b := range c.Breaks {
		breaks = append(breaks, line{plain("%s", b)})
	}
	d.add(line{span{title, bad}}, g, line{plain("breaks:")}, breaks, gap{})
}
