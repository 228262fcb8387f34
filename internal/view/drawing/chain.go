package drawing

import (
	"fmt"
	"strings"

	"bellwether/internal/core/output"
)

// Chain draws the needs of prerequisites in the form that a file's name asks
// for: SVG for .svg, the Graphviz language for .dot or .gv.
func Chain(file string, r *output.Prereqs) ([]byte, error) {
	g := &graph{}
	for _, l := range r.Chain {
		g.edge(SubjectOf(l.By), l.Need, l.Range, l.Holds)
		if _, version, _ := strings.Cut(l.By, " "); version != "" {
			g.node(SubjectOf(l.By)).note = version
		}
	}
	for _, row := range r.Rows {
		n := g.node(row.Subject)
		n.note, n.fine = strings.Trim(row.Need+", "+row.Verdict, ", "), row.Verdict == output.VerdictMet
	}
	return g.draw(file)
}

// Proof draws the packages of a proof: an arrow is a fact about two of them, with
// the number of its sentence; a fact about one stands with its box.
func Proof(file string, steps []output.ProofStep) ([]byte, error) {
	g := &graph{}
	for _, s := range steps {
		g.legend = append(g.legend, s.Line)
		number := fmt.Sprint(s.Number)
		switch {
		case len(s.From) > 0:
		case len(s.About) == 1:
			n := g.node(s.About[0])
			n.note, n.fine = strings.Trim(n.note+", "+number, ", "), false
		default:
			for i := range max(len(s.About)-1, 0) {
				g.edge(s.About[i], s.About[i+1], number, false)
			}
		}
	}
	for _, n := range g.Nodes {
		if n.note != "" {
			n.note = "by " + n.note
		}
	}
	return g.draw(file)
}
