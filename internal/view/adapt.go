package view

import (
	"fmt"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
	"bellwether/internal/view/doc"
)

// shownDiff is how many lines of a diff are shown where not all are asked for.
const shownDiff = 120

// Adapt shows what rules do, or would do. All shows the whole diff.
func (o Out) Adapt(r *model.AdaptResult, all bool) error {
	d := &doc.Document{}
	title := "repairs by rules"
	note := ""
	if len(r.For) > 0 {
		note = "for " + spelling.Few(r.For, 3)
	}
	d.Add(doc.Heading{Title: title, Note: note})
	if len(r.Rules) == 0 {
		d.Add(doc.Line{doc.Plain("no rule of a compat book is for these moves")})
		if len(r.Keys) > 0 {
			d.Add(doc.Gap{})
		}
		keyFindings(d, r.Keys)
		return o.show("adapt", r, d)
	}
	repairTable(d, r.Rules)
	repairLeft(d, r.Rules, all)
	keyFindings(d, r.Keys)
	if len(r.Overlaps) > 0 {
		d.Add(doc.Heading{Title: "changed by two rules", Note: "the second one sees what the first one wrote"})
		var rows doc.List
		for _, x := range r.Overlaps {
			rows = append(rows, doc.Line{doc.Strong(x.Place), doc.Plain(": %s, then %s", x.First, x.Second)})
		}
		d.Add(some(rows, all), doc.Gap{})
	}
	if len(r.Skipped) > 0 {
		d.Add(doc.Heading{Title: "left alone", Note: "a rule may be about these files"})
		d.Add(some(leftRows(r.Skipped), all), doc.Gap{})
	}
	if r.Diff != "" {
		lines := strings.Split(strings.TrimRight(r.Diff, "\n"), "\n")
		if more := len(lines) - shownDiff; more > 20 && !all {
			upTo := shownDiff
			for at := 1; at <= shownDiff; at++ { // whole files, if the first is not longer
				if strings.HasPrefix(lines[at], "--- ") {
					upTo = at
				}
			}
			more = len(lines) - upTo
			d.Add(doc.Diff(lines[:upTo]), doc.Line{doc.Faint(fmt.Sprintf("… and %s; --all shows them", doc.Count(more, "line", "lines")))})
		} else {
			d.Add(doc.Diff(lines))
		}
		d.Add(doc.Gap{})
	}
	files, places := totals(r.Rules)
	for _, one := range r.Rules {
		if one.Refused != "" {
			d.Add(doc.Line{doc.Bad("not applied"), doc.Plain(": the rule %s, since %s", one.Rule, one.Refused)})
		}
	}
	switch {
	case r.Applied && files > 0:
		d.Add(
			doc.Line{
				doc.Good("done"),
				doc.Plain(
					": %s in %s; look at it with git diff, and commit it; bellwether undo takes it back",
					doc.Count(places, "place", "places"),
					doc.Count(files, "file", "files"),
				),
			},
		)
	case r.Applied:
		d.Add(doc.Line{doc.Good("done"), doc.Plain(": no file had to change")})
	case files > 0:
		d.Add(
			doc.Line{doc.Plain(
				"nothing is written yet: %s in %s would change", doc.Count(places, "place", "places"), doc.Count(files, "file", "files"),
			)},
			doc.Line{
				doc.Plain("next: "),
				doc.Strong("bellwether adapt --apply"),
				doc.Plain(" with the same options does it; a leg does it by itself"),
			},
		)
	default:
		d.Add(doc.Line{doc.Plain("no file has to change")})
	}
	return o.show("adapt", r, d)
}

// keyFindings are keys that nobody reads any more, and those that are missing.
func keyFindings(d *doc.Document, all []model.KeyFinding) {
	if len(all) == 0 {
		return
	}
	d.Add(doc.Heading{Title: "keys of configuration", Note: "that the new versions do not read, or miss"})
	var rows doc.List
	for _, k := range all {
		rows = append(rows, doc.Line{doc.Warn(k.String())})
		if k.Repair != "" {
			rows = append(rows, doc.Line{doc.Plain("  rule %s would move it: ", k.Repair), doc.Strong("bellwether adapt --only " + k.Repair)})
		}
	}
	d.Add(rows, doc.Gap{})
}

