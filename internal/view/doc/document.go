// Package doc is what is to be shown, as blocks of lines with meanings, written as text, Markdown and HTML.
package doc

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

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

// Style is the meaning that a piece of text is shown with.
type Style int

// The meanings.
const (
	StyleUsual Style = iota
	StyleStrong
	StyleFaint
	StyleGood
	StyleWarn
	StyleBad
)

var colours = map[Style]text.Colors{
	StyleStrong: {text.Bold},
	StyleFaint:  {text.Faint},
	StyleGood:   {text.FgGreen},
	StyleWarn:   {text.FgYellow},
	StyleBad:    {text.FgRed},
}

// Span is a piece of text with a meaning.
type Span struct {
	Text  string
	Style Style
}

// Plain is text without a meaning of its own.
func Plain(format string, args ...any) Span { return Span{fmt.Sprintf(format, args...), StyleUsual} }

// Usual is text as it is.
func Usual(text string) Span { return Span{text, StyleUsual} }

// Styled is text with a meaning.
func Styled(text string, s Style) Span { return Span{text, s} }

// Strong is text that matters most in its line.
func Strong(text string) Span { return Span{text, StyleStrong} }

// Faint is text that may be passed over.
func Faint(text string) Span { return Span{text, StyleFaint} }

// Good is text that says that something is well.
func Good(text string) Span { return Span{text, StyleGood} }

// Warn is text that says that something wants a look.
func Warn(text string) Span { return Span{text, StyleWarn} }

// Bad is text that says that something is wrong.
func Bad(text string) Span { return Span{text, StyleBad} }

// Block is a part of a document.
type Block interface {
	Text(w io.Writer, p Palette)
	Markdown(w io.Writer)
	HTML(w io.Writer)
}

// Document is what is to be shown, in order.
type Document struct{ Blocks []Block }

// Add puts blocks at the end.
func (d *Document) Add(b ...Block) { d.Blocks = append(d.Blocks, b...) }

// Heading opens a part of the document.
type Heading struct {
	Title string
	Note  string // said beside the title
}

// Line is one line of spans.
type Line []Span

// List is a list of items.
type List []Line

// Tree is lines that stand as they are, under each other.
type Tree []Line

// Text writes it for a terminal.
func (t Tree) Text(w io.Writer, p Palette) {
	for _, l := range t {
		fmt.Fprint(w, "  ")
		l.Text(w, p)
	}
}

// Markdown writes it as Markdown.
func (t Tree) Markdown(w io.Writer) {
	var lines []string
	for _, l := range t {
		text := ""
		for _, s := range l {
			text += s.Text
		}
		lines = append(lines, text)
	}
	fmt.Fprintln(w, harmless.Fenced(lines))
}

// Grid is a table. Columns that are empty throughout are left out.
type Grid struct {
	Columns []string
	Rows    []Line
}

// Code is text that stays as it is.
type Code []string

// Palette colours text, or does not, and breaks lines that are too long for a width; 0
// for any length.
type Palette struct {
	On    bool
	Width int
}

// narrowest is the least width that lines are broken for.
const narrowest = 30

// broken gives a line, which is painted already, in parts that fit: all but the first are
// indented a little more than it. No word is split.
func (p Palette) broken(painted string) string {
	if p.Width < narrowest || text.StringWidthWithoutEscSequences(painted) <= p.Width {
		return painted
	}
	bare := strings.TrimLeft(painted, " ")
	indent := len(painted) - len(bare)
	behind := hang(text.StripEscape(bare), p.Width-indent)
	// What stands in columns before the text keeps its place: the text is broken behind it.
	parts := strings.Split(text.WrapSoft(strings.Repeat("x", behind)+after(bare, behind), p.Width-indent), "\n")
	parts[0] = before(bare, behind) + strings.TrimPrefix(parts[0], strings.Repeat("x", behind))
	for i := 1; i < len(parts); i++ {
		parts[i] = strings.TrimLeft(parts[i], " ")
	}
	if len(parts) > 1 { // behind the columns there is less room than at the beginning of a line
		rest := strings.Join(parts[1:], " ")
		parts = append(parts[:1], strings.Split(text.WrapSoft(rest, p.Width-indent-max(behind, 2)), "\n")...)
	}
	for i := range parts {
		parts[i] = strings.TrimRight(parts[i], " ")
		if i > 0 {
			parts[i] = strings.Repeat(" ", indent+max(behind, 2)) + strings.TrimLeft(parts[i], " ")
		}
	}
	return strings.Repeat(" ", indent) + strings.Join(parts, "\n")
}

// hang is how many characters of a line are columns before its text, each with two blanks behind it; 0 for none, and where they
// take more than a third of the width.
func hang(bare string, width int) (columns int) {
	for at := 0; ; {
		n := strings.Index(bare[at:], "  ")
		if n < 0 {
			return columns
		}
		at += n + len(bare[at+n:]) - len(strings.TrimLeft(bare[at+n:], " "))
		if at > width/3 || at >= len(bare) {
			return columns
		}
		columns = utf8.RuneCountInString(bare[:at])
	}
}

// before and after part a painted line behind so many characters that are seen.
func before(painted string, seen int) string { return painted[:place(painted, seen)] }
func after(painted string, seen int) string  { return painted[place(painted, seen):] }

func place(painted string, seen int) int {
	escaped := false
	for i, r := range painted {
		switch {
		case escaped:
			escaped = r != 'm'
		case r == '\x1b':
			escaped = true
		case seen == 0:
			return i
		default:
			seen--
		}
	}
	return len(painted)
}

