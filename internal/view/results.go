package view

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/output"
	"bellwether/internal/core/scaffold"
	"bellwether/internal/core/spelling"
	"bellwether/internal/view/doc"
	"bellwether/internal/view/drawing"
	"bellwether/internal/view/template"
)

// Out is where and how results are shown.
type Out struct {
	W      io.Writer
	Format doc.Format
	Colour bool
	Width  int // of the terminal, in characters; 0 for lines of any length
}

func (o Out) show(schema string, v any, d *doc.Document) error {
	return doc.Show(o.W, o.Format, doc.Palette{On: o.Colour, Width: o.Width}, schema, v, d)
}

// Scaffold shows a comparison with a template; v is what JSON has of it.
func (o Out) Scaffold(s *template.Shown, v any) error {
	return o.show("scaffold", v, s.Document(false))
}

// ScaffoldFile shows what a template changed in one file.
func (o Out) ScaffoldFile(f *scaffold.File) error {
	return o.show("scaffold-file", f, template.File(f))
}

func proofList(lines []string) doc.List {
	var l doc.List
	for i, text := range lines {
		s := doc.StyleUsual
		if i == len(lines)-1 {
			s = doc.StyleBad
		}
		l = append(l, doc.Line{doc.Styled(text, s)})
	}
	return l
}

func moveGrid(moves []output.MoveSummary) doc.Grid {
	g := doc.Grid{Columns: []string{"package", "from", "to", "because"}}
	if slices.ContainsFunc(moves, drawing.IsPin) {
		g.Columns[0] = "what"
	}
	for _, m := range moves {
		to := doc.Good(m.To)
		if m.To == "" {
			to = doc.Faint("goes away")
		}
		from := m.From
		if from == "" {
			from = "new"
		}
		because := m.Because
		switch {
		case m.Becomes == "", m.Becomes == m.Name && m.Range == m.To:
		case m.Becomes == m.Name:
			because += ", from " + m.Range
		default:
			because += ", as " + m.Becomes
		}
		g.Row(doc.Usual(m.Spoken()), doc.Faint(from), to, doc.Faint(because))
	}
	return g
}

// placesOf are the places of runtimes, tools and images that move, a line each;
// of a package it is the manifest.
func placesOf(moves []output.MoveSummary) doc.List {
	var all doc.List
	for _, m := range moves {
		if !drawing.IsPin(m) || len(m.Places) == 0 {
			continue
		}
		var files []string
		for _, place := range m.Places {
			file, number, _ := strings.Cut(place, ":")
			switch at := slices.IndexFunc(files, func(f string) bool { return strings.HasPrefix(f, file+":") }); {
			case at < 0:
				files = append(files, place)
			case !slices.Contains(strings.Split(files[at], ":"), number):
				files[at] += ":" + number
			}
		}
		slices.Sort(files)
		for i, f := range files {
			file, numbers, _ := strings.Cut(f, ":")
			lines := strings.Split(numbers, ":")
			slices.SortFunc(lines, func(a, b string) int { return cmp.Or(len(a)-len(b), strings.Compare(a, b)) })
			files[i] = file + ":" + strings.Join(lines, ",")
		}
		all = append(all, doc.Line{doc.Faint("in " + strings.Join(files, ", "))})
	}
	return all
}

// Route shows the legs of a computed route.
func (o Out) Route(r *output.RouteResult) error {
	d := &doc.Document{}
	if len(r.Legs) == 0 {
		if len(r.Notices) == 0 {
			d.Add(doc.Line{doc.Good("Nothing to do: "), doc.Plain("the project is where it was asked to go.")})
		} else {
			d.Add(doc.Line{doc.Good("Nothing to do"), doc.Plain(" but for what is told below.")})
		}
	} else {
		d.Add(doc.Heading{Title: doc.Count(len(r.Legs), "leg", "legs") + " to " + strings.Join(r.Destination, ", "), Note: "kept in " + r.File})
	}
	components := map[string]bool{}
	for _, l := range r.Legs {
		if l.Component != "" {
			components[l.Component] = true
		}
	}
	for _, l := range r.Legs {
		d.Add(doc.Gap{}, legHeading(l, len(components) > 1))
		for _, s := range l.Steps {
			d.Add(doc.List{{doc.Usual(s.Text)}, {doc.Faint("because " + s.Because)}})
		}
		if len(l.Moves) > 0 {
			d.Add(moveGrid(l.Moves), placesOf(l.Moves))
		}
		d.Add(carried(l)...)
		for _, n := range append(slices.Clone(l.Overrides), l.Notes...) {
			d.Add(doc.Line{doc.Warn("  " + n)})
		}
		for _, why := range l.Why {
			d.Add(doc.List{{doc.Faint("why: " + why)}})
		}
	}
	if len(r.Notices) > 0 {
		d.Add(doc.Gap{}, doc.Heading{Title: "Notes", Note: ""})
		var notes doc.List
		for _, n := range r.Notices {
			notes = append(notes, doc.Line{doc.Warn(n)})
		}
		d.Add(notes)
	}
	var yours []string
	for _, l := range r.Legs {
		if len(l.Steps) > 0 {
			yours = append(yours, l.ID)
		}
	}
	if len(yours) > 0 && len(r.Legs) > 3 { // once more, where it is not out of sight
		d.Add(doc.Gap{}, doc.Line{doc.Strong("for you"), doc.Plain(": %s", strings.Join(yours, ", "))})
	}
	if len(r.Legs) > 0 {
		d.Add(
			doc.Gap{},
			doc.Line{
				doc.Plain("next: "), doc.Strong("bellwether advance"), doc.Plain(" carries out the first leg, "), doc.Strong("--all"),
				doc.Plain(" all of them"),
			},
		)
	}
	return o.show("route", r, d)
}

