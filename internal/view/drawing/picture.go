package drawing

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"bellwether/internal/core/output"
	"bellwether/internal/core/report"
	"bellwether/internal/view/doc"
)

// The bounds of a drawn graph, so that it can still be read: its boxes, and those below one package that have nothing below
// them.
const (
	mostBoxes  = 28
	mostLeaves = 3
)

// ChangedGraph is what moved along with others, below what brings it: moves of requirements that bring nothing along are
// left out.
func ChangedGraph(r *report.Report) *graph {
	g := &graph{}
	carried := slices.DeleteFunc(r.Carried(), IsPin)
	brings := map[string]bool{}
	for _, m := range carried {
		for _, by := range m.Via {
			brings[nameOf(by)] = true
		}
	}
	for _, l := range r.Legs {
		for _, m := range append(slices.Clone(l.Moves), l.LegResult.Carried...) {
			if l.State == report.Done && len(m.Via) == 0 && brings[m.Name] {
				g.moved(l.Component, m)
			}
		}
	}
	slices.SortStableFunc(carried, func(a, b output.MoveSummary) int { return len(a.Via) - len(b.Via) })
	left, leaves := 0, map[string]int{}
	for _, m := range carried {
		if len(m.Via) == 0 {
			continue
		}
		if above := nameOf(m.Via[len(m.Via)-1]); !brings[m.Name] {
			if leaves[above]++; leaves[above] > mostLeaves {
				continue
			}
		}
		if len(g.Nodes)+len(m.Via) >= mostBoxes {
			left++
			continue
		}
		g.moved(carrier(r, m), m)
	}
	for _, above := range slices.Sorted(maps.Keys(leaves)) {
		more := leaves[above] - mostLeaves
		switch drawn := slices.ContainsFunc(g.Nodes, func(n *graphNode) bool { return n.name == above }); {
		case more <= 0:
		case drawn:
			g.edge(above, fmt.Sprintf("%s of %s", doc.Count(more, "other", "others"), above), "", true)
		default:
			left += more
		}
	}
	if left > 0 {
		g.legend = append(g.legend, "and "+doc.Count(left, "other package", "other packages")+" that moved along")
	}
	return g
}

// nameOf is the name of "quayside 4.0.0".
func nameOf(by string) string { return by[:max(strings.LastIndex(by, " "), 0)] }

// carrier is the component of the last leg that carried a package along.
func carrier(r *report.Report, m output.MoveSummary) (component string) {
	for _, l := range r.Legs {
		for _, o := range l.LegResult.Carried {
			if l.State == report.Done && o.Name == m.Name && o.To == m.To {
				component = l.Component
			}
		}
	}
	return component
}

// moved adds a package that moved, below what leads to it.
func (g *graph) moved(component string, m output.MoveSummary) {
	above := component
	if above == "." {
		above = "the project"
	}
	if n := g.node(above); n.note == "" {
		n.look = "still"
	}
	for _, by := range m.Via {
		name := nameOf(by)
		known := len(g.Nodes)
		if n := g.node(name); len(g.Nodes) > known {
			n.look, n.note = "still", strings.TrimSpace(by[len(name):])
		}
		g.edge(above, name, "", false)
		above = name
	}
	n := g.node(m.Name)
	from := m.From
	if n.from != "" {
		from = n.from
	}
	switch n.look, n.from = "fine", from; {
	case m.To == "":
		n.look, n.note = "gone", from+", goes away"
	case from == "":
		n.note = "new: " + m.To
	default:
		n.note = from + " to " + m.To
	}
	if above != m.Name {
		g.edge(above, m.Name, "", false)
	}
}

// Picture is a drawing that only a page shows.
type Picture struct {
	Name string // what it shows
	Of   *graph
}

func (Picture) Text(io.Writer, doc.Palette) {}

func (Picture) Markdown(io.Writer) {}

// HTML writes it as HTML.
func (p Picture) HTML(w io.Writer) {
	inner, width, height := p.Of.drawing()
	fmt.Fprintf(w, "<figure><figcaption>%s</figcaption><div class=\"wide\" tabindex=\"0\" role=\"group\" aria-label=\"%s\">"+
		"<svg viewBox=\"0 0 %.0f %.0f\" class=\"%s\" role=\"img\" aria-label=\"%s\">\n"+
		"%s</svg></div></figure>\n",
		doc.Escaped(p.Name), doc.Escaped(p.Name), width, height, widthClass(width), doc.Escaped(p.Name), inner)
}
