// Package template shows a comparison with a template, as a document and as a page.
package template

import (
	"fmt"
	"io"
	"strings"

	core "bellwether/internal/core/scaffold"
	"bellwether/internal/view/doc"
	"bellwether/internal/view/page"
)

// Shown is a comparison with a template, as it is shown.
type Shown struct {
	From, To string
	*core.Comparison
	Declined int
	Unfilled []string
	Taken    []string
	Left     []string
}

// scaffoldStates are the states of files in the order in which they are told, with what each means.
var scaffoldStates = []struct {
	state core.State
	means string
	style doc.Style
}{
	{core.Conflicts, "both changed it in the same place", doc.StyleBad},
	{core.GoneHere, "the template has it no more, and you changed it", doc.StyleWarn},
	{core.Removed, "you have it no more, and the template changed it", doc.StyleWarn},
	{core.Takes, "only the template changed it", doc.StyleGood},
	{core.Merges, "both changed it, in different places", doc.StyleGood},
	{core.New, "the template has it only now", doc.StyleGood},
	{core.Gone, "the template has it no more, and you have it as it was", doc.StyleGood},
	{core.Alike, "you have it as the template has it now", doc.StyleFaint},
}

// Page writes it as one page, each file side by side.
func (s *Shown) Page(w io.Writer) error {
	return page.Write(w, "What a fresh project looks like: "+s.From+" to "+s.To, s.summary(), "", s.Document(true))
}

func (s *Shown) summary() string {
	changed := len(s.Files) - s.Count(core.Alike)
	text := fmt.Sprintf("The template changed %s; %d of them concern this project", doc.Count(len(s.Files), "file", "files"), changed)
	if s.Unchanged > 0 {
		text += fmt.Sprintf(", %d did not change", s.Unchanged)
	}
	return text + "."
}

// Document is the comparison; whole has each file side by side.
func (s *Shown) Document(whole bool) *doc.Document {
	d := &doc.Document{}
	d.Part("In conflict, and left as you have it", options(s.Left, "--take %s takes the template's"))
	if len(s.Taken) > 0 {
		d.Add(doc.Heading{Title: "Taken over", Note: doc.Count(len(s.Taken), "file", "files")}, doc.Lines(s.Taken), doc.Gap{})
		if !whole {
			d.Add(doc.Line{doc.Faint("look at it with git diff; bellwether undo takes it back")})
			return d
		}
	}
	if !whole {
		d.Add(doc.Line{doc.Usual(s.summary())}, doc.Gap{})
	}
	states := doc.Grid{Columns: []string{"files", "state", "what it means"}}
	for _, one := range scaffoldStates {
		if n := s.Count(one.state); n > 0 {
			states.Row(doc.Plain("%d", n), doc.Styled(string(one.state), one.style), doc.Faint(one.means))
		}
	}
	if len(states.Rows) > 0 {
		d.Add(states, doc.Gap{})
	}
	files := doc.Grid{Columns: []string{"file", "state", "places", "settings", ""}}
	for _, one := range scaffoldStates {
		for _, f := range s.Files {
			if f.State != one.state || f.State == core.Alike {
				continue
			}
			places := ""
			if len(f.Hunks) > 0 {
				places = fmt.Sprint(len(f.Hunks))
			}
			note := ""
			switch {
			case f.Old != "":
				note = "is " + f.Old + " in the template"
			case f.New != "":
				note = "is called " + f.New + " now"
			}
			state := doc.Styled(string(f.State), one.style)
			files.Row(doc.Usual(f.Path), state, doc.Usual(places), doc.Usual(keyCount(f.Keys)), doc.Faint(note))
		}
	}
	if len(files.Rows) > 0 {
		d.Add(doc.Heading{Title: "Files", Note: ""}, files, doc.Gap{})
	}
	s.settings(d)
	d.Part("Not filled in", options(s.Unfilled, "--set %s=VALUE fills it in"))
	if s.Declined > 0 {
		d.Add(doc.Line{doc.Faint(doc.Count(s.Declined, "change that you declined is", "changes that you declined are") + " left out")})
	}
	if whole {
		for _, f := range s.Files {
			if f.State != core.Alike {
				d.Add(doc.Heading{Title: f.Path, Note: string(f.State)}, beside(f))
			}
		}
		return d
	}
	says := "--show FILE shows one, --take-clean takes what applies cleanly, --take FILE, FILE:2 or FILE:SETTING takes what you name"
	d.Add(doc.Line{doc.Strong("next: "), doc.Plain("%s", says)})
	return d
}

// options are names, each with what an option does for it.
func options(names []string, option string) (l doc.List) {
	for _, name := range names {
		l = append(l, doc.Line{doc.Plain("%s: ", name), doc.Faint(fmt.Sprintf(option, name))})
	}
	return l
}

