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
	"bellwether/internal/view/doc"
	"bellwether/internal/view/drawing"
	"bellwether/internal/view/page"
)

// The further formats of a report.
const (
	HTML  doc.Format = "html"
	JUnit doc.Format = "junit"
)

// ReportFormats are those of a report.
var ReportFormats = []doc.Format{doc.Text, doc.Markdown, HTML, doc.JSON, JUnit}

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
		return page.Write(o.W, title, reportSummary(r), drawing.DrawnRoute(r), d)
	case doc.Markdown:
		return cutMarkdown(o.W, title, reportSummary(r), d)
	case doc.Text:
		whole := &doc.Document{}
		whole.Add(doc.Heading{Title: title, Note: ""}, doc.Line{doc.Usual(reportSummary(r))}, doc.Gap{})
		for i, b := range d.Blocks {
			if _, is := b.(doc.Heading); is && i > 0 {
				whole.Add(doc.Gap{})
			}
			whole.Add(b)
		}
		d = whole
	}
	return o.show("report", r, d)
}

// cutMarkdown writes a document as Markdown, as much of it as a merge request takes.
func cutMarkdown(w io.Writer, title, summary string, d *doc.Document) error {
	var b strings.Builder
	doc.Heading{Title: title, Note: ""}.Markdown(&b)
	doc.Line{doc.Usual(summary)}.Markdown(&b)
	left := 0
	for _, part := range d.Blocks {
		var next strings.Builder
		if part.Markdown(&next); b.Len()+next.Len() > maxMarkdown {
			left++ // a smaller one may still fit
			continue
		}
		b.WriteString(next.String())
	}
	if left > 0 {
		fmt.Fprintf(&b, "%s not fit here; `bellwether report --format html` has all.\n", doc.Count(left, "part does", "parts do"))
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// reportSummary is the whole in a sentence.
func reportSummary(r *report.Report) string {
	parts := []string{fmt.Sprintf("%d of %s done", r.Count(report.Done), doc.Count(len(r.Legs), "leg", "legs"))}
	if n := r.Unverified(); n > 0 {
		parts = append(parts, fmt.Sprintf("%d of them not verified", n))
	}
	if n := r.Count(report.Repair); n > 0 {
		parts = append(parts, fmt.Sprintf("%d to be repaired", n))
	}
	pins := 0
	moves := r.Moves()
	for _, m := range moves {
		if drawing.IsPin(m) {
			pins++
		}
	}
	parts = append(parts, doc.Count(len(moves)-pins, "requirement", "requirements")+" moved")
	if pins > 0 {
		parts = append(parts, doc.Count(pins, "runtime, tool or image", "runtimes, tools or images")+" moved")
	}
	if n := len(r.Carried()); n > 0 {
		parts = append(parts, doc.Count(n, "other package", "other packages")+" along with them")
	}
	if last := r.Last(); last != nil {
		parts = append(parts, tests(last.Verification))
	}
	return strings.Join(parts, ", ") + "."
}

var stateStyle = map[string]doc.Style{report.Done: doc.StyleGood, report.Repair: doc.StyleBad, report.ToGo: doc.StyleFaint}

// reported describes a report.
func reported(r *report.Report) *doc.Document {
	d := &doc.Document{}
	legs := doc.Grid{Columns: []string{"leg", "what", "state", "tests", "tries", "commit"}}
	for _, l := range r.Legs {
		tested, commit, tries := "", l.Commit[:min(10, len(l.Commit))], ""
		if l.Verification != nil {
			tested = testCount(l.Verification.Stages)
		}
		if l.Tries > 1 {
			tries = fmt.Sprint(l.Tries)
		}
		state := doc.Styled(l.State, stateStyle[l.State])
		if len(l.Unverified) > 0 {
			state = doc.Warn(l.State + ", not verified")
		}
		if l.Gone {
			commit += " (not in the history any more)"
		}
		legs.Row(
			doc.Usual(l.ID), doc.Usual(l.Title), state,
			doc.Usual(tested), doc.Usual(tries), doc.Faint(commit),
		)
	}
	d.Add(doc.Heading{Title: "Legs", Note: ""}, legs)
	for _, l := range r.Legs {
		broke(d, l)
	}
	moves := r.Moves()
	pins := slices.DeleteFunc(slices.Clone(moves), func(m output.MoveSummary) bool { return !drawing.IsPin(m) })
	if len(pins) > 0 {
		d.Add(doc.Heading{Title: "Runtimes, tools and images", Note: ""}, moveGrid(pins), placesOf(pins))
	}
	if packages := slices.DeleteFunc(moves, drawing.IsPin); len(packages) > 0 {
		d.Add(doc.Heading{Title: "What moved", Note: ""}, moveGrid(packages))
	}
	if carried := r.Carried(); len(carried) > 0 {
		d.Add(doc.Details{
			Summary: doc.Count(len(carried), "other package", "other packages") + " that moved along",
			Blocks:  []doc.Block{carriedGrid(carried)},
		})
		if g := drawing.ChangedGraph(r); len(g.Nodes) > 0 {
			d.Add(drawing.Picture{Name: "What depends on what, and how it moved", Of: g})
		}
	}
	extracts(d, r.Said)
	advised(d, "Vulnerabilities that are mended", r.Fixed, doc.StyleGood)
	advised(d, "Vulnerabilities that are left", r.Affected, doc.StyleWarn)
	d.Part("Notes", notesOf(r))
	repaired(d, r)
	compared(d, r)
	for _, c := range r.Culprits {
		d.Part("What broke "+c.Leg, culpritLines(c))
	}
	d.Part("What stays behind", doc.Lines(r.Left))
	d.Part("Temporary measures", bridgeLines(r.Bridges))
	d.Part("Left to be done", todoLines(r.ToDos))
	if len(r.Checklist) > 0 {
		d.Add(doc.Heading{Title: "Checklist", Note: ""}, checkGrid(r.Checklist))
	}
	d.Part("Not known any more", doc.Lines(r.Unknown))
	tools(d, r)
	if len(r.Undo) > 0 {
		d.Add(
			doc.Heading{Title: "How to take it back"},
			doc.Line{doc.Plain("bellwether undo --all takes back what is not pushed; afterwards:")}, doc.Code(r.Undo),
		)
	}
	return d
}

// broke tells what fails in a leg that is to be repaired: what it tried, what breaks, and what releases and rules say of it.
func broke(d *doc.Document, l report.Leg) {
	if l.State != report.Repair || l.Comparison == nil || l.Verification == nil {
		return
	}
	note := "verified once"
	if l.Tries > 1 {
		note = fmt.Sprintf("verified %d times", l.Tries)
	}
	d.Add(doc.Heading{Title: "What fails in leg " + l.ID, Note: note}, doc.Line{doc.Plain("It tries:")}, moveGrid(l.LegResult.Moves))
	comparison(d, l.Comparison)
	for _, s := range l.Verification.Stages {
		if s.Red() && s.Log != "" {
			d.Add(doc.Line{doc.Plain("What the stage %s printed is in %s", s.Name, s.Log)})
		}
	}
	d.Part("What releases and rules say of it", doc.Lines(l.Hints))
}

func notesOf(r *report.Report) (l doc.List) {
	for _, leg := range r.Legs {
		for _, why := range leg.Unverified {
			l = append(l, doc.Line{doc.Faint(leg.ID + ": "), doc.Warn("not verified: " + why)})
		}
		for _, n := range append(slices.Clone(leg.Overrides), leg.Notes...) {
			l = append(l, doc.Line{doc.Faint(leg.ID + ": "), doc.Warn(n)})
		}
		for _, k := range leg.Keys {
			l = append(l, doc.Line{doc.Faint(leg.ID + ": "), doc.Warn(k.String())})
		}
	}
	return l
}

func carriedGrid(moves []output.MoveSummary) doc.Grid {
	g := doc.Grid{Columns: []string{"package", "from", "to"}}
	for _, m := range moves {
		from, to := m.From, m.To
		if from == "" {
			from = "new"
		}
		if to == "" {
			to = "goes away"
		}
		g.Row(doc.Usual(m.Spoken()), doc.Usual(from), doc.Usual(to))
	}
	return g
}

// extracts are those of release notes, a package each.
func extracts(d *doc.Document, all []model.PackageNotes) {
	if len(all) == 0 {
		return
	}
	d.Add(doc.Heading{Title: "What the releases say", Note: "what concerns this project comes first; bellwether notes has more"})
	for _, p := range all {
		d.Add(doc.Details{Summary: fmt.Sprintf("%s %s to %s", p.Name, p.From, p.To), Blocks: []doc.Block{noteRows(p.Entries, false)}})
	}
}

// advised are packages that vulnerability records are about.
func advised(d *doc.Document, title string, all []output.SurveyAdvisory, look doc.Style) {
	if len(all) == 0 {
		return
	}
	g := doc.Grid{Columns: []string{"package", "version", "record", "severity", "what it is", "mended in"}}
	for _, a := range all {
		g.Row(
			doc.Usual(a.Name), doc.Usual(a.Version), doc.Styled(a.ID, look),
			doc.Usual(a.Rating), doc.Usual(a.Summary), doc.Usual(a.Fixed),
		)
	}
	d.Add(doc.Heading{Title: title, Note: ""}, g)
}

// repaired tells what rules changed, and what they left.
func repaired(d *doc.Document, r *report.Report) {
	g := doc.Grid{Columns: []string{"leg", "rule", "files", "places", "what it does"}}
	var left doc.List
	for _, leg := range r.Legs {
		for _, one := range leg.Repairs {
			if len(one.Files) > 0 {
				g.Row(doc.Faint(leg.ID), doc.Usual(one.Rule), doc.Plain("%d", len(one.Files)), doc.Plain("%d", len(one.Places)), doc.Usual(one.Says))
			}
			for _, l := range one.Left {
				left = append(left, doc.Line{doc.Plain("%s: ", l.Place), doc.Warn(l.Reason)})
			}
		}
	}
	if len(g.Rows) > 0 {
		d.Add(doc.Heading{Title: "Repairs by rules", Note: ""}, g)
	}
	d.Part("Left by rules", left)
}

// compared tells what the last leg's stages say now, and what they said at the start.
func compared(d *doc.Document, r *report.Report) {
	last := r.Last()
	if last == nil {
		return
	}
	d.Add(doc.Heading{Title: "Verification", Note: "of leg " + last.ID + ", from clean"})
	verification(d, last.Verification)
	if c := last.Comparison; c != nil {
		if len(c.Times) > 0 {
			g := doc.Grid{Columns: []string{"component", "stage", "took at the start", "now"}}
			for _, t := range c.Times {
				g.Row(doc.Usual(t.Component), doc.Usual(t.Name), doc.Plain("%.1f s", t.Before.Seconds()), doc.Plain("%.1f s", t.After.Seconds()))
			}
			d.Add(g)
		}
		comparison(d, c)
	}
	warnings(d, last)
}

// warnings counts what stages warn of, before and after.
func warnings(d *doc.Document, l *report.Leg) {
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
			d.Add(doc.Line{doc.Plain("%s: %d causes now, %d of them new; %d of the start are gone", kind.name, now, fresh, gone)})
		}
	}
}

