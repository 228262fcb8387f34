package view

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/spelling"
	"bellwether/internal/view/doc"
	"bellwether/internal/view/drawing"
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

// Explain shows why a package is where it is, or why it cannot be elsewhere.
func (o Out) Explain(all []output.Explanation) error {
	d := &doc.Document{}
	for i, e := range all {
		if i > 0 {
			d.Add(doc.Gap{})
		}
		explainOne(d, e)
	}
	return o.show("explain", explanations{all}, d)
}

// InEffect shows all packages in effect, each below what brings it.
func (o Out) InEffect(all *output.InEffect) error {
	d := &doc.Document{}
	for i, c := range all.Components {
		if i > 0 {
			d.Add(doc.Gap{})
		}
		required := 0
		var rows doc.List
		for _, p := range c.Packages {
			if p.Depth == 0 && !p.Indirect {
				required++
			}
			line := doc.Line{doc.Plain("%s%s ", strings.Repeat("  ", p.Depth), p.Name), doc.Faint(p.Version)}
			if p.Development && p.Depth == 0 {
				line = append(line, doc.Faint(", for development"))
			}
			if p.Indirect {
				line = append(line, doc.Faint(", indirect"))
			}
			rows = append(rows, line)
		}
		d.Add(doc.Heading{Title: called(c.Dir, c.Name), Note: fmt.Sprintf("%s, %s in effect, %d of them required", c.Ecosystem,
			doc.Count(len(c.Packages), "package", "packages"), required)}, rows)
	}
	return o.show("in-effect", all, d)
}

// explanations and conflict are what JSON has of results that are no objects of their own.
type (
	explanations struct {
		Explanations []output.Explanation `json:"explanations"`
	}
	conflict struct {
		Title string             `json:"title"`
		Proof []string           `json:"proof"`
		Steps []output.ProofStep `json:"steps"`
		Ways  []output.WayOut    `json:"ways,omitempty"`
		// Beyond is a second dead end behind the first.
		Beyond *output.DeadEnd `json:"beyond,omitempty"`
	}
)

// shownReleases is how many releases are listed.
const shownReleases = 8

// newestReleases are the newest few, and before them the newest pre-release if that is
// newer still.
func newestReleases(all []output.ReleaseLine) (shown []output.ReleaseLine) {
	for i, r := range all {
		if len(shown) == shownReleases {
			break
		}
		if !r.Preview || i == 0 || previews(all) == len(all) {
			shown = append(shown, r)
		}
	}
	return shown
}

// previews counts the pre-releases.
func previews(all []output.ReleaseLine) (n int) {
	for _, r := range all {
		if r.Preview {
			n++
		}
	}
	return n
}

