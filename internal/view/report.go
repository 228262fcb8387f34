package view

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/report"
	"bellwether/internal/core/spelling"
)

// The further formats of a report.
const (
	HTML  Format = "html"
	JUnit Format = "junit"
)

// ReportFormats are those of a report.
var ReportFormats = []Format{Text, Markdown, HTML, JSON, JUnit}

// maxMarkdown is how many characters a merge request's text may have on the usual forges.
const maxMarkdown = 65_000

// Report shows what a route did.
func (o Out) Report(r *report.Report) error {
	d := reported(r)
	title := "What moved on the way to " + strings.Join(r.Destination, ", ")
	switch o.Format {
	case JUnit:
		text, err := r.JUnit()
		if err == nil {
			_, err = o.W.Write(text)
		}
		return err
	case HTML:
		return page(o.W, title, reportSummary(r), drawnRoute(r), d)
	case Markdown:
		return cutMarkdown(o.W, title, reportSummary(r), d)
	case Text:
		whole := &document{}
		whole.add(heading{title, ""}, line{plain("%s", reportSummary(r))}, gap{})
		for i, b := range d.blocks {
			if _, is := b.(heading); is && i > 0 {
				whole.add(gap{})
			}
			whole.add(b)
		}
		d = whole
	}
	return o.show("report", r, d)
}

