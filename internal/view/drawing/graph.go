// Package drawing draws routes, proofs and chains of needs as SVG.
package drawing

import (
	"bytes"
	"fmt"
	"html"
	"path/filepath"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/layered"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
)

// graph is boxes with arrows between them, to be drawn.
type graph struct {
	Nodes  []*graphNode
	edges  []graphEdge
	legend []string // lines below the drawing
}

// graphNode is a box.
type graphNode struct {
	name, note string
	from       string // the version that it moves from
	fine       bool   // nothing has to be done about it
	look       string // another one of looks
}

// graphEdge is an arrow.
type graphEdge struct {
	from, to string
	label    string
	fine     bool
}

// node gives the box of a name, and adds it if it is new.
func (g *graph) node(name string) *graphNode {
	for _, n := range g.Nodes {
		if n.name == name {
			return n
		}
	}
	n := &graphNode{name: name, fine: true}
	g.Nodes = append(g.Nodes, n)
	return n
}

// edge adds an arrow; one that is there already gets the label, too.
func (g *graph) edge(from, to, label string, fine bool) {
	g.node(from)
	g.node(to)
	for i, e := range g.edges {
		if e.from == from && e.to == to {
			if label != "" && e.label != "" {
				label = ", " + label
			}
			g.edges[i].label, g.edges[i].fine = e.label+label, e.fine && fine
			return
		}
	}
	g.edges = append(g.edges, graphEdge{from, to, label, fine})
}

// draw gives the graph in the form that a file's name asks for: SVG for .svg, the
// Graphviz language for .dot or .gv.
func (g *graph) draw(file string) ([]byte, error) {
	switch filepath.Ext(file) {
	case ".svg":
		return g.svg(), nil
	case ".dot", ".gv":
		return g.dot(), nil
	}
	return nil, fmt.Errorf("--draw %s: the file's name ends in .svg or .dot", file)
}

// dot is the graph in the Graphviz language.
func (g *graph) dot() []byte {
	bold := map[bool]string{false: ", style=bold", true: ""}
	var b bytes.Buffer
	b.WriteString(
		"digraph bellwether {\n  rankdir=TB;\n  node [shape=box, fontname=\"sans-serif\"];\n  edge [fontname=\"sans-serif\", fontsize=10];\n",
	)
	if len(g.legend) > 0 {
		fmt.Fprintf(&b, "  label=%q; labeljust=l; fontname=\"sans-serif\"; fontsize=11;\n", strings.Join(g.legend, "\n"))
	}
	for _, n := range g.Nodes {
		fmt.Fprintf(&b, "  %q [label=%q%s];\n", n.name, strings.TrimSpace(harmless.Line(n.name)+"\n"+harmless.Line(n.note)), bold[n.fine])
	}
	for _, e := range g.edges {
		fmt.Fprintf(&b, "  %q -> %q [label=%q%s];\n", e.from, e.to, harmless.Line(e.label), bold[e.fine])
	}
	b.WriteString("}\n")
	return b.Bytes()
}

// Sizes of the drawing, in pixels.
const (
	boxWidth, boxHeight = 270, 46
	boxesAcross         = 4 // of a row
	margin              = 24
	lineHeight          = 20
	letter              = 7   // of a line below the drawing, and of a label
	secondLine          = 18  // what a box is higher by, where some name takes two lines
	nameLetters         = 30  // that fit in a box
	legendLetters       = 165 // that fit in a line
)

var measures = layered.Measures{Across: boxesAcross, Width: boxWidth, Height: boxHeight, Label: 16, Beside: 24, Between: 14}

// looks are how boxes are filled and framed: those that are fine, those that are not, what stays, and what goes away.
var looks = map[string][2]string{
	"fine": {"#eef4ee", "#5b8a5b"}, "": {"#fdf3e1", "#b7791f"}, "still": {"#f3f5f7", "#8793a1"}, "gone": {"#fbeceb", "#b4544c"},
}

// svg is the drawing as a file of its own.
func (g *graph) svg() []byte {
	var whole bytes.Buffer
	inner, width, height := g.drawing()
	fmt.Fprintf(&whole, `<svg xmlns="http://www.w3.org/2000/svg" width="%.0f" height="%.0f" viewBox="0 0 %.0f %.0f" `+
		`font-family="sans-serif" font-size="13">`+"\n", width, height, width, height)
	whole.WriteString(`<rect width="100%" height="100%" fill="#ffffff"/>` + "\n")
	whole.WriteString(inner)
	whole.WriteString("</svg>\n")
	return whole.Bytes()
}

// drawing is the boxes in rows, what leads to others above them, and the legend below. Its colours are those of a file of its
// own; a page has others for its classes.
func (g *graph) drawing() (inner string, width, height float64) {
	in := layered.Graph{Boxes: len(g.Nodes)}
	place := map[string]int{}
	for i, n := range g.Nodes {
		place[n.name] = i
	}
	var edges []graphEdge
	for _, e := range g.edges {
		if e.from == e.to {
			continue
		}
		edge := layered.Edge{From: place[e.from], To: place[e.to]}
		if e.label != "" {
			edge.Label = float64(letter*len([]rune(shorten(e.label, nameLetters))) + 12)
		}
		in.Edges, edges = append(in.Edges, edge), append(edges, e)
	}
	sizes := measures
	for _, n := range g.Nodes {
		if len(n.lines()) > 1 {
			sizes.Height = boxHeight + secondLine
		}
	}
	l := layered.Place(in, sizes)
	var b strings.Builder
	for i, e := range edges {
		arrow(&b, e, l.Ways[i])
	}
	for i, n := range g.Nodes {
		box(&b, n, l.Boxes[i], sizes.Height)
	}
	width, height = l.Width+2*margin, l.Height+2*margin
	for _, sentence := range g.legend {
		for i, line := range strings.Split(text.WrapSoft(harmless.Line(sentence), legendLetters), "\n") {
			x := margin
			if i > 0 {
				x += 2 * letter
			}
			line = strings.TrimSpace(line)
			fmt.Fprintf(&b, `<text class="legend" x="%d" y="%.0f" fill="#1f2933">%s</text>`+"\n", x, height+lineHeight/2, markup(line))
			height += lineHeight
			width = max(width, float64(x+margin+letter*text.StringWidth(line)))
		}
	}
	return b.String(), width, height
}