func explainOne(d *doc.Document, e output.Explanation) {
	where := ""
	if e.Component != "." {
		where = "in " + e.Component
	}
	switch {
	case e.Version == "":
		d.Add(doc.Heading{Title: e.Name, Note: where})
		for _, c := range e.Locked {
			where := " in " + c.Where
			if c.Scope != "" {
				where += ", scope " + c.Scope
			}
			d.Add(doc.Line{doc.Plain("  is at "), doc.Strong(c.Version), doc.Faint(where), doc.Plain(", because")})
			var askers doc.List
			for _, a := range c.Askers {
				askers = append(askers, doc.Line{doc.Plain("  %s", a)})
			}
			d.Add(askers)
		}
		if len(e.Locked) == 0 {
			d.Add(doc.Line{doc.Plain("  is not locked")})
		}
		g := doc.Grid{Columns: []string{"newest releases", "published", "states", ""}}
		shown := newestReleases(e.Releases)
		for _, r := range shown {
			date := ""
			if !r.Published.IsZero() {
				date = r.Published.Format(time.DateOnly)
			}
			note := doc.Span{}
			if r.Deprecated != "" {
				note = doc.Bad("deprecated: " + r.Deprecated)
			} else if r.Retracted != "" {
				note = doc.Bad(r.Retracted)
			} else if slices.ContainsFunc(e.Locked, func(c model.LockedCopy) bool { return c.Version == r.Version }) {
				note = doc.Good("locked")
			}
			g.Row(doc.Usual(r.Version), doc.Faint(date), doc.Usual(r.Runtime), note)
		}
		d.Add(doc.Gap{}, g)
		if more := len(e.Releases) - len(shown); more > 0 {
			d.Add(
				doc.Line{
					doc.Span{
						Text: fmt.Sprintf(
							"  and %s, %d of them pre-releases; --format json lists them", doc.Count(more, "more", "more"),
							previews(e.Releases)-previews(shown),
						),
						Style: doc.StyleFaint,
					},
				},
			)
		}
	case e.Possible && len(e.Moves) == 0:
		d.Add(doc.Line{doc.Plain("%s@%s is what is there already.", e.Name, e.Version)})
	case e.Possible:
		title := fmt.Sprintf("%s@%s is possible", e.Name, e.Version)
		d.Add(doc.Heading{Title: title, Note: where}, doc.Line{doc.Plain("These would move:")}, moveGrid(e.Moves))
	default:
		d.Add(doc.Heading{Title: fmt.Sprintf("%s@%s is not possible", e.Name, e.Version), Note: where}, proofList(e.Proof))
	}
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
		if n := len(l.Carried); n > 0 {
			d.Add(doc.Line{doc.Faint("  and " + doc.Count(n, "other package", "other packages") + ": " + carriedNames(l.Carried))})
		}
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

func carriedNames(moves []output.MoveSummary) string {
	var names []string
	for _, m := range moves[:min(len(moves), carriedShown)] {
		switch {
		case m.From == "":
			names = append(names, m.Name+" "+m.To+" (new)")
		case m.To == "":
			names = append(names, strings.TrimSpace(m.Name+" "+m.From)+" (gone)")
		default:
			names = append(names, m.Name+" "+m.To)
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
	if n := len(r.Leg.Carried); n > 0 {
		d.Add(doc.Line{doc.Faint("  and " + doc.Count(n, "other package", "other packages") + ": " + carriedNames(r.Leg.Carried))})
	}
	d.Add(doc.Gap{})
	if len(r.Leg.Repairs) > 0 {
		d.Add(doc.Heading{Title: "repairs by rules", Note: ""})
		repairTable(d, r.Leg.Repairs)
		repairLeft(d, r.Leg.Repairs, true)
	}
	keyFindings(d, r.Leg.Keys)
	verification(d, r.Verification)
	comparison(d, &r.Comparison)
	if len(r.Hints) > 0 {
		var rows doc.List
		for _, h := range r.Hints {
			rows = append(rows, doc.Line{doc.Usual(h)})
		}
		d.Add(doc.Heading{Title: "what releases and rules say of it", Note: ""}, rows, doc.Gap{})
	}
	switch {
	case r.Done && r.Commit != "":
		d.Add(
			doc.Line{
				doc.Good("done"),
				doc.Plain(", %s, committed as %.10s; %s to go", tests(r.Verification), r.Commit, doc.Count(r.Left, "leg", "legs")),
			},
		)
	case r.Done:
		d.Add(doc.Line{doc.Good("done"), doc.Plain(", %s; %s to go", tests(r.Verification), doc.Count(r.Left, "leg", "legs"))})
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
		g := doc.Grid{Columns: []string{"leg", "moves", "", ""}}
		styles := map[string]doc.Style{"done": doc.StyleGood, "repair": doc.StyleBad, "next": doc.StyleStrong, "waiting": doc.StyleFaint}
		for _, l := range s.Legs {
			commit := ""
			if l.Commit != "" {
				commit = fmt.Sprintf("%.10s", l.Commit)
			}
			g.Row(doc.Usual(l.ID), doc.Usual(l.Title), doc.Styled(l.Status, styles[l.Status]), doc.Faint(commit))
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