func culpritLines(c output.CulpritResult) (l doc.List) {
	for _, set := range c.Culprits {
		var names []string
		for _, m := range set.Moves {
			names = append(names, m.Spoken()+" "+m.From+" to "+m.To)
		}
		text := strings.Join(names, ", ") + " breaks " + spelling.Few(set.Breaks, 3)
		if set.Passes != "" {
			text += "; " + set.Passes + " still passes, " + set.Fails + " does not"
		}
		l = append(l, doc.Line{doc.Usual(text)})
	}
	if len(c.Parted) > 0 {
		l = append(l, doc.Line{doc.Faint("parted into the legs " + strings.Join(c.Parted, ", "))})
	}
	return l
}

func bridgeLines(all []output.SurveyBridge) (l doc.List) {
	for _, b := range all {
		text := fmt.Sprintf("%s: %s at %s, since %s", b.Name, b.Kind, b.At, b.Since)
		if b.Waits != "" {
			text += ", " + b.Waits
		}
		if b.Goes != "" {
			text += "; it can go now: " + b.Goes
		}
		l = append(l, doc.Line{doc.Usual(text)})
	}
	return l
}

func todoLines(all []model.ToDoResult) (l doc.List) {
	for _, t := range all {
		l = append(l, doc.Line{doc.Usual(t.Text), doc.Faint(" " + t.Place + " " + t.State)})
	}
	return l
}

