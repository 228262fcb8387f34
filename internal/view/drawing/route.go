package drawing

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"bellwether/internal/core/report"
	"bellwether/internal/view/doc"
)

// The measures of a drawn route, in pixels: the whole, a leg's box, and what lies between.
const (
	routeWide   = 1080
	legWide     = 250
	legHigh     = 86
	legGap      = 26
	rowsApart   = 30
	legsInRow   = (routeWide + legGap) / (legWide + legGap)
	legLetters  = 26 // of a title that fit beside each other, in two lines
	smallLetter = 32
)

// DrawnRoute is the route as SVG: legs in rows, one behind the other, with what became of them.
func DrawnRoute(r *report.Report) string {
	if len(r.Legs) == 0 {
		return ""
	}
	rows := (len(r.Legs) + legsInRow - 1) / legsInRow
	var b strings.Builder
	fmt.Fprintf(&b, "<div class=\"wide route\" tabindex=\"0\" role=\"group\" aria-label=\"the route\">"+
		"<svg viewBox=\"0 0 %d %d\" role=\"img\" aria-label=\"the route: %d legs, %d of them done\">\n",
		routeWide, rows*(legHigh+rowsApart), len(r.Legs), r.Count(report.Done))
	for i, l := range r.Legs {
		row, column := i/legsInRow, i%legsInRow
		x, y := column*(legWide+legGap)+2, row*(legHigh+rowsApart)+2
		class := map[string]string{report.Done: "done", report.Repair: "repair"}[l.State]
		fmt.Fprintf(&b, "<rect class=\"%s\" x=\"%d\" y=\"%d\" width=\"%d\" height=\"%d\" rx=\"6\"/>\n", class, x, y, legWide-4, legHigh)
		for i, title := range twoLines(l.Title, legLetters) {
			fmt.Fprintf(&b, "<text x=\"%d\" y=\"%d\">%s</text>\n", x+10, y+24+20*i, doc.Escaped(title))
		}
		small := l.State
		if len(l.Unverified) > 0 {
			small, class = "not verified", "unsure"
		}
		if n := len(l.LegResult.Moves); n > 0 {
			small += ", " + doc.Count(n, "move", "moves")
		}
		if n := len(l.LegResult.Carried); n > 0 {
			small += fmt.Sprintf(", %d along", n)
		}
		fmt.Fprintf(&b, "<text class=\"small\" x=\"%d\" y=\"%d\">%s</text>\n", x+10, y+72, doc.Escaped(short(small, smallLetter)))
		switch {
		case i == len(r.Legs)-1:
		case column < legsInRow-1:
			fmt.Fprintf(&b, "<path d=\"M%d %d h%d m-7 -5 l7 5 l-7 5\"/>\n", x+legWide-4, y+legHigh/2, legGap+2)
		default: // on to the next row
			fmt.Fprintf(&b, "<path d=\"M%d %d v%d H%d v%d m-5 -7 l5 7 l5 -7\"/>\n", x+legWide/2, y+legHigh, rowsApart/2, legWide/2, rowsApart/2)
		}
	}
	return b.String() + "</svg></div>\n"
}

// twoLines is a text in at most two lines of so many letters.
func twoLines(s string, letters int) []string {
	words := strings.Fields(s)
	for i, word := range words {
		if at := strings.LastIndexAny(word, ":/") + 1; text.StringWidth(word) > letters && at > 0 {
			words[i] = word[:at] + " " + word[at:] // where a name may be parted
		}
	}
	s = strings.Join(words, " ")
	lines := strings.Split(text.WrapSoft(s, letters), "\n")
	for i := range lines {
		lines[i] = strings.TrimSpace(lines[i])
	}
	if len(lines) > 2 {
		lines = []string{lines[0], short(strings.Join(lines[1:], " "), letters)}
	}
	return lines
}

// short is a text of at most so many letters.
func short(s string, letters int) string {
	if text.StringWidth(s) <= letters {
		return s
	}
	return strings.TrimSpace(text.Trim(s, letters-1)) + "…"
}