// totals counts the files and places that rules change.
func totals(rules []model.RepairResult) (files, places int) {
	seen := map[string]bool{}
	for _, r := range rules {
		places += len(r.Places)
		for _, f := range r.Files {
			seen[f] = true
		}
	}
	return len(seen), places
}

// repairTable is a row a rule; those that find nothing come last, by name only.
func repairTable(d *doc.Document, rules []model.RepairResult) {
	g := doc.Grid{Columns: []string{"rule", "files", "places", "left", "what it does"}}
	var idle []string
	for _, r := range rules {
		if len(r.Files) == 0 && len(r.Left) == 0 && r.Waits+r.Refused == "" {
			idle = append(idle, r.Rule)
			continue
		}
		left := doc.Span{}
		if n := len(r.Left); n > 0 {
			left = doc.Warn(fmt.Sprint(n))
		}
		says := r.Says
		if r.Waits != "" {
			says += "; " + r.Waits
		}
		if r.Refused != "" {
			says += "; not applied"
		}
		g.Row(doc.Strong(r.Rule), doc.Plain("%d", len(r.Files)), doc.Plain("%d", len(r.Places)), left, doc.Usual(says))
	}
	if len(g.Rows) > 0 {
		d.Add(g)
	}
	if len(idle) > 0 {
		d.Add(doc.Line{doc.Faint("  nothing to do here: " + spelling.Few(idle, 30))})
	}
	d.Add(doc.Gap{})
}

// repairLeft are the places that rules are about and do not change.
func repairLeft(d *doc.Document, rules []model.RepairResult, all bool) {
	var rows doc.List
	for _, r := range rules {
		for _, l := range r.Left {
			rows = append(rows, doc.Line{doc.Strong(l.Place), doc.Plain(": %s", l.Reason), doc.Faint(" (" + r.Rule + ")")})
		}
	}
	if len(rows) > 0 {
		d.Add(doc.Heading{Title: "left for you", Note: ""}, some(rows, all), doc.Gap{})
	}
}

// shownRows is how many rows of a list are shown where not all are asked for.
const shownRows = 100

// some are the first rows of a long list, with the number of the others.
func some(rows doc.List, all bool) doc.List {
	if more := len(rows) - shownRows; more > 20 && !all {
		return append(rows[:shownRows:shownRows], doc.Line{doc.Faint(fmt.Sprintf("… and %d more; --all shows them", more))})
	}
	return rows
}

func leftRows(all []model.RepairLeft) (rows doc.List) {
	for _, l := range all {
		rows = append(rows, doc.Line{doc.Strong(l.Place), doc.Plain(": %s", l.Reason)})
	}
	return rows
}

// ToDos shows what is left to be done.
func (o Out) ToDos(r *model.ToDosResult) error {
	d := &doc.Document{}
	if len(r.ToDos) == 0 {
		d.Add(doc.Line{doc.Plain("nothing is left to be done")})
		return o.show("todos", r, d)
	}
	toDos(d, r.ToDos)
	d.Add(doc.Line{doc.Plain("next: "), doc.Strong("bellwether todo done ID"), doc.Plain(" takes out what is done")})
	return o.show("todos", r, d)
}

func toDos(d *doc.Document, all []model.ToDoResult) {
	if len(all) == 0 {
		return
	}
	g := doc.Grid{Columns: []string{"to do", "where", "", "what"}}
	for _, t := range all {
		from := ""
		if t.From != "" {
			from = " (" + t.From + ")"
		}
		state, shade := "", doc.StyleUsual
		switch t.State {
		case model.ToDoMoved:
			state, shade = "the line moved", doc.StyleFaint
		case model.ToDoChanged:
			state, shade = "the line changed: is it done?", doc.StyleWarn
		case model.ToDoGone:
			state, shade = "the file is gone: is it done?", doc.StyleWarn
		}
		g.Row(doc.Strong(t.ID), doc.Usual(t.Place), doc.Styled(state, shade), doc.Plain("%s%s", t.Text, from))
	}
	d.Add(g, doc.Gap{})
}
