package view

import (
	"bytes"
	"fmt"
	"html"
	"path/filepath"
	"slices"
	"strings"

	"bellwether/internal/core/model"
)

// Chain draws the needs of prerequisites in the form that a file's name asks
// for: SVG for .svg, the Graphviz language for .dot or .gv.
func Chain(file string, r *model.Prereqs) ([]byte, error) {
	switch filepath.Ext(file) {
	case ".svg":
		return chainSVG(r), nil
	case ".dot", ".gv":
		return chainDOT(r), nil
	}
	return nil, fmt.Errorf("--draw %s: the file's name ends in .svg or .dot", file)
}

// chainDOT is the chain in the Graphviz language.
func chainDOT(r *model.Prereqs) []byte {
	var b bytes.Buffer
	b.WriteString("digraph prerequisites {\n  rankdir=LR;\n  node [shape=box, fontname=\"sans-serif\"];\n  edge [fontname=\"sans-serif\", fontsize=10];\n")
	for _, n := range nodesOf(r) {
		fmt.Fprintf(&b, "  %q [label=%q%s];\n", n.subject, n.label(), map[bool]string{false: ", style=bold", true: ""}[n.met])
	}
	for _, l := range r.Chain {
		fmt.Fprintf(&b, "  %q -> %q [label=%q%s];\n", subjectOf(l.By), l.Need, l.Range, map[bool]string{false: ", style=bold", true: ""}[l.Holds])
	}
	b.WriteString("}\n")
	return b.Bytes()
}

// chainNode is a subject in the drawing.
type chainNode struct {
	subject, to, verdict string
	met                  bool
	depth, row           int
}

func (n *chainNode) label() string {
	text := n.subject
	if n.to != "" {
		text += " " + n.to
	}
	return text
}

// nodesOf are the subjects of a chain. The depth of each is the longest way to
// it from one that nothing needs.
func nodesOf(r *model.Prereqs) []*chainNode {
	var nodes []*chainNode
	byName := map[string]*chainNode{}
	add := func(subject, to string) *chainNode {
		if n := byName[subject]; n != nil {
			return n
		}
		n := &chainNode{subject: subject, to: to, met: true}
		byName[subject] = n
		nodes = append(nodes, n)
		return n
	}
	for _, l := range r.Chain {
		_, to, _ := strings.Cut(l.By, " ")
		add(subjectOf(l.By), to)
		add(l.Need, "")
	}
	for _, row := range r.Rows {
		n := add(row.Subject, row.Need)
		n.to, n.verdict, n.met = row.Need, row.Verdict, row.Verdict == model.VerdictMet
	}
	for range nodes { // a circle ends it
		for _, l := range r.Chain {
			from, to := byName[subjectOf(l.By)], byName[l.Need]
			to.depth = max(to.depth, min(from.depth+1, len(nodes)))
		}
	}
	rows := map[int]int{}
	slices.SortStableFunc(nodes, func(a, b *chainNode) int { return a.depth - b.depth })
	for _, n := range nodes {
		n.row = rows[n.depth]
		rows[n.depth]++
	}
	return nodes
}

// Sizes of the drawing, in pixels.
const (
	boxWidth, boxHeight = 220, 46
	columnGap, rowGap   = 110, 24
	margin              = 24
)

func (n *chainNode) at() (x, y int) {
	return margin + n.depth*(boxWidth+columnGap), margin + n.row*(boxHeight+rowGap)
}

// chainSVG draws what needs to the left of what is needed.
func chainSVG(r *model.Prereqs) []byte {
	nodes := nodesOf(r)
	byName := map[string]*chainNode{}
	width, height := 0, 0
	for _, n := range nodes {
		byName[n.subject] = n
		x, y := n.at()
		width, height = max(width, x+boxWidth+margin), max(height, y+boxHeight+margin)
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" viewBox="0 0 %d %d" font-family="sans-serif" font-size="13">`+"\n", width, height, width, height)
	b.WriteString(`<defs><marker id="tip" viewBox="0 0 8 8" refX="8" refY="4" markerWidth="8" markerHeight="8" orient="auto"><path d="M0 0 L8 4 L0 8 z" fill="#44546a"/></marker></defs>` + "\n")
	b.WriteString(`<rect width="100%" height="100%" fill="#ffffff"/>` + "\n")
	for _, l := range r.Chain {
		x1, y1 := byName[subjectOf(l.By)].at()
		x2, y2 := byName[l.Need].at()
		x1, y1, y2 = x1+boxWidth, y1+boxHeight/2, y2+boxHeight/2
		dash := ""
		if l.Holds {
			dash = ` stroke-dasharray="4 3"`
		}
		fmt.Fprintf(&b, `<path d="M%d %d C%d %d %d %d %d %d" fill="none" stroke="#44546a" stroke-width="1.5"%s marker-end="url(#tip)"/>`+"\n", x1, y1, x1+columnGap/2, y1, x2-columnGap/2, y2, x2, y2, dash)
		fmt.Fprintf(&b, `<text x="%d" y="%d" text-anchor="middle" font-size="11" fill="#44546a" stroke="#ffffff" stroke-width="3" paint-order="stroke">%s</text>`+"\n", x1+(x2-x1)/2, y1+(y2-y1)/2-5, html.EscapeString(shorten(l.Range, 18)))
	}
	for _, n := range nodes {
		x, y := n.at()
		fill, edge := "#eef4ee", "#5b8a5b"
		if !n.met {
			fill, edge = "#fdf3e1", "#b7791f"
		}
		fmt.Fprintf(&b, `<rect x="%d" y="%d" width="%d" height="%d" rx="6" fill="%s" stroke="%s"/>`+"\n", x, y, boxWidth, boxHeight, fill, edge)
		fmt.Fprintf(&b, `<text x="%d" y="%d" fill="#1f2933">%s</text>`+"\n", x+12, y+20, html.EscapeString(shorten(n.subject, 28)))
		fmt.Fprintf(&b, `<text x="%d" y="%d" font-size="11" fill="#44546a">%s</text>`+"\n", x+12, y+36, html.EscapeString(strings.Trim(n.to+", "+n.verdict, ", ")))
	}
	b.WriteString("</svg>\n")
	return b.Bytes()
}

// shorten cuts a text that is too long for its place.
func shorten(text string, width int) string {
	runes := []rune(text)
	if len(runes) <= width {
		return text
	}
	return string(runes[:width-1]) + "…"
}
