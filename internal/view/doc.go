// Package view shows results as text, JSON and Markdown. Text and Markdown
// are drawn from the same description, so that they always say the same.
package view

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"bellwether/internal/core/harmless"
)

// Format is how a result is shown.
type Format string

// The formats of every reading command.
const (
	Text     Format = "text"
	JSON     Format = "json"
	Markdown Format = "markdown"
)

// Formats are all of them.
var Formats = []Format{Text, JSON, Markdown}

// style is the meaning that a piece of text is shown with.
type style int

const (
	usual style = iota
	strong
	faint
	good
	warn
	bad
)

var colours = map[style]text.Colors{
	strong: {text.Bold},
	faint:  {text.Faint},
	good:   {text.FgGreen},
	warn:   {text.FgYellow},
	bad:    {text.FgRed},
}

// span is a piece of text with a meaning.
type span struct {
	text  string
	style style
}

func plain(format string, args ...any) span { return span{fmt.Sprintf(format, args...), usual} }

// block is a part of a document.
type block interface {
	text(w io.Writer, p palette)
	markdown(w io.Writer)
	html(w io.Writer)
}

// document is what is to be shown, in order.
type document struct{ blocks []block }

func (d *document) add(b ...block) { d.blocks = append(d.blocks, b...) }

// heading opens a part of the document.
type heading struct {
	title string
	note  string // said beside the title
}

// line is one line of spans.
type line []span

// list is a list of items.
type list []line

// tree is lines that stand as they are, under each other.
type tree []line

func (t tree) text(w io.Writer, p palette) {
	for _, l := range t {
		fmt.Fprint(w, "  ")
		l.text(w, p)
	}
}

func (t tree) markdown(w io.Writer) {
	var lines []string
	for _, l := range t {
		text := ""
		for _, s := range l {
			text += s.text
		}
		lines = append(lines, text)
	}
	fmt.Fprintln(w, harmless.Fenced(lines))
}

// grid is a table. Columns that are empty throughout are left out.
type grid struct {
	columns []string
	rows    []line
}

// code is text that stays as it is.
type code []string

// palette colours text, or does not, and breaks lines that are too long for a width; 0
// for any length.
type palette struct {
	on    bool
	width int
}

// narrowest is the least width that lines are broken for.
const narrowest = 30

// broken gives a line, which is painted already, in parts that fit: all but the first are
// indented a little more than it. No word is split.
func (p palette) broken(painted string) string {
	if p.width < narrowest || text.StringWidthWithoutEscSequences(painted) <= p.width {
		return painted
	}
	bare := strings.TrimLeft(painted, " ")
	indent := len(painted) - len(bare) + 2
	parts := strings.Split(text.WrapSoft(bare, p.width-indent), "\n")
	for i := range parts {
		parts[i] = strings.TrimRight(parts[i], " ")
		if i > 0 {
			parts[i] = strings.Repeat(" ", indent) + strings.TrimLeft(parts[i], " ")
		}
	}
	return strings.Repeat(" ", indent-2) + strings.Join(parts, "\n")
}

// paint is the door for every text on its way to a terminal.
func (p palette) paint(s span) string {
	s.text = harmless.Line(s.text)
	if c, ok := colours[s.style]; ok && p.on && s.text != "" {
		return text.Escape(s.text, c.EscapeSeq()) // whatever NO_COLOR says: who asks for colour gets it
	}
	return s.text
}

func (h heading) text(w io.Writer, p palette) {
	fmt.Fprint(w, p.paint(span{h.title, strong}))
	if h.note != "" {
		fmt.Fprint(w, "  ", p.paint(span{h.note, faint}))
	}
	fmt.Fprintln(w)
}

func (h heading) markdown(w io.Writer) {
	fmt.Fprintf(w, "## %s\n\n", harmless.Markdown(h.title))
	if h.note != "" {
		fmt.Fprintf(w, "%s\n\n", harmless.Markdown(h.note))
	}
}

func (l line) text(w io.Writer, p palette) { l.indented(w, p, "") }

// indented is the line behind something that indents it.
func (l line) indented(w io.Writer, p palette, indent string) {
	whole := indent
	for _, s := range l {
		whole += p.paint(s)
	}
	fmt.Fprintln(w, p.broken(whole))
}

func (l line) markdown(w io.Writer) {
	fmt.Fprint(w, l.marked(), "\n\n")
}