func legHeading(l output.LegResult, several bool) doc.Heading {
	note := ""
	if several && l.Component != "" {
		note = "in " + l.Component
	}
	return doc.Heading{Title: "leg " + l.ID + ": " + l.Title, Note: note}
}

// carriedShown is how many carried packages are named.
const carriedShown = 6

// carried are the packages that move along in a leg; all that it moves, where it moves nothing that a manifest states.
func carried(l output.LegResult) []doc.Block {
	n := len(l.Carried)
	switch {
	case n == 0:
		return nil
	case len(l.Moves) == 0 && n <= carriedListed:
		return []doc.Block{moveGrid(l.Carried)}
	case len(l.Moves) == 0:
		return []doc.Block{doc.Line{doc.Plain("  %s: %s", doc.Count(n, "package", "packages"), carriedNames(l.Carried))}}
	}
	return []doc.Block{doc.Line{doc.Faint("  and " + doc.Count(n, "other package", "other packages") + ": " + carriedNames(l.Carried))}}
}

// carriedListed is up to how many packages a leg that moves nothing else lists one by one.
const carriedListed = 20

func carriedNames(moves []output.MoveSummary) string {
	var names []string
	for _, m := range moves[:min(len(moves), carriedShown)] {
		switch {
		case m.From == "":
			names = append(names, m.Spoken()+" "+m.To+" (new)")
		case m.To == "":
			names = append(names, strings.TrimSpace(m.Spoken()+" "+m.From)+" (gone)")
		default:
			names = append(names, m.Spoken()+" "+m.To)
		}
	}
	if n := len(moves) - len(names); n > 0 {
		names = append(names, fmt.Sprintf("and %d more", n))
	}
	return strings.Join(names, ", ")
}

// Leg shows what came of carrying out a leg.
func (o Out) Leg(r *finding.LegResult) error {
	d := &doc.Document{}
	d.Add(legHeading(r.Leg, r.Leg.Component != "."), moveGrid(r.Leg.Moves), placesOf(r.Leg.Moves))
	for _, n := range append(slices.Clone(r.Leg.Overrides), r.Leg.Notes...) {
		d.Add(doc.Line{doc.Warn("  " + n)})
	}
	d.Add(carried(r.Leg)...)
	d.Add(doc.Gap{})
	if len(r.Leg.Repairs) > 0 {
		d.Add(doc.Heading{Title: "repairs by rules", Note: ""})
		repairTable(d, r.Leg.Repairs)
		repairLeft(d, r.Leg.Repairs, true)
	}
	keyFindings(d, r.Leg.Keys)
	shown := *r.Verification
	if len(r.Leg.Unverified) == 0 { // what files state besides is told by verify, once
		shown.Runtimes = slices.DeleteFunc(slices.Clone(shown.Runtimes), func(w finding.Runtime) bool { return w.Where == "" })
	}
	verification(d, &shown)
	comparison(d, &r.Comparison)
	if len(r.Hints) > 0 {
		var rows doc.List
		for _, h := range r.Hints {
			rows = append(rows, doc.Line{doc.Usual(h)})
		}
		d.Add(doc.Heading{Title: "what releases and rules say of it", Note: ""}, rows, doc.Gap{})
	}
	switch {
	case r.Done:
		ended, how := doc.Good("done"), ", "+tests(r.Verification)
		if why := r.Leg.Unverified; len(why) > 0 {
			ended, how = doc.Warn("not verified"), ": "+strings.Join(why, "; ")
			if r.Verification.Untried() == "" {
				how += "; " + tests(r.Verification)
			}
		}
		if r.Commit != "" {
			how += fmt.Sprintf(", committed as %.10s", r.Commit)
		}
		d.Add(doc.Line{ended, doc.Plain("%s; %s to go", how, doc.Count(r.Left, "leg", "legs"))})
	default:
		d.Add(
			doc.Line{doc.Bad("not done"), doc.Plain(": the leg's changes are in the working tree, nothing is committed")},
			doc.Line{
				doc.Plain("next: repair what fails and run "), doc.Strong("bellwether advance"), doc.Plain(" again, or take the leg back with "),
				doc.Strong("bellwether undo"),
			},
		)
		if n := len(r.Leg.Moves); n > 1 {
			d.Add(doc.Line{doc.Strong("      bellwether culprit"), doc.Plain(" tells which of its %d moves it is", n)})
		}
	}
	return o.show("leg", r, d)
}