func checkGrid(all []output.ChecklistItem) doc.Grid {
	g := doc.Grid{Columns: []string{"item", "what to try", "state", "note"}}
	for _, c := range all {
		state := doc.Styled(c.State, map[string]doc.Style{
			output.TickOpen: doc.StyleWarn, output.TickPassed: doc.StyleGood, output.TickFailed: doc.StyleBad,
		}[c.State])
		if c.Stale {
			state.Text += ", before the last leg"
		}
		g.Row(doc.Usual(c.ID), doc.Usual(c.Text), state, doc.Usual(c.Note))
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
func tools(d *doc.Document, r *report.Report) {
	last := r.Last()
	if last == nil {
		return
	}
	g := doc.Grid{Columns: []string{"program", "version"}}
	for _, name := range slices.Sorted(maps.Keys(last.Verification.Tools)) {
		g.Row(doc.Usual(name), doc.Usual(firstLine(last.Verification.Tools[name])))
	}
	commands := doc.Grid{Columns: []string{"component", "stage", "command"}}
	for _, s := range last.Verification.Stages {
		if len(s.Command) > 0 && s.Status != finding.Skipped && s.Status != finding.NotRun {
			commands.Row(doc.Usual(s.Component), doc.Usual(s.Name), doc.Usual(strings.Join(s.Command, " ")))
		}
	}
	if len(g.Rows)+len(commands.Rows) == 0 {
		return
	}
	d.Add(doc.Heading{Title: "Tools and commands", Note: ""})
	for _, part := range []doc.Grid{g, commands} {
		if len(part.Rows) > 0 {
			d.Add(part)
		}
	}
}
