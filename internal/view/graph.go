package view

import (
	"bytes"
	"cmp"
	"fmt"
	"html"
	"path/filepath"
	"slices"
	"strings"

	"bellwether/internal/core/harmless"
)

// graph is boxes with arrows between them, to be drawn.
type graph struct {
	nodes  []*graphNode
	edges  []graphEdge
	legend []string // lines below the drawing
}

// graphNode is a box.
type graphNode struct {
	name, note string
	fine       bool // nothing has to be done about it
	depth, row int
}

// graphEdge is an arrow.
type graphEdge struct {
	from, to string
	label    string
	fine     bool
}

// node gives the box of a name, and adds it if it is new.
func (g *graph) node(name string) *graphNode {
	for _, n := range g.nodes {
		if n.name == name {
			return n
		}
	}
	n := &graphNode{name: name, fine: true}
	g.nodes = append(g.nodes, n)
	return n
}

// edge adds an arrow; one that is there already gets the label, too.
func (g *graph) edge(from, to, label string, fine bool) {
	g.node(from)
	g.node(to)
	for i, e := range g.edges {
		if e.from == from && e.to == to {
			g.edges[i].label, g.edges[i].fine = e.label+", "+label, e.fine && fine
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
		g.layOut()
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
		"digraph bellwether {\n  rankdir=LR;\n  node [shape=box, fontname=\"sans-serif\"];\n  edge [fontname=\"sans-serif\", fontsize=10];\n",
	)
	if len(g.legend) > 0 {
		fmt.Fprintf(&b, "  label=%q; labeljust=l; fontname=\"sans-serif\"; fontsize=11;\n", strings.Join(g.legend, "\n"))
	}
	for _, n := range g.nodes {
		fmt.Fprintf(&b, "  %q [label=%q%s];\n", n.name, strings.TrimSpace(harmless.Line(n.name)+"\n"+harmless.Line(n.note)), bold[n.fine])
	}
	for _, e := range g.edges {
		fmt.Fprintf(&b, "  %q -> %q [label=%q%s];\n", e.from, e.to, harmless.Line(e.label), bold[e.fine])
	}
	b.WriteString("}\n")
	return b.Bytes()
}

// layOut puts each box in a column by the longest way to it, and in a row near
// those that lead to it.
func (g *graph) layOut() {
	for range g.nodes { // a circle ends it
		for _, e := range g.edges {
			to := g.node(e.to)
			to.depth = max(to.depth, min(g.node(e.from).depth+1, len(g.nodes)-1))
		}
	}
	slices.SortStableFunc(g.nodes, func(a, b *graphNode) int { return a.depth - b.depth })
	for first := 0; first < len(g.nodes); {
		column := g.nodes[first:]
		if end := slices.IndexFunc(column, func(n *graphNode) bool { return n.depth != column[0].depth }); end >= 0 {
			column = column[:end]
		}
		g.arrange(column)
		first += len(column)
	}
}

func (g *graph) arrange(column []*graphNode) {
	middle := map[*graphNode]float64{}
	for i, n := range column {
		sum, count := 0.0, 0.0
		for _, e := range g.edges {
			if from := g.node(e.from); e.to == n.name && from.depth < n.depth {
				sum, count = sum+float64(from.row), count+1
			}
		}
		middle[n] = float64(i)
		if count > 0 {
			middle[n] = sum / count
		}
	}
	slices.SortStableFunc(column, func(a, b *graphNode) int { return cmp.Compare(middle[a], middle[b]) })
	for i, n := range column {
		n.row = i
		if i > 0 {
			n.row = column[i-1].row + 1
		}
		n.row = max(n.row, int(middle[n]))
	}
}

// Sizes of the drawing, in pixels.
const (
	boxWidth, boxHeight = 250, 46
	columnGap, rowGap   = 110, 24
	margin              = 24
	lineHeight          = 20
	pageWidth           = 1240
)

func (n *graphNode) at() (x, y int) {
	return margin + n.depth*(boxWidth+columnGap), margin + n.row*(boxHeight+rowGap)
}

// canvas is a drawing that grows.
type canvas struct {
	shapes, labels bytes.Buffer // labels lie over all lines
	width, height  int
	lanes          map[int]int // how many labels there are between two rows
}

// svg draws the boxes and arrows, and the legend below them.
func (g *graph) svg() []byte {
	c := &canvas{lanes: map[int]int{}}
	for _, n := range g.nodes {
		x, y := n.at()
		c.width, c.height = max(c.width, x+boxWidth+margin), max(c.height, y+boxHeight+margin)
	}
	for _, e := range g.edges {
		c.arrow(e, g.node(e.from), g.node(e.to))
	}
	for _, n := range g.nodes {
		c.box(n)
	}
	for _, text := range g.legend {
		fmt.Fprintf(&c.shapes, `<text x="%d" y="%d" fill="#1f2933">%s</text>`+"\n", margin, c.height+lineHeight/2, markup(text))
		c.height += lineHeight
		c.width = max(c.width, 2*margin+len([]rune(text))*7)
	}
	// What is wider than a page is shown smaller; a viewer can make it larger again.
	shown := min(c.width, pageWidth)
	var whole bytes.Buffer
	fmt.Fprintf(
		&whole,
		`<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" viewBox="0 0 %d %d" font-family="sans-serif" font-size="13">`+"\n",
		shown,
		c.height*shown/c.width,
		c.width,
		c.height,
	)
	whole.WriteString(`<rect width="100%" height="100%" fill="#ffffff"/>` + "\n")
	whole.Write(c.shapes.Bytes())
	whole.Write(c.labels.Bytes())
	whole.WriteString("</svg>\n")
	return whole.Bytes()
}

func (c *canvas) box(n *graphNode) {
	x, y := n.at()
	fill, edge := "#eef4ee", "#5b8a5b"
	if !n.fine {
		fill, edge = "#fdf3e1", "#b7791f"
	}
	fmt.Fprintf(
		&c.shapes, `<rect x="%d" y="%d" width="%d" height="%d" rx="6" fill="%s" stroke="%s"/>`+"\n", x, y, boxWidth, boxHeight, fill,
		edge,
	)
	fmt.Fprintf(&c.shapes, `<text x="%d" y="%d" fill="#1f2933">%s</text>`+"\n", x+12, y+20, markup(shorten(n.name, 34)))
	fmt.Fprintf(&c.shapes, `<text x="%d" y="%d" font-size="11" fill="#44546a">%s</text>`+"\n", x+12, y+36, markup(shorten(n.note, 40)))
}

func (c *canvas) arrow(e graphEdge, from, to *graphNode) {
	x1, y1 := from.at()
	x2, y2 := to.at()
	x1, y1, y2 = x1+boxWidth, y1+boxHeight/2, y2+boxHeight/2
	style := `fill="none" stroke="#44546a" stroke-width="1.5"`
	if e.fine {
		style += ` stroke-dasharray="4 3"`
	}
	x, y := (x1+x2)/2, (y1+y2)/2
	if x2 > x1 && x2-x1 <= columnGap {
		fmt.Fprintf(&c.shapes, `<path d="M%d %d C%d %d %d %d %d %d" %s/>`+"\n", x1, y1, x1+columnGap/2, y1, x2-columnGap/2, y2, x2-6, y2, style)
	} else {
		// A line past other columns, or back, goes between the rows, and has its label there.
		lane := y1 + boxHeight/2 + rowGap/2
		fmt.Fprintf(&c.shapes, `<path d="M%d %d C%d %d %d %d %d %d L%d %d C%d %d %d %d %d %d" %s/>`+"\n",
			x1, y1, x1+columnGap/2, y1, x1+columnGap/2, lane, x1+columnGap, lane,
			x2-columnGap, lane, x2-columnGap/2, lane, x2-columnGap/2, y2, x2-6, y2, style)
		x, y = x1+columnGap+boxWidth/2+80*c.lanes[lane], lane
		if x2 <= x1 {
			x = x1 - boxWidth/2 + 80*c.lanes[lane]
		}
		c.lanes[lane]++
		c.height = max(c.height, lane+margin)
		c.width = max(c.width, x1+columnGap+margin)
	}
	fmt.Fprintf(&c.shapes, `<path d="M%d %d L%d %d L%d %d z" fill="#44546a"/>`+"\n", x2-8, y2-4, x2, y2, x2-8, y2+4)
	text := shorten(e.label, 14)
	width := 7*len([]rune(text)) + 8
	fmt.Fprintf(
		&c.labels,
		`<rect x="%d" y="%d" width="%d" height="16" rx="3" fill="#ffffff"/><text x="%d" y="%d" text-anchor="middle" font-size="11" `+
			`fill="#44546a">%s</text>`+"\n",
		x-width/2, y-9, width, x, y+3, markup(text),
	)
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
