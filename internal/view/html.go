package view

import (
	"fmt"
	"html"
	"io"
	"strings"

	"bellwether/internal/core/harmless"
)

// escaped is a text of others as a page shows it.
func escaped(text string) string { return html.EscapeString(harmless.Line(text)) }

var classes = map[style]string{strong: "strong", faint: "faint", good: "good", warn: "warn", bad: "bad"}

func (s span) html() string {
	if class, ok := classes[s.style]; ok && s.text != "" {
		return fmt.Sprintf(`<span class="%s">%s</span>`, class, escaped(s.text))
	}
	return escaped(s.text)
}

func (l line) inner() (text string) {
	for _, s := range l {
		text += s.html()
	}
	return text
}

func (h heading) html(w io.Writer) {
	id := slug(h.title)
	fmt.Fprintf(w, "<h2 id=\"%s\">%s</h2>\n", id, escaped(h.title))
	if h.note != "" {
		fmt.Fprintf(w, "<p class=\"faint\">%s</p>\n", escaped(h.note))
	}
}

// slug is a title as the name of its place in a page.
func slug(title string) string {
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

func (l line) html(w io.Writer) { fmt.Fprintf(w, "<p>%s</p>\n", l.inner()) }

func (l list) html(w io.Writer) {
	fmt.Fprintln(w, "<ul>")
	for _, item := range l {
		fmt.Fprintf(w, "<li>%s</li>\n", item.inner())
	}
	fmt.Fprintln(w, "</ul>")
}

func (t tree) html(w io.Writer) {
	fmt.Fprint(w, "<pre tabindex=\"0\">")
	for _, l := range t {
		fmt.Fprintln(w, l.inner())
	}
	fmt.Fprintln(w, "</pre>")
}

func (c code) html(w io.Writer) {
	fmt.Fprint(w, "<pre tabindex=\"0\">")
	for _, l := range c {
		fmt.Fprintln(w, escaped(l))
	}
	fmt.Fprintln(w, "</pre>")
}

func (x diff) html(w io.Writer) { code(x).html(w) }

func (gap) html(io.Writer) {}

// html is a table with the columns that say something.
func (g grid) html(w io.Writer) {
	var keep []int
	for i := range g.columns {
		for _, row := range g.rows {
			if i < len(row) && row[i].text != "" {
				keep = append(keep, i)
				break
			}
		}
	}
	fmt.Fprint(w, "<div class=\"wide\" tabindex=\"0\" role=\"group\" aria-label=\"table\"><table><thead><tr>")
	for _, i := range keep {
		title := escaped(g.columns[i])
		if title == "" {
			title = "<span class=\"hidden\">more</span>"
		}
		fmt.Fprintf(w, "<th scope=\"col\">%s</th>", title)
	}
	fmt.Fprint(w, "</tr></thead><tbody>\n")
	for _, row := range g.rows {
		fmt.Fprint(w, "<tr>")
		for _, i := range keep {
			cell := ""
			if i < len(row) {
				cell = row[i].html()
			}
			fmt.Fprintf(w, "<td>%s</td>", cell)
		}
		fmt.Fprintln(w, "</tr>")
	}
	fmt.Fprintln(w, "</tbody></table></div>")
}

// details is a part that may be folded.
type details struct {
	summary string
	blocks  []block
}

// shownDetails is how many rows of a folded table a terminal shows.
const shownDetails = 10

func (d details) text(w io.Writer, p palette) {
	fmt.Fprintln(w, p.paint(span{d.summary, faint}))
	for _, b := range d.blocks {
		g, is := b.(grid)
		if more := len(g.rows) - shownDetails; is && more > 1 {
			g.rows = g.rows[:shownDetails]
			g.text(w, p)
			fmt.Fprintln(w, p.paint(span{fmt.Sprintf("  and %d more; --format html has all", more), faint}))
			continue
		}
		b.text(w, p)
	}
}

func (d details) markdown(w io.Writer) {
	fmt.Fprintf(w, "<details><summary>%s</summary>\n\n", harmless.Markdown(d.summary))
	for _, b := range d.blocks {
		b.markdown(w)
	}
	fmt.Fprint(w, "</details>\n\n")
}

func (d details) html(w io.Writer) {
	fmt.Fprintf(w, "<details><summary>%s</summary>\n", escaped(d.summary))
	for _, b := range d.blocks {
		b.html(w)
	}
	fmt.Fprintln(w, "</details>")
}
