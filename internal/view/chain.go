package view

import (
	"bytes"
	"cmp"
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
	slices.SortStableFunc(nodes, func(a, b *chainNode) int { return a.depth - b.depth })
	for first := 0; first < len(nodes); {
		column := nodes[first:]
		for i, n := range column {
			if n.depth != column[0].depth {
				column = column[:i]
				break
			}
		}
		arrange(column, r.Chain, byName)
		first += len(column)
	}
	return nodes
}

// arrange puts each subject of a column near those that need it.
func arrange(column []*chainNode, links []model.ChainLink, byName map[string]*chainNode) {
	middle := map[*chainNode]float64{}
	for i, n := range column {
		sum, count := 0.0, 0.0
		for _, l := range links {
			if from := byName[subjectOf(l.By)]; l.Need == n.subject && from.depth < n.depth {
				sum, count = sum+float64(from.row), count+1
			}
		}
		middle[n] = float64(i)
		if count > 0 {
			middle[n] = sum / count
		}
	}
	slices.SortStableFunc(column, func(a, b *chainNode) int { return cmp.Compare(middle[a], middle[b]) })
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
	var b bytes.Buffer     // what is drawn, without what is around it
	var labels []string    // over all lines
	lanes := map[int]int{} // how many labels there are between two rows
	for _, l := range r.Chain {
		x1, y1 := byName[subjectOf(l.By)].at()
		x2, y2 := byName[l.Need].at()
		x1, y1, y2 = x1+boxWidth, y1+boxHeight/2, y2+boxHeight/2
		dash := ""
		if l.Holds {
			dash = ` stroke-dasharray="4 3"`
		}
		text := shorten(l.Range, 14)
		width := 7*len([]rune(text)) + 8
		x, y := (x1+x2)/2, (y1+y2)/2
		if x2-x1 <= columnGap {
			fmt.Fprintf(&b, `<path d="M%d %d C%d %d %d %d %d %d" fill="none" stroke="#44546a" stroke-width="1.5"%s/>`+"\n", x1, y1, x1+columnGap/2, y1, x2-columnGap/2, y2, x2-6, y2, dash)
		} else {
			// A line past other columns goes between the rows, and has its label there.
			lane := y1 + boxHeight/2 + rowGap/2
			fmt.Fprintf(&b, `<path d="M%d %d C%d %d %d %d %d %d L%d %d C%d %d %d %d %d %d" fill="none" stroke="#44546a" stroke-width="1.5"%s/>`+"\n",
				x1, y1, x1+columnGap/2, y1, x1+columnGap/2, lane, x1+columnGap, lane, x2-columnGap, lane, x2-columnGap/2, lane, x2-columnGap/2, y2, x2-6, y2, dash)
			x, y = x1+columnGap+boxWidth/2+80*lanes[lane], lane
			lanes[lane]++
			height = max(height, lane+margin)
		}
		fmt.Fprintf(&b, `<path d="M%d %d L%d %d L%d %d z" fill="#44546a"/>`+"\n", x2-8, y2-4, x2, y2, x2-8, y2+4)
		labels = append(labels, fmt.Sprintf(`<rect x="%d" y="%d" width="%d" height="16" rx="3" fill="#ffffff"/><text x="%d" y="%d" text-anchor="middle" font-size="11" fill="#44546a">%s</text>`+"\n",
			x-width/2, y-9, width, x, y+3, html.EscapeString(text)))
	}
	for _, n := range nodes {
		x, y := n.at()
		fill, edge := "#eef4ee", "#5b8a5b"
		if !n.met {
			fill, edge = "#fdf3e1", "#b7791f"
		}
		fmt.Fprintf(&b, `<rect x="%d" y="%d" width="%d" height="%d" rx="6" fill="%s" stroke="%s"/>`+"\n", x, y, boxWidth, boxHeight, fill, edge)
		fmt.Fprintf(&b, `<text x="%d" y="%d" fill="#1f2933">%s</text>`+"\n", x+12, y+20, html.EscapeString(shorten(n.subject, 34)))
		fmt.Fprintf(&b, `<text x="%d" y="%d" font-size="11" fill="#44546a">%s</text>`+"\n", x+12, y+36, html.EscapeString(strings.Trim(n.to+", "+n.verdict, ", ")))
	}
	var whole bytes.Buffer
	fmt.Fprintf(&whole, `<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" viewBox="0 0 %d %d" font-family="sans-serif" font-size="13">`+"\n", width, height, width, height)
	whole.WriteString(`<rect width="100%" height="100%" fill="#ffffff"/>` + "\n")
	whole.Write(b.Bytes())
	whole.WriteString(strings.Join(labels, "") + "</svg>\n")
	return whole.Bytes()
}

// shorten cuts a text that is too long for its place.
func shorten(text string, width int) string {
	runes := []rune(text)
	if len(runes) <= width {
		return text
	}
	return string(runes[:width-1]) + "…"
}
