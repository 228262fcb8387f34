package doc

import (
	"fmt"
	"html"
	"io"
	"strings"

	"bellwether/internal/core/harmless"
)

// Escaped is a text of others as a page shows it.
func Escaped(text string) string { return html.EscapeString(harmless.Line(text)) }

var classes = map[Style]string{StyleStrong: "strong", StyleFaint: "faint", StyleGood: "good", StyleWarn: "warn", StyleBad: "bad"}

// HTML writes it as HTML.
func (s Span) HTML() string {
	if class, ok := classes[s.Style]; ok && s.Text != "" {
		return fmt.Sprintf(`<span class="%s">%s</span>`, class, Escaped(s.Text))
	}
	return Escaped(s.Text)
}

func (l Line) inner() (text string) {
	for _, s := range l {
		text += s.HTML()
	}
	return text
}

// HTML writes it as HTML.
func (h Heading) HTML(w io.Writer) {
	id := Slug(h.Title)
	fmt.Fprintf(w, "<h2 id=\"%s\">%s</h2>\n", id, Escaped(h.Title))
	if h.Note != "" {
		fmt.Fprintf(w, "<p class=\"faint\">%s</p>\n", Escaped(h.Note))
	}
}

// Slug is a title as the name of its place in a page.
func Slug(title string) string {
	return strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, title), "-")
}

// HTML writes it as HTML.
func (l Line) HTML(w io.Writer) { fmt.Fprintf(w, "<p>%s</p>\n", l.inner()) }

// HTML writes it as HTML.
func (l List) HTML(w io.Writer) {
	fmt.Fprintln(w, "<ul>")
	for _, item := range l {
		fmt.Fprintf(w, "<li>%s</li>\n", item.inner())
	}
	fmt.Fprintln(w, "</ul>")
}

// HTML writes it as HTML.
func (t Tree) HTML(w io.Writer) {
	fmt.Fprint(w, "<pre tabindex=\"0\">")
	for _, l := range t {
		fmt.Fprintln(w, l.inner())
	}
	fmt.Fprintln(w, "</pre>")
}

// HTML writes it as HTML.
func (c Code) HTML(w io.Writer) {
	fmt.Fprint(w, "<pre tabindex=\"0\">")
	for _, l := range c {
		fmt.Fprintln(w, Escaped(l))
	}
	fmt.Fprintln(w, "</pre>")
}

// HTML writes it as HTML.
func (x Diff) HTML(w io.Writer) { Code(x).HTML(w) }

func (Gap) HTML(io.Writer) {}

// HTML is a table with the columns that say something.
func (g Grid) HTML(w io.Writer) {
	var keep []int
	for i := range g.Columns {
		for _, row := range g.Rows {
			if i < len(row) && row[i].Text != "" {
				keep = append(keep, i)
				break
			}
		}
	}
	fmt.Fprint(w, "<div class=\"wide\" tabindex=\"0\" role=\"group\" aria-label=\"table\"><table><thead><tr>")
	for _, i := range keep {
		title := Escaped(g.Columns[i])
		if title == "" {
			title = "<span class=\"hidden\">more</span>"
		}
		fmt.Fprintf(w, "<th scope=\"col\">%s</th>", title)
	}
	fmt.Fprint(w, "</tr></thead><tbody>\n")
	for _, row := range g.Rows {
		fmt.Fprint(w, "<tr>")
		for _, i := range keep {
			cell := ""
			if i < len(row) {
				cell = row[i].HTML()
			}
			if cell == "" {
				fmt.Fprint(w, "<td></td>")
				continue
			}
			fmt.Fprintf(w, "<td data-of=\"%s\">%s</td>", Escaped(g.Columns[i]), cell) // what a narrow window shows before it
		}
		fmt.Fprintln(w, "</tr>")
	}
	fmt.Fprintln(w, "</tbody></table></div>")
}

// Details is a part that may be folded.
type Details struct {
	Summary string
	Blocks  []Block
}

// shownDetails is how many rows of a folded table a terminal shows.
const shownDetails = 10

// Text writes it for a terminal.
func (d Details) Text(w io.Writer, p Palette) {
	fmt.Fprintln(w, p.paint(Span{d.Summary, StyleFaint}))
	for _, b := range d.Blocks {
		g, is := b.(Grid)
		if more := len(g.Rows) - shownDetails; is && more > 1 {
			g.Rows = g.Rows[:shownDetails]
			g.Text(w, p)
			fmt.Fprintln(w, p.paint(Span{fmt.Sprintf("  and %d more; --format html has all", more), StyleFaint}))
			continue
		}
		b.Text(w, p)
	}
}

// Markdown writes it as Markdown.
func (d Details) Markdown(w io.Writer) {
	fmt.Fprintf(w, "<details><summary>%s</summary>\n\n", harmless.Markdown(d.Summary))
	for _, b := range d.Blocks {
		b.Markdown(w)
	}
	fmt.Fprint(w, "</details>\n\n")
}

// HTML writes it as HTML.
func (d Details) HTML(w io.Writer) {
	fmt.Fprintf(w, "<details><summary>%s</summary>\n", Escaped(d.Summary))
	for _, b := range d.Blocks {
		b.HTML(w)
	}
	fmt.Fprintln(w, "</details>")
}
