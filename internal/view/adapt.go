package view

import (
	"fmt"
	"io"
	"strings"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
)

// diff is a unified diff.
type diff []string

// lineStyle is the meaning of a line of a diff.
func lineStyle(l string) style {
	switch {
	case strings.HasPrefix(l, "--- "), strings.HasPrefix(l, "+++ "):
		return strong
	case strings.HasPrefix(l, "@@"):
		return faint
	case strings.HasPrefix(l, "+"):
		return good
	case strings.HasPrefix(l, "-"):
		return bad
	}
	return usual
}

func (x diff) text(w io.Writer, p palette) {
	for _, l := range x {
		fmt.Fprintln(w, p.paint(span{l, lineStyle(l)}))
	}
}

func (x diff) markdown(w io.Writer) { fmt.Fprintln(w, harmless.Fenced(x)) }

// shownDiff is how many lines of a diff are shown where not all are asked for.
const shownDiff = 120

// Adapt shows what rules do, or would do. All shows the whole diff.
func (o Out) Adapt(r *model.AdaptResult, all bool) error {
	d := &document{}
	title := "repairs by rules"
	note := ""
	if len(r.For) > 0 {
		note = "for " + spelling.Few(r.For, 3)
	}
	d.add(heading{title, note})
	if len(r.Rules) == 0 {
		d.add(line{plain("no rule of a compat book is for these moves")})
		if len(r.Keys) > 0 {
			d.add(gap{})
		}
		keyFindings(d, r.Keys)
		return o.show("adapt", r, d)
	}
	repairTable(d, r.Rules)
	repairLeft(d, r.Rules, all)
	keyFindings(d, r.Keys)
	if len(r.Overlaps) > 0 {
		d.add(heading{"changed by two rules", "the second one sees what the first one wrote"})
		var rows list
		for _, x := range r.Overlaps {
			rows = append(rows, line{span{x.Place, strong}, plain(": %s, then %s", x.First, x.Second)})
		}
		d.add(some(rows, all), gap{})
	}
	if len(r.Skipped) > 0 {
		d.add(heading{"left alone", "a rule may be about these files"})
		d.add(some(leftRows(r.Skipped), all), gap{})
	}
	if r.Diff != "" {
		lines := strings.Split(strings.TrimRight(r.Diff, "\n"), "\n")
		if more := len(lines) - shownDiff; more > 20 && !all {
			d.add(diff(lines[:shownDiff]), line{span{fmt.Sprintf("… and %s; --all shows them", count(more, "line", "lines")), faint}})
		} else {
			d.add(diff(lines))
		}
		d.add(gap{})
	}
	files, places := totals(r.Rules)
	switch {
	case r.Applied && files > 0:
		d.add(
			line{
				span{"done", good},
				plain(
					": %s in %s; look at it with git diff, and commit it; bellwether undo takes it back",
					count(places, "place", "places"),
					count(files, "file", "files"),
				),
			},
		)
	case r.Applied:
		d.add(line{span{"done", good}, plain(": no file had to change")})
	case files > 0:
		d.add(
			line{plain("nothing is written yet: %s in %s would change", count(places, "place", "places"), count(files, "file", "files"))},
			line{
				plain("next: "),
				span{"bellwether adapt --apply", strong},
				plain(" with the same options does it; a leg does it by itself"),
			},
		)
	default:
		d.add(line{plain("no file has to change")})
	}
	return o.show("adapt", r, d)
}

// keyFindings are keys that nobody reads any more, and those that are missing.
func keyFindings(d *document, all []model.KeyFinding) {
	if len(all) == 0 {
		return
	}
	d.add(heading{"keys of configuration", "that the new versions do not read, or miss"})
	var rows list
	for _, k := range all {
		rows = append(rows, line{span{k.String(), warn}})
		if k.Repair != "" {
			rows = append(rows, line{plain("  rule %s would move it: ", k.Repair), span{"bellwether adapt --only " + k.Repair, strong}})
		}
	}
	d.add(rows, gap{})
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
func repairTable(d *document, rules []model.RepairResult) {
	g := grid{columns: []string{"rule", "files", "places", "left", "what it does"}}
	var idle []string
	for _, r := range rules {
		if len(r.Files) == 0 && len(r.Left) == 0 && r.Waits == "" {
			idle = append(idle, r.Rule)
			continue
		}
		left := span{}
		if n := len(r.Left); n > 0 {
			left = span{fmt.Sprint(n), warn}
		}
		says := r.Says
		if r.Waits != "" {
			says += "; " + r.Waits
		}
		g.rows = append(g.rows, line{span{r.Rule, strong}, plain("%d", len(r.Files)), plain("%d", len(r.Places)), left, plain("%s", says)})
	}
	if len(g.rows) > 0 {
		d.add(g)
	}
	if len(idle) > 0 {
		d.add(line{span{"  nothing to do here: " + spelling.Few(idle, 30), faint}})
	}
	d.add(gap{})
}

// repairLeft are the places that rules are about and do not change.
func repairLeft(d *document, rules []model.RepairResult, all bool) {
	var rows list
	for _, r := range rules {
		for _, l := range r.Left {
			rows = append(rows, line{span{l.Place, strong}, plain(": %s", l.Reason), span{" (" + r.Rule + ")", faint}})
		}
	}
	if len(rows) > 0 {
		d.add(heading{"left for you", ""}, some(rows, all), gap{})
	}
}

// shownRows is how many rows of a list are shown where not all are asked for.
const shownRows = 100

// some are the first rows of a long list, with the number of the others.
func some(rows list, all bool) list {
	if more := len(rows) - shownRows; more > 20 && !all {
		return append(rows[:shownRows:shownRows], line{span{fmt.Sprintf("… and %d more; --all shows them", more), faint}})
	}
	return rows
}

func leftRows(all []model.RepairLeft) (rows list) {
	for _, l := range all {
		rows = append(rows, line{span{l.Place, strong}, plain(": %s", l.Reason)})
	}
	return rows
}

// ToDos shows what is left to be done.
func (o Out) ToDos(r *model.ToDosResult) error {
	d := &document{}
	if len(r.ToDos) == 0 {
		d.add(line{plain("nothing is left to be done")})
		return o.show("todos", r, d)
	}
	toDos(d, r.ToDos)
	d.add(line{plain("next: "), span{"bellwether todo done ID", strong}, plain(" takes out what is done")})
	return o.show("todos", r, d)
}

func toDos(d *document, all []model.ToDoResult) {
	if len(all) == 0 {
		return
	}
	g := grid{columns: []string{"to do", "where", "", "what"}}
	for _, t := range all {
		from := ""
		if t.From != "" {
			from = " (" + t.From + ")"
		}
		state, shade := "", usual
		switch t.State {
		case model.ToDoMoved:
			state, shade = "the line moved", faint
		case model.ToDoChanged:
			state, shade = "the line changed: is it done?", warn
		case model.ToDoGone:
			state, shade = "the file is gone: is it done?", warn
		}
		g.rows = append(g.rows, line{span{t.ID, strong}, plain("%s", t.Place), span{state, shade}, plain("%s%s", t.Text, from)})
	}
	d.add(g, gap{})
}
