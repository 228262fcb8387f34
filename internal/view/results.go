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
)

// Out is where and how results are shown.
type Out struct {
	W      io.Writer
	Format Format
	Colour bool
	Width  int // of the terminal, in characters; 0 for lines of any length
}

func (o Out) show(schema string, v any, d *document) error {
	return show(o.W, o.Format, palette{o.Colour, o.Width}, schema, v, d)
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func cmpOr(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// Explain shows why a package is where it is, or why it cannot be elsewhere.
func (o Out) Explain(all []output.Explanation) error {
	d := &document{}
	for i, e := range all {
		if i > 0 {
			d.add(gap{})
		}
		explainOne(d, e)
	}
	return o.show("explain", explanations{all}, d)
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

func explainOne(d *document, e output.Explanation) {
	where := ""
	if e.Component != "." {
		where = "in " + e.Component
	}
	switch {
	case e.Version == "":
		d.add(heading{e.Name, where})
		for _, c := range e.Locked {
			where := " in " + c.Where
			if c.Scope != "" {
				where += ", scope " + c.Scope
			}
			d.add(line{plain("  is at "), span{c.Version, strong}, span{where, faint}, plain(", because")})
			var askers list
			for _, a := range c.Askers {
				askers = append(askers, line{plain("  %s", a)})
			}
			d.add(askers)
		}
		if len(e.Locked) == 0 {
			d.add(line{plain("  is not locked")})
		}
		g := grid{columns: []string{"newest releases", "published", "states", ""}}
		shown := newestReleases(e.Releases)
		for _, r := range shown {
			date := ""
			if !r.Published.IsZero() {
				date = r.Published.Format(time.DateOnly)
			}
			note := span{}
			if r.Deprecated != "" {
				note = span{"deprecated: " + r.Deprecated, bad}
			} else if r.Retracted != "" {
				note = span{r.Retracted, bad}
			} else if slices.ContainsFunc(e.Locked, func(c model.LockedCopy) bool { return c.Version == r.Version }) {
				note = span{"locked", good}
			}
			g.rows = append(g.rows, line{plain("%s", r.Version), span{date, faint}, plain("%s", r.Runtime), note})
		}
		d.add(gap{}, g)
		if more := len(e.Releases) - len(shown); more > 0 {
			d.add(
				line{
					span{
						fmt.Sprintf(
							"  and %s, %d of them pre-releases; --format json lists them", count(more, "more", "more"),
							previews(e.Releases)-previews(shown),
						),
						faint,
					},
				},
			)
		}
	case e.Possible && len(e.Moves) == 0:
		d.add(line{plain("%s@%s is what is there already.", e.Name, e.Version)})
	case e.Possible:
		d.add(heading{fmt.Sprintf("%s@%s is possible", e.Name, e.Version), where}, line{plain("These would move:")}, moveGrid(e.Moves))
	default:
		d.add(heading{fmt.Sprintf("%s@%s is not possible", e.Name, e.Version), where}, proofList(e.Proof))
	}
}

func proofList(lines []string) list {
	var l list
	for i, text := range lines {
		s := usual
		if i == len(lines)-1 {
			s = bad
		}
		l = append(l, line{span{text, s}})
	}
	return l
}

func moveGrid(moves []output.MoveSummary) grid {
	g := grid{columns: []string{"package", "from", "to", "because"}}
	if slices.ContainsFunc(moves, isPin) {
		g.columns[0] = "what"
	}
	for _, m := range moves {
		to := span{m.To, good}
		if m.To == "" {
			to = span{"goes away", faint}
		}
		from := m.From
		if from == "" {
			from = "new"
		}
		because := m.Because
		switch m.Becomes {
		case "":
		case m.Name:
			because += ", from " + m.Range
		default:
			because += ", as " + m.Becomes
		}
		g.rows = append(g.rows, line{plain("%s", m.Spoken()), span{from, faint}, to, span{because, faint}})
	}
	return g
}

// isPin tells whether a move is of a runtime, tool, platform or image.
func isPin(m output.MoveSummary) bool {
	s, ok := model.ReadSubject(m.Name)
	return ok && s.IsPin()
}

// placesOf are the places of runtimes, tools and images that move, a line each;
// of a package it is the manifest.
func placesOf(moves []output.MoveSummary) list {
	var all list
	for _, m := range moves {
		if !isPin(m) || len(m.Places) == 0 {
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
		all = append(all, line{span{"in " + strings.Join(files, ", "), faint}})
	}
	return all
}

// Route shows the legs of a computed route.
func (o Out) Route(r *output.RouteResult) error {
	d := &document{}
	if len(r.Legs) == 0 {
		if len(r.Notices) == 0 {
			d.add(line{span{"Nothing to do: ", good}, plain("the project is where it was asked to go.")})
		} else {
			d.add(line{span{"Nothing to do", good}, plain(" but for what is told below.")})
		}
	} else {
		d.add(heading{count(len(r.Legs), "leg", "legs") + " to " + strings.Join(r.Destination, ", "), "kept in " + r.File})
	}
	components := map[string]bool{}
	for _, l := range r.Legs {
		if l.Component != "" {
			components[l.Component] = true
		}
	}
	for _, l := range r.Legs {
		d.add(gap{}, legHeading(l, len(components) > 1))
		for _, s := range l.Steps {
			d.add(list{{plain("%s", s.Text)}, {span{"because " + s.Because, faint}}})
		}
		if len(l.Moves) > 0 {
			d.add(moveGrid(l.Moves), placesOf(l.Moves))
		}
		if n := len(l.Carried); n > 0 {
			d.add(line{span{"  and " + count(n, "other package", "other packages") + ": " + carriedNames(l.Carried), faint}})
		}
		for _, n := range append(slices.Clone(l.Overrides), l.Notes...) {
			d.add(line{span{"  " + n, warn}})
		}
		for _, why := range l.Why {
			d.add(list{{span{"why: " + why, faint}}})
		}
	}
	if len(r.Notices) > 0 {
		d.add(gap{}, heading{"Notes", ""})
		var notes list
		for _, n := range r.Notices {
			notes = append(notes, line{span{n, warn}})
		}
		d.add(notes)
	}
	if len(r.Legs) > 0 {
		d.add(
			gap{},
			line{
				plain("next: "), span{"bellwether advance", strong}, plain(" carries out the first leg, "), span{"--all", strong},
				plain(" all of them"),
			},
		)
	}
	return o.show("route", r, d)
}

func legHeading(l output.LegResult, several bool) heading {
	note := ""
	if several && l.Component != "" {
		note = "in " + l.Component
	}
	return heading{"leg " + l.ID + ": " + l.Title, note}
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
			names = append(names, m.Name+" (gone)")
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
	d := &document{}
	d.add(legHeading(r.Leg, r.Leg.Component != "."), moveGrid(r.Leg.Moves), placesOf(r.Leg.Moves))
	for _, n := range append(slices.Clone(r.Leg.Overrides), r.Leg.Notes...) {
		d.add(line{span{"  " + n, warn}})
	}
	if n := len(r.Leg.Carried); n > 0 {
		d.add(line{span{"  and " + count(n, "other package", "other packages") + ": " + carriedNames(r.Leg.Carried), faint}})
	}
	d.add(gap{})
	if len(r.Leg.Repairs) > 0 {
		d.add(heading{"repairs by rules", ""})
		repairTable(d, r.Leg.Repairs)
		repairLeft(d, r.Leg.Repairs, true)
	}
	keyFindings(d, r.Leg.Keys)
	verification(d, r.Verification)
	comparison(d, &r.Comparison)
	if len(r.Hints) > 0 {
		var rows list
		for _, h := range r.Hints {
			rows = append(rows, line{plain("%s", h)})
		}
		d.add(heading{"what releases and rules say of it", ""}, rows, gap{})
	}
	switch {
	case r.Done && r.Commit != "":
		d.add(
			line{span{"done", good}, plain(", %s, committed as %.10s; %s to go", tests(r.Verification), r.Commit, count(r.Left, "leg", "legs"))},
		)
	case r.Done:
		d.add(line{span{"done", good}, plain(", %s; %s to go", tests(r.Verification), count(r.Left, "leg", "legs"))})
	default:
		d.add(
			line{span{"not done", bad}, plain(": the leg's changes are in the working tree, nothing is committed")},
			line{
				plain("next: repair what fails and run "), span{"bellwether advance", strong}, plain(" again, or take the leg back with "),
				span{"bellwether undo", strong},
			},
		)
		if n := len(r.Leg.Moves); n > 1 {
			d.add(line{span{"      bellwether culprit", strong}, plain(" tells which of its %d moves it is", n)})
		}
	}
	return o.show("leg", r, d)
}

// Status shows where a project is on its route.
func (o Out) Status(s *output.StatusResult) error {
	d := &document{}
	if len(s.Destination) > 0 {
		note := ""
		if s.Branch != "" {
			note = "on branch " + s.Branch
		}
		d.add(heading{"on the way to " + strings.Join(s.Destination, ", "), note})
		g := grid{columns: []string{"leg", "moves", "", ""}}
		styles := map[string]style{"done": good, "repair": bad, "next": strong, "waiting": faint}
		for _, l := range s.Legs {
			commit := ""
			if l.Commit != "" {
				commit = fmt.Sprintf("%.10s", l.Commit)
			}
			g.rows = append(g.rows, line{plain("%s", l.ID), plain("%s", l.Title), span{l.Status, styles[l.Status]}, span{commit, faint}})
		}
		d.add(g, gap{})
	}
	checklist(d, s.Checklist)
	toDos(d, s.ToDos)
	d.add(line{plain("next: %s", s.Next)})
	return o.show("status", s, d)
}

// wide is how many letters of a sentence go on a line with what follows it.
const wide = 110

// Conflict shows the proof that a destination cannot be reached.
// ways are what would do instead.
func (o Out) Conflict(title string, proof []output.ProofStep, ways []output.WayOut) error {
	d := &document{}
	lines := make([]string, len(proof))
	for i, s := range proof {
		lines[i] = s.Line
	}
	d.add(heading{title, ""}, proofList(lines))
	if len(ways) > 0 {
		var rows list
		for i, w := range ways {
			var more []string
			if len(w.Moves) > 0 {
				more = append(more, "moves "+spelling.Few(w.Moves, 2)+" besides")
			}
			if w.Risk != "" {
				more = append(more, w.Risk)
			}
			text, option := plain("%d. %s: ", i+1, w.Text), span{w.Option, strong}
			if len(w.Text)+len(w.Option) > wide {
				rows = append(rows, line{text}, line{plain("   "), option})
			} else {
				rows = append(rows, line{text, option})
			}
			if together := strings.Join(more, "; "); len(together) < wide && together != "" {
				more = []string{together}
			}
			for _, m := range more {
				rows = append(rows, line{span{"   " + m, faint}})
			}
		}
		d.add(gap{}, line{plain("What would do instead, each tried; "), span{"--take NUMBER", strong}, plain(" goes that way:")}, rows)
	}
	return o.show("conflict", conflict{title, lines, proof, ways}, d)
}

// checklist shows what must be tried by hand, and what was found.
func checklist(d *document, items []output.ChecklistItem) {
	if len(items) == 0 {
		return
	}
	styles := map[string]style{output.TickOpen: warn, output.TickPassed: good, output.TickFailed: bad}
	g := grid{columns: []string{"item", "to be tried by hand", "", ""}}
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
		g.rows = append(g.rows, line{plain("%s", item.ID), plain("%s", item.Text), span{item.State, styles[item.State]}, span{note, faint}})
	}
	d.add(g, gap{})
}