// lines are a box's name; one that is long is parted before its own last part.
func (n *graphNode) lines() []string {
	name := harmless.Line(n.name)
	at := strings.LastIndexAny(strings.TrimRight(name, ":/"), ":/") + 1
	if text.StringWidth(name) <= nameLetters || at == 0 {
		return []string{shorten(name, nameLetters)}
	}
	return []string{shorten(name[:at], nameLetters), shorten(name[at:], nameLetters)}
}

func box(b *strings.Builder, n *graphNode, at layered.Point, height float64) {
	look := n.look
	if look == "" && n.fine {
		look = "fine"
	}
	x, y := at.X+margin, at.Y+margin
	fmt.Fprintf(b, `<rect class="%s" x="%.1f" y="%.1f" width="%d" height="%.0f" rx="6" fill="%s" stroke="%s"/>`+"\n",
		look, x, y, boxWidth, height, looks[look][0], looks[look][1])
	for _, line := range n.lines() {
		fmt.Fprintf(b, `<text x="%.1f" y="%.1f" fill="#1f2933">%s</text>`+"\n", x+10, y+20, markup(line))
		y += secondLine
	}
	if n.note != "" {
		fmt.Fprintf(b, `<text class="small" x="%.1f" y="%.1f" font-size="11" fill="#44546a">%s</text>`+"\n",
			x+10, y+19, markup(shorten(n.note, nameLetters+4)))
	}
}

func arrow(b *strings.Builder, e graphEdge, way layered.Way) {
	style := `fill="none" stroke="#44546a" stroke-width="1.5"`
	if e.fine {
		style += ` stroke-dasharray="4 3"`
	}
	points := slices.Clone(way.Points)
	for i := range points {
		points[i].X, points[i].Y = points[i].X+margin, points[i].Y+margin
	}
	end := points[len(points)-1]
	head := 8.0 // it points down, or up where a circle is closed
	if points[0].Y > end.Y {
		head = -8
	}
	points[len(points)-1].Y -= head
	points[len(points)-2].Y -= head
	fmt.Fprintf(b, `<path d="M%.1f %.1f`, points[0].X, points[0].Y)
	for i, to := range points[1:] {
		switch from := points[i]; {
		case from == to:
		case i%2 == 0: // a straight part
			fmt.Fprintf(b, " L%.1f %.1f", to.X, to.Y)
		default:
			middle := (from.Y + to.Y) / 2
			fmt.Fprintf(b, " C%.1f %.1f %.1f %.1f %.1f %.1f", from.X, middle, to.X, middle, to.X, to.Y)
		}
	}
	fmt.Fprintf(b, `" %s/>`+"\n", style)
	fmt.Fprintf(b, `<path class="head" d="M%.1f %.1f L%.1f %.1f L%.1f %.1f z" fill="#44546a"/>`+"\n",
		end.X-4, end.Y-head, end.X, end.Y, end.X+4, end.Y-head)
	if e.label != "" {
		fmt.Fprintf(b, `<text class="small" x="%.1f" y="%.1f" font-size="11" fill="#44546a">%s</text>`+"\n",
			way.Label.X+margin+6, way.Label.Y+margin+4, markup(shorten(e.label, nameLetters)))
	}
}

// markup is a text as it stands in an SVG.
func markup(text string) string { return html.EscapeString(harmless.Line(text)) }

// shorten cuts a text that is too long for its place.
func shorten(text string, width int) string {
	runes := []rune(harmless.Line(text))
	if len(runes) <= width {
		return string(runes)
	}
	return string(runes[:width-1]) + "…"
}

// The widths of drawings, in steps: a page lets no style stand in an element.
const (
	widthStep = 80 // pixels
	mostSteps = 40
)

// widthClass is the class of a drawing that is so many pixels wide.
func widthClass(width float64) string {
	return fmt.Sprintf("w%d", min(int(width)/widthStep+1, mostSteps))
}

// Widths is the style of these classes: no wider than drawn, and not so narrow that nobody can read it.
func Widths() string {
	var b strings.Builder
	for n := 1; n <= mostSteps; n++ {
		fmt.Fprintf(&b, "svg.w%d { max-width: %dpx; min-width: min(44rem, %dpx); }\n", n, n*widthStep, n*widthStep)
	}
	return b.String()
}

// SubjectOf is the subject of "runtime/node 20".
func SubjectOf(by string) string {
	subject, _, _ := strings.Cut(by, " ")
	return subject
}

// IsPin tells whether a move is of a runtime, tool, platform or image.
func IsPin(m output.MoveSummary) bool {
	s, ok := model.ReadSubject(m.Name)
	return ok && s.IsPin()
}
