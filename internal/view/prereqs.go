package view

import (
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/output"
	"bellwether/internal/core/spelling"
	"bellwether/internal/view/doc"
	"bellwether/internal/view/drawing"
)

var verdictStyle = map[string]doc.Style{
	output.VerdictMet: doc.StyleGood, output.VerdictRaise: doc.StyleWarn, output.VerdictMove: doc.StyleWarn,
	output.VerdictInstall: doc.StyleBad, output.VerdictBoth: doc.StyleBad,
	output.VerdictUnknown: doc.StyleBad, output.VerdictSwitch: doc.StyleBad,
}

// Prereqs shows what must be true first, as a table and as a tree.
func (o Out) Prereqs(r *output.Prereqs) error {
	d := &doc.Document{}
	what := "what is locked now"
	if len(r.Destination) > 0 {
		what = strings.Join(r.Destination, ", ")
	}
	if len(r.Rows) == 0 {
		if len(r.Notes) == 0 {
			d.Add(doc.Line{doc.Plain("Nothing needs anything besides packages: %s.", what)})
		} else {
			d.Add(doc.Line{doc.Plain("Nothing that is known needs anything besides packages: %s.", what)}, doc.Gap{})
		}
		for _, text := range r.Notes {
			d.Add(doc.Line{doc.Usual(text)})
		}
		if len(r.Unconfirmed) > 0 {
			d.Add(doc.Gap{})
		}
		unconfirmed(d, r.Unconfirmed)
		return o.show("prereqs", r, d)
	}
	d.Add(doc.Heading{Title: doc.Count(len(r.Rows), "prerequisite", "prerequisites") + " of " + what, Note: ""}, prereqGrid(r.Rows))
	var notes doc.List
	for _, row := range r.Rows {
		for _, s := range row.Stated {
			if !s.Enough && row.Verdict != output.VerdictMet {
				text := fmt.Sprintf(": %s states %s", s.Place, s.Range)
				if s.Why != "" {
					text += ", which cannot be known: " + s.Why
				}
				notes = append(notes, doc.Line{doc.Warn(row.Subject), doc.Usual(text)})
			}
		}
		if row.Ended {
			text := " is past its end since " + row.Ends
			if row.Verdict == output.VerdictRaise || row.Verdict == output.VerdictBoth {
				text += "; --prefer supported takes the lowest that is not"
			}
			notes = append(notes, doc.Line{doc.Warn(row.Subject + " " + row.Need), doc.Usual(text)})
		}
		if row.Next != "" {
			notes = append(notes, doc.Line{doc.Bad("for you"), doc.Plain(": %s", row.Next)})
		}
	}
	for _, n := range r.Notes {
		notes = append(notes, doc.Line{doc.Faint(n)})
	}
	if len(notes) > 0 {
		d.Add(doc.Gap{}, notes)
	}
	d.Add(doc.Gap{})
	unconfirmed(d, r.Unconfirmed)
	d.Add(doc.Heading{Title: "why", Note: ""}, chainTree(r.Chain))
	return o.show("prereqs", r, d)
}

func prereqGrid(rows []output.Prereq) doc.Grid {
	g := doc.Grid{Columns: []string{"subject", "stated", "needed", "to", "installed", ""}}
	for _, r := range rows {
		wants := spelling.Few(r.Wants, 2)
		installed := ""
		if len(r.Installed) > 0 {
			installed = r.Installed[0]
			if n := len(r.Installed) - 1; n > 0 {
				installed += fmt.Sprintf(" (and %d more)", n)
			}
		}
		to := r.Need
		if r.Verdict == output.VerdictMet {
			to = ""
		}
		g.Row(
			doc.Usual(r.Subject), doc.Faint(r.Have), doc.Usual(wants), doc.Strong(to), doc.Faint(installed),
			doc.Styled(r.Verdict, verdictStyle[r.Verdict]),
		)
	}
	return g
}