// Status shows where a project is on its route.
func (o Out) Status(s *output.StatusResult) error {
	d := &doc.Document{}
	if len(s.Destination) > 0 {
		note := ""
		if s.Branch != "" {
			note = "on branch " + s.Branch
		}
		d.Add(doc.Heading{Title: "on the way to " + strings.Join(s.Destination, ", "), Note: note})
		g := doc.Grid{Columns: []string{"leg", "what", "state", "commit"}}
		styles := map[string]doc.Style{"done": doc.StyleGood, "repair": doc.StyleBad, "next": doc.StyleStrong, "waiting": doc.StyleFaint}
		for _, l := range s.Legs {
			commit := ""
			if l.Commit != "" {
				commit = fmt.Sprintf("%.10s", l.Commit)
			}
			state := doc.Styled(l.Status, styles[l.Status])
			if len(l.Unverified) > 0 {
				state = doc.Warn(l.Status + ", not verified")
			}
			g.Row(doc.Usual(l.ID), doc.Usual(l.Title), state, doc.Faint(commit))
		}
		d.Add(g, doc.Gap{})
	}
	checklist(d, s.Checklist)
	toDos(d, s.ToDos)
	d.Add(doc.Line{doc.Plain("next: %s", s.Next)})
	return o.show("status", s, d)
}

// wide is how many letters of a sentence go on a line with what follows it.
const wide = 110

// Conflict shows the proof that a destination cannot be reached.
// ways are what would do instead; nil where nobody looked for any.
func (o Out) Conflict(title string, proof []output.ProofStep, ways []output.WayOut, beyond *output.DeadEnd) error {
	d := &doc.Document{}
	lines := linesOf(proof)
	d.Add(doc.Heading{Title: title, Note: ""}, proofList(lines))
	if beyond != nil {
		even := beyond.Option // "without --hold NAME"
		if strings.HasPrefix(even, "-") {
			even = "with " + even
		}
		d.Add(doc.Gap{}, doc.Line{doc.Plain("Even %s there is none:", even)}, proofList(linesOf(beyond.Proof)))
	}
	if ways != nil && len(ways) == 0 {
		d.Add(doc.Gap{}, doc.Line{doc.Plain("No way out was found: nothing that was tried instead does.")})
	}
	if len(ways) > 0 {
		var rows doc.List
		for i, w := range ways {
			var more []string
			if len(w.Moves) > 0 {
				more = append(more, "moves "+spelling.Few(w.Moves, 2)+" besides")
			}
			if w.Risk != "" {
				more = append(more, w.Risk)
			}
			text, option := doc.Plain("%d. %s: ", i+1, w.Text), doc.Strong(w.Option)
			if len(w.Text)+len(w.Option) > wide {
				rows = append(rows, doc.Line{text}, doc.Line{doc.Plain("   "), option})
			} else {
				rows = append(rows, doc.Line{text, option})
			}
			if together := strings.Join(more, "; "); len(together) < wide && together != "" {
				more = []string{together}
			}
			for _, m := range more {
				rows = append(rows, doc.Line{doc.Faint("   " + m)})
			}
		}
		d.Add(
			doc.Gap{},
			doc.Line{doc.Plain("What would do instead, each tried; "), doc.Strong("--take NUMBER"), doc.Plain(" goes that way:")}, rows,
		)
	}
	return o.show("conflict", conflict{title, lines, proof, ways, beyond}, d)
}

// linesOf are the sentences of a proof, as they are printed.
func linesOf(proof []output.ProofStep) []string {
	lines := make([]string, len(proof))
	for i, s := range proof {
		lines[i] = s.Line
	}
	return lines
}

// checklist shows what must be tried by hand, and what was found.
func checklist(d *doc.Document, items []output.ChecklistItem) {
	if len(items) == 0 {
		return
	}
	styles := map[string]doc.Style{output.TickOpen: doc.StyleWarn, output.TickPassed: doc.StyleGood, output.TickFailed: doc.StyleBad}
	g := doc.Grid{Columns: []string{"item", "to be tried by hand", "", ""}}
	for _, item := range items {
		note := item.Note
		switch {
		case item.Stale:
			note = strings.TrimPrefix(note+"; tried before the last leg", "; ")
		case !item.At.IsZero():
			note = strings.TrimSpace(note + " (" + item.At.Format(time.DateOnly) + ")")
		case item.Because != "":
			note = item.Because
		}
		g.Row(doc.Usual(item.ID), doc.Usual(item.Text), doc.Styled(item.State, styles[item.State]), doc.Faint(note))
	}
	d.Add(g, doc.Gap{})
}