// keyCount says how many settings the template changed, and how many of them clash.
func keyCount(all []core.Key) string {
	if len(all) == 0 {
		return ""
	}
	clash := 0
	for _, k := range all {
		if k.State == core.Conflicts {
			clash++
		}
	}
	if clash > 0 {
		return fmt.Sprintf("%d, %d in conflict", len(all), clash)
	}
	return fmt.Sprint(len(all))
}

// settings tells of settings that the template has now, and those that both changed.
func (s *Shown) settings(d *doc.Document) {
	g := doc.Grid{Columns: []string{"file", "setting", "state", "was", "is in the template", "is here"}}
	for _, f := range s.Files {
		for _, k := range f.Keys {
			if k.State == core.New || k.State == core.Conflicts {
				st := map[core.State]doc.Style{core.New: doc.StyleGood, core.Conflicts: doc.StyleBad}[k.State]
				g.Row(
					doc.Plain("%s", f.Path), doc.Usual(k.Name), doc.Styled(string(k.State), st), doc.Usual(doc.Clipped(k.Old)),
					doc.Usual(doc.Clipped(k.New)), doc.Usual(doc.Clipped(k.Mine)),
				)
			}
		}
	}
	if len(g.Rows) > 0 {
		d.Add(doc.Heading{Title: "Settings", Note: "new in the template, or changed by both"}, g, doc.Gap{})
	}
}

// File is what the template changed in one file.
func File(f *core.File) *doc.Document {
	d := &doc.Document{}
	d.Add(doc.Heading{Title: f.Path, Note: string(f.State)})
	for _, h := range f.Hunks {
		d.Add(doc.Line{doc.Plain("%d  at line %d: ", h.Number, h.Line), doc.Styled(string(h.State), map[core.State]doc.Style{
			core.Takes: doc.StyleGood, core.Conflicts: doc.StyleBad, core.Alike: doc.StyleFaint, core.Declined: doc.StyleFaint,
		}[h.State])}, hunkLines(h))
	}
	if len(f.Hunks) > 0 {
		d.Add(doc.Line{doc.Faint("= yours   - the older template's   + the newer template's")})
	}
	if len(f.Hunks) == 0 && f.After != nil && !core.Binary(f.After) {
		d.Add(doc.Code(strings.Split(strings.TrimRight(string(f.After), "\n"), "\n")))
	}
	return d
}

// hunkLines are a place as a diff; of a conflict with our side, too.
func hunkLines(h core.Hunk) doc.Diff {
	var all doc.Diff
	put := func(mark, text string) {
		for l := range strings.Lines(text) {
			all = append(all, mark+strings.TrimRight(l, "\r\n"))
		}
	}
	if h.State == core.Conflicts {
		put("= ", h.Ours)
	}
	put("- ", h.Base)
	put("+ ", h.Theirs)
	return all
}

// beside is a file side by side: what the project has, and what the template has.
func beside(f core.File) doc.Block {
	g := doc.Grid{Columns: []string{"place", "here", "in the template"}}
	if len(f.Hunks) == 0 {
		g.Columns = []string{"setting", "here", "in the template"}
		for _, k := range f.Keys {
			g.Row(doc.Usual(k.Name), doc.Usual(k.Mine), doc.Usual(k.New))
		}
		if len(g.Rows) == 0 {
			return doc.Line{doc.Faint("the whole file")}
		}
		return g
	}
	for _, h := range f.Hunks {
		style := map[core.State]doc.Style{core.Conflicts: doc.StyleBad, core.Alike: doc.StyleFaint, core.Declined: doc.StyleFaint}[h.State]
		g.Row(doc.Plain("%d, line %d", h.Number, h.Line), doc.Styled(h.Ours, style), doc.Styled(h.Theirs, style))
	}
	return pre{g}
}

// pre is a table whose cells are texts with lines of their own.
type pre struct{ doc.Grid }

func (p pre) HTML(w io.Writer) {
	fmt.Fprint(w, "<div class=\"wide\" tabindex=\"0\" role=\"group\" aria-label=\"side by side\"><table><thead><tr>")
	for _, c := range p.Columns {
		fmt.Fprintf(w, "<th scope=\"col\">%s</th>", doc.Escaped(c))
	}
	fmt.Fprint(w, "</tr></thead><tbody>\n")
	for _, row := range p.Rows {
		fmt.Fprint(w, "<tr>")
		for i, cell := range row {
			if i == 0 {
				fmt.Fprintf(w, "<td>%s</td>", cell.HTML())
				continue
			}
			fmt.Fprint(w, "<td><pre tabindex=\"0\">")
			for l := range strings.Lines(cell.Text) {
				fmt.Fprintln(w, doc.Escaped(strings.TrimRight(l, "\r\n")))
			}
			fmt.Fprint(w, "</pre></td>")
		}
		fmt.Fprintln(w, "</tr>")
	}
	fmt.Fprintln(w, "</tbody></table></div>")
}