// chainTree draws the needs as a tree: below each subject stands what it needs.
// What has been drawn is not drawn again.
func chainTree(links []output.ChainLink) doc.Tree {
	t := doc.Tree{}
	needed := map[string]bool{}
	for _, l := range links {
		needed[l.Need] = true
	}
	drawn := map[string]bool{}
	var below func(subject, indent string)
	below = func(subject, indent string) {
		ours := slices.DeleteFunc(slices.Clone(links), func(l output.ChainLink) bool { return drawing.SubjectOf(l.By) != subject })
		for i, l := range ours {
			branch, next := "├─ ", "│  "
			if i == len(ours)-1 {
				branch, next = "└─ ", "   "
			}
			mark := doc.Good("met")
			if !l.Holds {
				mark = doc.Warn("not yet")
			}
			row := doc.Line{doc.Faint(indent + branch), doc.Plain("needs %s %s  ", l.Need, l.Range), mark}
			if strings.HasPrefix(l.Range, "not ") {
				row[1] = doc.Plain("does not work with %s %s  ", l.Need, strings.TrimPrefix(l.Range, "not "))
			}
			row = append(row, doc.Faint("  "+reasonOf(l)))
			deeper := slices.ContainsFunc(links, func(o output.ChainLink) bool { return drawing.SubjectOf(o.By) == l.Need })
			if deeper && drawn[l.Need] {
				row = append(row, doc.Faint(" (see above)"))
			}
			t = append(t, row)
			if deeper && !drawn[l.Need] {
				drawn[l.Need] = true
				below(l.Need, indent+next)
			}
		}
	}
	root := func(by string) {
		subject := drawing.SubjectOf(by)
		if !drawn[subject] {
			drawn[subject] = true
			t = append(t, doc.Line{doc.Strong(by)})
			below(subject, "")
		}
	}
	for _, holds := range []bool{false, true} { // what is not met comes first
		for _, l := range links {
			if !needed[drawing.SubjectOf(l.By)] && l.Holds == holds {
				root(l.By)
			}
		}
	}
	for _, l := range links { // what only a circle leads to
		root(l.By)
	}
	return t
}

func reasonOf(l output.ChainLink) string {
	var parts []string
	if l.Rule != "" {
		parts = append(parts, fmt.Sprintf("%s (%s)", strings.TrimSuffix(l.Because, "."), l.Place))
	} else {
		parts = append(parts, fmt.Sprintf("as it states (%s)", l.Place))
	}
	if l.With != "" {
		parts = append(parts, l.With)
	}
	return strings.Join(parts, ", ")
}

// Books shows the compat books and their rules.
func (o Out) Books(r *output.BooksResult) error {
	d := &doc.Document{}
	styles := map[string]doc.Style{"in force": doc.StyleGood, "not yet": doc.StyleUsual, "not here": doc.StyleFaint, "never": doc.StyleWarn}
	for i, b := range r.Books {
		if i > 0 {
			d.Add(doc.Gap{})
		}
		note := b.Title
		if b.AsOf != "" {
			note += ", as of " + b.AsOf
		}
		d.Add(doc.Heading{Title: b.Book, Note: note})
		if b.Releases > 0 {
			d.Add(doc.List{{doc.Usual(doc.Count(b.Releases, "released line", "released lines"))}})
		}
		g, elsewhere := doc.Grid{Columns: []string{"rule", "", "says", "here"}}, 0
		for _, rule := range b.Rules {
			if b.Ships && rule.Status != "in force" && rule.Status != "not yet" {
				elsewhere++
				continue
			}
			g.Row(doc.Usual(rule.ID), doc.Styled(rule.Status, styles[rule.Status]), doc.Usual(rule.Says), doc.Faint(rule.Why))
		}
		if len(g.Rows) > 0 {
			d.Add(g)
		}
		if elsewhere > 0 {
			d.Add(doc.List{{doc.Faint(doc.Count(elsewhere, "rule", "rules") + " about what is not in this project")}})
		}
	}
	for _, n := range r.Notes {
		d.Add(doc.Gap{}, doc.Line{doc.Warn(n)})
	}
	return o.show("books", r, d)
}

// BookCheck shows what is wrong with a book.
func (o Out) BookCheck(c *output.BookCheck) error {
	d := &doc.Document{}
	if len(c.Remarks) == 0 {
		d.Add(doc.Line{doc.Good("nothing is wrong"), doc.Plain(" with %s: %s", c.Book, doc.Count(c.Rules, "rule", "rules"))})
		return o.show("book-check", c, d)
	}
	d.Add(
		doc.Heading{
			Title: c.Book,
			Note: fmt.Sprintf(
				"%s, %s that can be read", doc.Count(len(c.Remarks), "mistake", "mistakes"), doc.Count(c.Rules, "rule", "rules"),
			),
		},
	)
	for _, r := range c.Remarks {
		place := fmt.Sprintf("%s:%d", c.Book, r.Line)
		if r.Column > 0 {
			place += fmt.Sprintf(":%d", r.Column)
		}
		row := doc.Line{doc.Strong(place), doc.Plain(": ")}
		if r.Rule != "" {
			row = append(row, doc.Plain("%s: ", r.Rule))
		}
		d.Add(append(row, doc.Bad(r.Text)))
		if r.Next != "" {
			d.Add(doc.List{{doc.Plain("next: %s", r.Next)}})
		}
		if len(r.Lines) > 0 {
			d.Add(doc.Code(r.Lines))
		}
		if len(r.Proof) > 0 {
			d.Add(proofList(r.Proof))
		}
	}
	return o.show("book-check", c, d)
}
