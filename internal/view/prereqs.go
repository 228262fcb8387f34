package view

import (
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/output"
	"bellwether/internal/core/spelling"
)

var verdictStyle = map[string]style{
	output.VerdictMet: good, output.VerdictRaise: warn, output.VerdictMove: warn, output.VerdictInstall: bad, output.VerdictBoth: bad,
	output.VerdictUnknown: bad, output.VerdictSwitch: bad,
}

// Prereqs shows what must be true first, as a table and as a tree.
func (o Out) Prereqs(r *output.Prereqs) error {
	d := &document{}
	what := "what is locked now"
	if len(r.Destination) > 0 {
		what = strings.Join(r.Destination, ", ")
	}
	if len(r.Rows) == 0 {
		if len(r.Notes) == 0 {
			d.add(line{plain("Nothing needs anything besides packages: %s.", what)})
		} else {
			d.add(line{plain("Nothing that is known needs anything besides packages: %s.", what)}, gap{})
		}
		for _, text := range r.Notes {
			d.add(line{plain("%s", text)})
		}
		if len(r.Unconfirmed) > 0 {
			d.add(gap{})
		}
		unconfirmed(d, r.Unconfirmed)
		return o.show("prereqs", r, d)
	}
	d.add(heading{count(len(r.Rows), "prerequisite", "prerequisites") + " of " + what, ""}, prereqGrid(r.Rows))
	var notes list
	for _, row := range r.Rows {
		for _, s := range row.Stated {
			if !s.Enough && row.Verdict != output.VerdictMet {
				text := fmt.Sprintf(": %s states %s", s.Place, s.Range)
				if s.Why != "" {
					text += ", which cannot be known: " + s.Why
				}
				notes = append(notes, line{span{row.Subject, warn}, plain("%s", text)})
			}
		}
		if row.Ended {
			text := " is past its end since " + row.Ends
			if row.Verdict == output.VerdictRaise || row.Verdict == output.VerdictBoth {
				text += "; --prefer supported takes the lowest that is not"
			}
			notes = append(notes, line{span{row.Subject + " " + row.Need, warn}, plain("%s", text)})
		}
		if row.Next != "" {
			notes = append(notes, line{span{"for you", bad}, plain(": %s", row.Next)})
		}
	}
	for _, n := range r.Notes {
		notes = append(notes, line{span{n, faint}})
	}
	if len(notes) > 0 {
		d.add(gap{}, notes)
	}
	d.add(gap{})
	unconfirmed(d, r.Unconfirmed)
	d.add(heading{"why", ""}, chainTree(r.Chain))
	return o.show("prereqs", r, d)
}

func prereqGrid(rows []output.Prereq) grid {
	g := grid{columns: []string{"subject", "stated", "needed", "to", "installed", ""}}
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
		g.rows = append(
			g.rows,
			line{
				plain("%s", r.Subject), span{r.Have, faint}, plain("%s", wants), span{to, strong}, span{installed, faint},
				span{r.Verdict, verdictStyle[r.Verdict]},
			},
		)
	}
	return g
}

// chainTree draws the needs as a tree: below each subject stands what it needs.
// What has been drawn is not drawn again.
func chainTree(links []output.ChainLink) tree {
	t := tree{}
	needed := map[string]bool{}
	for _, l := range links {
		needed[l.Need] = true
	}
	drawn := map[string]bool{}
	var below func(subject, indent string)
	below = func(subject, indent string) {
		ours := slices.DeleteFunc(slices.Clone(links), func(l output.ChainLink) bool { return subjectOf(l.By) != subject })
		for i, l := range ours {
			branch, next := "├─ ", "│  "
			if i == len(ours)-1 {
				branch, next = "└─ ", "   "
			}
			mark := span{"met", good}
			if !l.Holds {
				mark = span{"not yet", warn}
			}
			row := line{span{indent + branch, faint}, plain("needs %s %s  ", l.Need, l.Range), mark}
			if strings.HasPrefix(l.Range, "not ") {
				row[1] = plain("does not work with %s %s  ", l.Need, strings.TrimPrefix(l.Range, "not "))
			}
			row = append(row, span{"  " + reasonOf(l), faint})
			deeper := slices.ContainsFunc(links, func(o output.ChainLink) bool { return subjectOf(o.By) == l.Need })
			if deeper && drawn[l.Need] {
				row = append(row, span{" (see above)", faint})
			}
			t = append(t, row)
			if deeper && !drawn[l.Need] {
				drawn[l.Need] = true
				below(l.Need, indent+next)
			}
		}
	}
	root := func(by string) {
		subject := subjectOf(by)
		if !drawn[subject] {
			drawn[subject] = true
			t = append(t, line{span{by, strong}})
			below(subject, "")
		}
	}
	for _, holds := range []bool{false, true} { // what is not met comes first
		for _, l := range links {
			if !needed[subjectOf(l.By)] && l.Holds == holds {
				root(l.By)
			}
		}
	}
	for _, l := range links { // what only a circle leads to
		root(l.By)
	}
	return t
}

// subjectOf is the subject of "runtime/node 20".
func subjectOf(by string) string {
	subject, _, _ := strings.Cut(by, " ")
	return subject
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
	d := &document{}
	styles := map[string]style{"in force": good, "not yet": usual, "not here": faint, "never": warn}
	for i, b := range r.Books {
		if i > 0 {
			d.add(gap{})
		}
		note := b.Title
		if b.AsOf != "" {
			note += ", as of " + b.AsOf
		}
		d.add(heading{b.Book, note})
		if b.Releases > 0 {
			d.add(list{{plain("%s", count(b.Releases, "released line", "released lines"))}})
		}
		g := grid{columns: []string{"rule", "", "says", "here"}}
		for _, rule := range b.Rules {
			g.rows = append(
				g.rows, line{plain("%s", rule.ID), span{rule.Status, styles[rule.Status]}, plain("%s", rule.Says), span{rule.Why, faint}},
			)
		}
		if len(g.rows) > 0 {
			d.add(g)
		}
	}
	for _, n := range r.Notes {
		d.add(gap{}, line{span{n, warn}})
	}
	return o.show("books", r, d)
}

// BookCheck shows what is wrong with a book.
func (o Out) BookCheck(c *output.BookCheck) error {
	d := &document{}
	if len(c.Remarks) == 0 {
		d.add(line{span{"nothing is wrong", good}, plain(" with %s: %s", c.Book, count(c.Rules, "rule", "rules"))})
		return o.show("book-check", c, d)
	}
	d.add(
		heading{c.Book, fmt.Sprintf("%s, %s that can be read", count(len(c.Remarks), "mistake", "mistakes"), count(c.Rules, "rule", "rules"))},
	)
	for _, r := range c.Remarks {
		place := fmt.Sprintf("%s:%d", c.Book, r.Line)
		if r.Column > 0 {
			place += fmt.Sprintf(":%d", r.Column)
		}
		row := line{span{place, strong}, plain(": ")}
		if r.Rule != "" {
			row = append(row, plain("%s: ", r.Rule))
		}
		d.add(append(row, span{r.Text, bad}))
		if r.Next != "" {
			d.add(list{{plain("next: %s", r.Next)}})
		}
		if len(r.Lines) > 0 {
			d.add(code(r.Lines))
		}
		if len(r.Proof) > 0 {
			d.add(proofList(r.Proof))
		}
	}
	return o.show("book-check", c, d)
}