// marked is the line as Markdown shows it.
func (l line) marked() string {
	text := ""
	for _, s := range l {
		text += s.text
	}
	return harmless.Markdown(text)
}

func (l list) text(w io.Writer, p palette) {
	for _, item := range l {
		item.indented(w, p, "  ")
	}
}

func (l list) markdown(w io.Writer) {
	for _, item := range l {
		fmt.Fprint(w, "- ")
		fmt.Fprintln(w, strings.TrimLeft(item.marked(), " "))
	}
	fmt.Fprintln(w)
}

func (c code) text(w io.Writer, p palette) {
	for _, l := range c {
		fmt.Fprintln(w, "    "+p.paint(span{l, faint}))
	}
}

func (c code) markdown(w io.Writer) {
	fmt.Fprintln(w, harmless.Fenced(c))
}

// shown gives the table with the columns that say something.
func (g grid) shown(cell func(span) string) table.Writer {
	t := table.NewWriter()
	var header table.Row
	var keep []int
	for i, title := range g.columns {
		for _, row := range g.rows {
			if i < len(row) && row[i].text != "" {
				keep = append(keep, i)
				header = append(header, cell(span{title, faint}))
				break
			}
		}
	}
	t.AppendHeader(header)
	for _, row := range g.rows {
		var cells table.Row
		for _, i := range keep {
			if i < len(row) {
				cells = append(cells, cell(row[i]))
			} else {
				cells = append(cells, "")
			}
		}
		t.AppendRow(cells)
	}
	return t
}

func (g grid) text(w io.Writer, p palette) {
	t := g.shown(p.paint)
	s := table.StyleDefault
	s.Options = table.OptionsNoBordersAndSeparators
	s.Box.PaddingLeft, s.Box.PaddingRight = "  ", ""
	s.Format.Header = text.FormatDefault
	t.SetStyle(s)
	t.SetColumnConfigs(g.fitting(p))
	for row := range strings.Lines(t.Render()) {
		fmt.Fprintln(w, strings.TrimRight(row, " \n"))
	}
}

// fitting breaks the last column where the table is too wide.
func (g grid) fitting(p palette) []table.ColumnConfig {
	if p.width == 0 {
		return nil
	}
	widths := make([]int, len(g.columns))
	for i := range g.columns {
		for _, row := range g.rows {
			if i < len(row) {
				widths[i] = max(widths[i], text.StringWidth(row[i].text))
			}
		}
		if widths[i] > 0 {
			widths[i] = max(widths[i], text.StringWidth(g.columns[i])) + 2
		}
	}
	shown, others := 0, 0
	for i, w := range widths[:len(widths)-1] {
		others += w
		if w > 0 && i < len(widths)-1 {
			shown++
		}
	}
	last := p.width - others - 2
	if widths[len(widths)-1]-2 <= last || last < narrowest/2 {
		return nil
	}
	return []table.ColumnConfig{{Number: shown + 1, WidthMax: last, WidthMaxEnforcer: text.WrapSoft}}
}

func (g grid) markdown(w io.Writer) {
	fmt.Fprintf(w, "%s\n\n", g.shown(func(s span) string { return harmless.Markdown(s.text) }).RenderMarkdown())
}

// gap is an empty line in text.
type gap struct{}

func (gap) text(w io.Writer, _ palette) { fmt.Fprintln(w) }
func (gap) markdown(io.Writer)          {}

// show writes a document in a format; v is what JSON holds, under schema.
func show(w io.Writer, f Format, p palette, schema string, v any, d *document) error {
	var b strings.Builder
	switch f {
	case JSON:
		return showJSON(w, schema, v)
	case Markdown:
		for _, part := range d.blocks {
			part.markdown(&b)
		}
	default:
		for _, part := range d.blocks {
			part.text(&b, p)
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// showJSON writes v as an object whose first member names its schema.
func showJSON(w io.Writer, schema string, v any) error {
	var body bytes.Buffer
	e := json.NewEncoder(&body)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false) // a range stays ">=20"
	if err := e.Encode(v); err != nil {
		return err
	}
	head, err := json.Marshal("bellwether/" + schema + "/1")
	if err != nil {
		return err
	}
	rest := strings.TrimPrefix(strings.TrimSpace(harmless.JSON(body.String())), "{")
	if rest != "}" {
		rest = "," + rest
	}
	_, err = fmt.Fprintf(w, "{\n  \"schema\": %s%s\n", head, rest)
	return err
}
