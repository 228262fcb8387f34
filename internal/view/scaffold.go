package view

import (
	"fmt"
	"io"
	"strings"

	core "bellwether/internal/core/scaffold"
)

// Scaffold is a comparison with a template, as it is shown.
type Scaffold struct {
	From, To string
	*core.Comparison
	Declined int
	Unfilled []string
	Taken    []string
}

// scaffoldStates are the states of files in the order in which they are told, with what each means.
var scaffoldStates = []struct {
	state core.State
	means string
	style style
}{
	{core.Conflicts, "both changed it in the same place", bad},
	{core.GoneHere, "the template has it no more, and you changed it", warn},
	{core.Removed, "you have it no more, and the template changed it", warn},
	{core.Takes, "only the template changed it", good},
	{core.Merges, "both changed it, in different places", good},
	{core.New, "the template has it only now", good},
	{core.Gone, "the template has it no more, and you have it as it was", good},
	{core.Alike, "you have it as the template has it now", faint},
}

// Scaffold shows a comparison with a template.
func (o Out) Scaffold(s *Scaffold, v any) error { return o.show("scaffold", v, s.document(false)) }

// ScaffoldPage writes it as one page, each file side by side.
func ScaffoldPage(w io.Writer, s *Scaffold) error {
	return page(w, "What a fresh project looks like: "+s.From+" to "+s.To, s.summary(), "", s.document(true))
}

func (s *Scaffold) summary() string {
	changed := len(s.Files) - s.Count(core.Alike)
	text := fmt.Sprintf("The template changed %s; %d of them concern this project", count(len(s.Files), "file", "files"), changed)
	if s.Unchanged > 0 {
		text += fmt.Sprintf(", %d did not change", s.Unchanged)
	}
	return text + "."
}

func (s *Scaffold) document(whole bool) *document {
	d := &document{}
	if len(s.Taken) > 0 {
		d.add(heading{"Taken over", count(len(s.Taken), "file", "files")}, plainList(s.Taken), gap{})
		if !whole {
			d.add(line{span{"look at it with git diff; bellwether undo takes it back", faint}})
			return d
		}
	}
	if !whole {
		d.add(line{plain("%s", s.summary())}, gap{})
	}
	states := grid{columns: []string{"files", "state", "what it means"}}
	for _, one := range scaffoldStates {
		if n := s.Count(one.state); n > 0 {
			states.rows = append(states.rows, line{plain("%d", n), span{string(one.state), one.style}, span{one.means, faint}})
		}
	}
	if len(states.rows) > 0 {
		d.add(states, gap{})
	}
	files := grid{columns: []string{"file", "state", "places", "settings", ""}}
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
			files.rows = append(files.rows, line{
				plain(
					"%s",
					f.Path,
				), span{string(f.State), one.style}, plain("%s", places), plain("%s", keyCount(f.Keys)), span{note, faint},
			})
		}
	}
	if len(files.rows) > 0 {
		d.add(heading{"Files", ""}, files, gap{})
	}
	s.settings(d)
	part(d, "Not filled in", s.unfilled())
	if s.Declined > 0 {
		d.add(line{span{count(s.Declined, "change that you declined is", "changes that you declined are") + " left out", faint}})
	}
	if whole {
		for _, f := range s.Files {
			if f.State != core.Alike {
				d.add(heading{f.Path, string(f.State)}, beside(f))
			}
		}
		return d
	}
	d.add(line{
		span{"next: ", strong},
		plain("--show FILE shows one, --take-clean takes what applies cleanly, --take FILE or FILE:2 takes what you name"),
	})
	return d
}

func (s *Scaffold) unfilled() (l list) {
	for _, name := range s.Unfilled {
		l = append(l, line{plain("%s: ", name), span{"--set " + name + "=VALUE fills it in", faint}})
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
func (s *Scaffold) settings(d *document) {
	g := grid{columns: []string{"file", "setting", "state", "was", "is in the template", "is here"}}
	for _, f := range s.Files {
		for _, k := range f.Keys {
			if k.State == core.New || k.State == core.Conflicts {
				st := map[core.State]style{core.New: good, core.Conflicts: bad}[k.State]
				g.rows = append(g.rows, line{
					plain(
						"%s",
						f.Path,
					), plain("%s", k.Name), span{string(k.State), st}, plain("%s", clipped(k.Old)), plain("%s", clipped(k.New)),
					plain("%s", clipped(k.Mine)),
				})
			}
		}
	}
	if len(g.rows) > 0 {
		d.add(heading{"Settings", "new in the template, or changed by both"}, g, gap{})
	}
}

// ScaffoldFile shows what the template changed in one file.
func (o Out) ScaffoldFile(f *core.File) error {
	d := &document{}
	d.add(heading{f.Path, string(f.State)})
	for _, h := range f.Hunks {
		d.add(line{plain("%d  at line %d: ", h.Number, h.Line), span{string(h.State), map[core.State]style{
			core.Takes: good, core.Conflicts: bad, core.Alike: faint, core.Declined: faint,
		}[h.State]}}, hunkLines(h))
	}
	if len(f.Hunks) == 0 && f.After != nil && !core.Binary(f.After) {
		d.add(code(strings.Split(strings.TrimRight(string(f.After), "\n"), "\n")))
	}
	return o.show("scaffold-file", f, d)
}

// hunkLines are a place as a diff; of a conflict with our side, too.
func hunkLines(h core.Hunk) diff {
	var all diff
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
func beside(f core.File) block {
	g := grid{columns: []string{"place", "here", "in the template"}}
	if len(f.Hunks) == 0 {
		g.columns = []string{"setting", "here", "in the template"}
		for _, k := range f.Keys {
			g.rows = append(g.rows, line{plain("%s", k.Name), plain("%s", k.Mine), plain("%s", k.New)})
		}
		if len(g.rows) == 0 {
			return line{span{"the whole file", faint}}
		}
		return g
	}
	for _, h := range f.Hunks {
		style := map[core.State]style{core.Takes: usual, core.Conflicts: bad, core.Alike: faint, core.Declined: faint}[h.State]
		g.rows = append(g.rows, line{plain("%d, line %d", h.Number, h.Line), span{h.Ours, style}, span{h.Theirs, style}})
	}
	return pre{g}
}

// pre is a table whose cells are texts with lines of their own.
type pre struct{ grid }

func (p pre) html(w io.Writer) {
	fmt.Fprint(w, "<div class=\"wide\" tabindex=\"0\" role=\"group\" aria-label=\"side by side\"><table><thead><tr>")
	for _, c := range p.columns {
		fmt.Fprintf(w, "<th scope=\"col\">%s</th>", escaped(c))
	}
	fmt.Fprint(w, "</tr></thead><tbody>\n")
	for _, row := range p.rows {
		fmt.Fprint(w, "<tr>")
		for i, cell := range row {
			if i == 0 {
				fmt.Fprintf(w, "<td>%s</td>", cell.html())
				continue
			}
			fmt.Fprint(w, "<td><pre tabindex=\"0\">")
			for l := range strings.Lines(cell.text) {
				fmt.Fprintln(w, escaped(strings.TrimRight(l, "\r\n")))
			}
			fmt.Fprint(w, "</pre></td>")
		}
		fmt.Fprintln(w, "</tr>")
	}
	fmt.Fprintln(w, "</tbody></table></div>")
}