// cutMarkdown writes a document as Markdown, as much of it as a merge request takes.
func cutMarkdown(w io.Writer, title, summary string, d *document) error {
	var b strings.Builder
	heading{title, ""}.markdown(&b)
	line{plain("%s", summary)}.markdown(&b)
	left := 0
	for _, part := range d.blocks {
		var next strings.Builder
		if part.markdown(&next); b.Len()+next.Len() > maxMarkdown {
			left++ // a smaller one may still fit
			continue
		}
		b.WriteString(next.String())
	}
	if left > 0 {
		fmt.Fprintf(&b, "%s not fit here; `bellwether report --format html` has all.\n", count(left, "part does", "parts do"))
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// reportSummary is the whole in a sentence.
func reportSummary(r *report.Report) string {
	parts := []string{fmt.Sprintf("%d of %s done", r.Count(report.Done), count(len(r.Legs), "leg", "legs"))}
	if n := r.Count(report.Repair); n > 0 {
		parts = append(parts, fmt.Sprintf("%d to be repaired", n))
	}
	pins := 0
	moves := r.Moves()
	for _, m := range moves {
		if isPin(m) {
			pins++
		}
	}
	parts = append(parts, count(len(moves)-pins, "requirement", "requirements")+" moved")
	if pins > 0 {
		parts = append(parts, count(pins, "runtime, tool or image", "runtimes, tools or images")+" moved")
	}
	if n := len(r.Carried()); n > 0 {
		parts = append(parts, count(n, "other package", "other packages")+" along with them")
	}
	if last := r.Last(); last != nil {
		parts = append(parts, tests(last.Verification))
	}
	return strings.Join(parts, ", ") + "."
}

var stateStyle = map[string]style{report.Done: good, report.Repair: bad, report.ToGo: faint}

// reported describes a report.
func reported(r *report.Report) *document {
	d := &document{}
	legs := grid{columns: []string{"leg", "what", "state", "tests", "tries", "commit"}}
	for _, l := range r.Legs {
		tested, commit, tries := "", l.Commit[:min(10, len(l.Commit))], ""
		if l.Verification != nil {
			tested = testCount(l.Verification.Stages)
		}
		if l.Tries > 1 {
			tries = fmt.Sprint(l.Tries)
		}
		if l.Gone {
			commit += " (not in the history any more)"
		}
		legs.rows = append(legs.rows, line{
			plain("%s", l.ID), plain("%s", l.Title), span{l.State, stateStyle[l.State]},
			plain("%s", tested), plain("%s", tries), span{commit, faint},
		})
	}
	d.add(heading{"Legs", ""}, legs)
	moves := r.Moves()
	pins := slices.DeleteFunc(slices.Clone(moves), func(m output.MoveSummary) bool { return !isPin(m) })
	if len(pins) > 0 {
		d.add(heading{"Runtimes, tools and images", ""}, moveGrid(pins), placesOf(pins))
	}
	if packages := slices.DeleteFunc(moves, isPin); len(packages) > 0 {
		d.add(heading{"What moved", ""}, moveGrid(packages))
	}
	if carried := r.Carried(); len(carried) > 0 {
		d.add(details{count(len(carried), "other package", "other packages") + " that moved along", []block{carriedGrid(carried)}})
		if g := changedGraph(r); len(g.nodes) > 0 {
			d.add(picture{"What depends on what, and how it moved", g})
		}
	}
	extracts(d, r.Said)
	advised(d, "Vulnerabilities that are mended", r.Fixed, good)
	advised(d, "Vulnerabilities that are left", r.Affected, warn)
	part(d, "Notes", notesOf(r))
	repaired(d, r)
	compared(d, r)
	for _, c := range r.Culprits {
		part(d, "What broke "+c.Leg, culpritLines(c))
	}
	part(d, "What stays behind", plainList(r.Left))
	part(d, "Temporary measures", bridgeLines(r.Bridges))
	part(d, "Left to be done", todoLines(r.ToDos))
	if len(r.Checklist) > 0 {
		d.add(heading{"Checklist", ""}, checkGrid(r.Checklist))
	}
	part(d, "Not known any more", plainList(r.Unknown))
	tools(d, r)
	if len(r.Undo) > 0 {
		d.add(heading{"How to take it back", ""}, line{plain("bellwether undo --all takes back what is not pushed; afterwards:")}, code(r.Undo))
	}
	return d
}

// part adds a list with a title, if there is anything in it.
func part(d *document, title string, l list) {
	if len(l) > 0 {
		d.add(heading{title, ""}, l)
	}
}

func plainList(texts []string) (l list) {
	for _, t := range texts {
		l = append(l, line{plain("%s", t)})
	}
	return l
}

func notesOf(r *report.Report) (l list) {
	for _, leg := range r.Legs {
		for _, n := range append(slices.Clone(leg.Overrides), leg.Notes...) {
			l = append(l, line{span{leg.ID + ": ", faint}, span{n, warn}})
		}
		for _, k := range leg.Keys {
			l = append(l, line{span{leg.ID + ": ", faint}, span{k.String(), warn}})
		}
	}
	return l
}

func carriedGrid(moves []output.MoveSummary) grid {
	g := grid{columns: []string{"package", "from", "to"}}
	for _, m := range moves {
		from, to := m.From, m.To
		if from == "" {
			from = "new"
		}
		if to == "" {
			to = "goes away"
		}
		g.rows = append(g.rows, line{plain("%s", m.Spoken()), plain("%s", from), plain("%s", to)})
	}
	return g
}

// extracts are those of release notes, a package each.
func extracts(d *document, all []model.PackageNotes) {
	if len(all) == 0 {
		return
	}
	d.add(heading{"What the releases say", "what concerns this project comes first; bellwether notes has more"})
	for _, p := range all {
		d.add(details{fmt.Sprintf("%s %s to %s", p.Name, p.From, p.To), []block{noteRows(p.Entries, false)}})
	}
}

// advised are packages that vulnerability records are about.
func advised(d *document, title string, all []output.SurveyAdvisory, look style) {
	if len(all) == 0 {
		return
	}
	g := grid{columns: []string{"package", "version", "record", "severity", "what it is", "mended in"}}
	for _, a := range all {
		g.rows = append(g.rows, line{
			plain("%s", a.Name), plain("%s", a.Version), span{a.ID, look},
			plain("%s", a.Severity), plain("%s", a.Summary), plain("%s", a.Fixed),
		})
	}
	d.add(heading{title, ""}, g)
}

// repaired tells what rules changed, and what they left.
func repaired(d *document, r *report.Report) {
	g := grid{columns: []string{"leg", "rule", "files", "places", "what it does"}}
	var left list
	for _, leg := range r.Legs {
		for _, one := range leg.Repairs {
			if len(one.Files) > 0 {
				g.rows = append(g.rows, line{
					span{leg.ID, faint}, plain("%s", one.Rule), plain("%d", len(one.Files)), plain("%d", len(one.Places)), plain("%s", one.Says),
				})
			}
			for _, l := range one.Left {
				left = append(left, line{plain("%s: ", l.Place), span{l.Reason, warn}})
			}
		}
	}
	if len(g.rows) > 0 {
		d.add(heading{"Repairs by rules", ""}, g)
	}
	part(d, "Left by rules", left)
}

// compared tells what the last leg's stages say now, and what they said at the start.
func compared(d *document, r *report.Report) {
	last := r.Last()
	if last == nil {
		return
	}
	d.add(heading{"Verification", "of leg " + last.ID + ", from clean"})
	verification(d, last.Verification)
	if c := last.Comparison; c != nil {
		if len(c.Times) > 0 {
			g := grid{columns: []string{"component", "stage", "took at the start", "now"}}
			for _, t := range c.Times {
				g.rows = append(g.rows, line{
					plain("%s", t.Component), plain("%s", t.Name), plain("%.1f s", t.Before.Seconds()), plain("%.1f s", t.After.Seconds()),
				})
			}
			d.add(g)
		}
		comparison(d, c)
	}
	warnings(d, last)
}

// warnings counts what stages warn of, before and after.
func warnings(d *document, l *report.Leg) {
	if l.Comparison == nil {
		return
	}
	for _, kind := range []struct {
		of   finding.Kind
		name string
	}{{finding.Warning, "warnings"}, {finding.Deprecation, "deprecations"}} {
		now := len(finding.Causes(l.Verification.Findings(), kind.of))
		fresh, gone := len(finding.Causes(l.Comparison.NewFindings, kind.of)), len(finding.Causes(l.Comparison.GoneFindings, kind.of))
		if now+fresh+gone > 0 {
			d.add(line{plain("%s: %d causes now, %d of them new; %d of the start are gone", kind.name, now, fresh, gone)})
		}
	}
}

func culpritLines(c output.CulpritResult) (l list) {
	for _, set := range c.Culprits {
		var names []string
		for _, m := range set.Moves {
			names = append(names, m.Spoken()+" "+m.From+" to "+m.To)
		}
		text := strings.Join(names, ", ") + " breaks " + spelling.Few(set.Breaks, 3)
		if set.Passes != "" {
			text += "; " + set.Passes + " still passes, " + set.Fails + " does not"
		}
		l = append(l, line{plain("%s", text)})
	}
	if len(c.Parted) > 0 {
		l = append(l, line{span{"parted into the legs " + strings.Join(c.Parted, ", "), faint}})
	}
	return l
}

func bridgeLines(all []output.SurveyBridge) (l list) {
	for _, b := range all {
		text := fmt.Sprintf("%s: %s at %s, since %s", b.Name, b.Kind, b.At, b.Since)
		if b.Waits != "" {
			text += ", " + b.Waits
		}
		if b.Goes != "" {
			text += "; it can go now: " + b.Goes
		}
		l = append(l, line{plain("%s", text)})
	}
	return l
}

func todoLines(all []model.ToDoResult) (l list) {
	for _, t := range all {
		l = append(l, line{plain("%s", t.Text), span{" " + t.Place + " " + t.State, faint}})
	}
	return l
}

func checkGrid(all []output.ChecklistItem) grid {
	g := grid{columns: []string{"item", "what to try", "state", "note"}}
	for _, c := range all {
		state := span{c.State, map[string]style{output.TickOpen: warn, output.TickPassed: good, output.TickFailed: bad}[c.State]}
		if c.Stale {
			state.text += ", before the last leg"
		}
		g.rows = append(g.rows, line{plain("%s", c.ID), plain("%s", c.Text), state, plain("%s", c.Note)})
	}
	return g
}

// firstLine is the first line of what a program says of itself, without colours.
func firstLine(said string) string {
	first, _, _ := strings.Cut(said, "\n")
	return colour.ReplaceAllString(first, "")
}

var colour = lazyregexp.New(`\x1b\[[0-9;]*m`)

// tools are the programs and commands that a verification used.
func tools(d *document, r *report.Report) {
	last := r.Last()
	if last == nil {
		return
	}
	g := grid{columns: []string{"program", "version"}}
	for _, name := range slices.Sorted(maps.Keys(last.Verification.Tools)) {
		g.rows = append(g.rows, line{plain("%s", name), plain("%s", firstLine(last.Verification.Tools[name]))})
	}
	commands := grid{columns: []string{"component", "stage", "command"}}
	for _, s := range last.Verification.Stages {
		if len(s.Command) > 0 && s.Status != finding.Skipped && s.Status != finding.NotRun {
			commands.rows = append(commands.rows, line{plain("%s", s.Component), plain("%s", s.Name), plain("%s", strings.Join(s.Command, " "))})
		}
	}
	if len(g.rows)+len(commands.rows) == 0 {
		return
	}
	d.add(heading{"Tools and commands", ""})
	for _, part := range []grid{g, commands} {
		if len(part.rows) > 0 {
			d.add(part)
		}
	}
}