// paint is the door for every text on its way to a terminal.
func (p Palette) paint(s Span) string {
	s.Text = harmless.Line(s.Text)
	return p.colour(s)
}

// colour gives a text that is harmless already its colour.
func (p Palette) colour(s Span) string {
	if c, ok := colours[s.Style]; ok && p.On && s.Text != "" {
		return text.Escape(s.Text, c.EscapeSeq()) // whatever NO_COLOR says: who asks for colour gets it
	}
	return s.Text
}

// Text writes it for a terminal.
func (h Heading) Text(w io.Writer, p Palette) {
	fmt.Fprint(w, p.paint(Span{h.Title, StyleStrong}))
	if h.Note != "" {
		fmt.Fprint(w, "  ", p.paint(Span{h.Note, StyleFaint}))
	}
	fmt.Fprintln(w)
}

// Markdown writes it as Markdown.
func (h Heading) Markdown(w io.Writer) {
	fmt.Fprintf(w, "## %s\n\n", harmless.Markdown(h.Title))
	if h.Note != "" {
		fmt.Fprintf(w, "%s\n\n", harmless.Markdown(h.Note))
	}
}

// Text writes it for a terminal.
func (l Line) Text(w io.Writer, p Palette) { l.indented(w, p, "") }

// indented is the line behind something that indents it.
func (l Line) indented(w io.Writer, p Palette, indent string) {
	whole := indent
	for _, s := range l {
		whole += p.paint(s)
	}
	fmt.Fprintln(w, p.broken(whole))
}

// Markdown writes it as Markdown.
func (l Line) Markdown(w io.Writer) {
	fmt.Fprint(w, l.marked(), "\n\n")
}

// marked is the line as Markdown shows it.
func (l Line) marked() string {
	text := ""
	for _, s := range l {
		text += s.Text
	}
	return harmless.Markdown(text)
}

// Text writes it for a terminal.
func (l List) Text(w io.Writer, p Palette) {
	for _, item := range l {
		item.indented(w, p, "  ")
	}
}

// Markdown writes it as Markdown.
func (l List) Markdown(w io.Writer) {
	for _, item := range l {
		fmt.Fprint(w, "- ")
		fmt.Fprintln(w, strings.TrimLeft(item.marked(), " "))
	}
	fmt.Fprintln(w)
}

// Text writes it for a terminal.
func (c Code) Text(w io.Writer, p Palette) {
	for _, l := range c {
		fmt.Fprintln(w, "    "+p.paint(Span{l, StyleFaint}))
	}
}

// Markdown writes it as Markdown.
func (c Code) Markdown(w io.Writer) {
	fmt.Fprintln(w, harmless.Fenced(c))
}

// Row adds a row.
func (g *Grid) Row(cells ...Span) { g.Rows = append(g.Rows, cells) }

// shown gives the table with the columns that say something.
func (g Grid) shown(cell func(Span) string) table.Writer {
	t := table.NewWriter()
	var header table.Row
	var keep []int
	for i, title := range g.Columns {
		for _, row := range g.Rows {
			if i < len(row) && row[i].Text != "" {
				keep = append(keep, i)
				header = append(header, cell(Span{title, StyleFaint}))
				break
			}
		}
	}
	t.AppendHeader(header)
	for _, row := range g.Rows {
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

// Text writes it for a terminal.
func (g Grid) Text(w io.Writer, p Palette) {
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

// fitting breaks a column where the table is too wide: the last one, or where that leaves it too little room, the widest.
func (g Grid) fitting(p Palette) []table.ColumnConfig {
	if p.Width == 0 {
		return nil
	}
	var widths []int // of the columns that are shown, with the blanks behind them
	for i := range g.Columns {
		width := 0
		for _, row := range g.Rows {
			if i < len(row) {
				width = max(width, text.StringWidth(row[i].Text))
			}
		}
		if width > 0 {
			widths = append(widths, max(width, text.StringWidth(g.Columns[i]))+2)
		}
	}
	whole, widest := 0, 0
	for i, w := range widths {
		whole += w
		if w >= widths[widest] {
			widest = i
		}
	}
	over := whole - p.Width
	if over <= 0 || len(widths) == 0 {
		return nil
	}
	for _, at := range []int{len(widths) - 1, widest} {
		if room := widths[at] - 2 - over; room >= narrowest/2 {
			return []table.ColumnConfig{{Number: at + 1, WidthMax: room, WidthMaxEnforcer: text.WrapSoft}}
		}
	}
	return nil
}

// Markdown writes it as Markdown.
func (g Grid) Markdown(w io.Writer) {
	fmt.Fprintf(w, "%s\n\n", g.shown(func(s Span) string { return harmless.Markdown(s.Text) }).RenderMarkdown())
}

// Gap is an empty line in text.
type Gap struct{}

func (Gap) Text(w io.Writer, _ Palette) { fmt.Fprintln(w) }

func (Gap) Markdown(io.Writer) {}

// Show writes a document in a format; v is what JSON holds, under schema.
func Show(w io.Writer, f Format, p Palette, schema string, v any, d *Document) error {
	var b strings.Builder
	switch f {
	case JSON:
		return showJSON(w, schema, v)
	case Markdown:
		for _, part := range d.Blocks {
			part.Markdown(&b)
		}
	default:
		for _, part := range d.Blocks {
			part.Text(&b, p)
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

// Count is a number with its noun, as sentences say it.
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
