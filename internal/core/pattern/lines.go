package pattern

import (
	"strings"

	"bellwether/internal/core/lex"
)

// goesOn tells whether a line goes on in the next one at a place: a backslash ends it.
func goesOn(text string, at int) bool {
	return strings.HasPrefix(text[at:], "\\\n") || strings.HasPrefix(text[at:], "\\\r\n")
}

// joined are tokens without the backslashes that join lines.
func joined(text string, said []lex.Token) []lex.Token {
	if !strings.Contains(text, "\\\n") && !strings.Contains(text, "\\\r\n") {
		return said
	}
	place := make([]int, len(said))
	var list []lex.Token
	for i, t := range said {
		place[i] = len(list)
		if t.Kind != lex.Mark || t.End-t.Start != 1 || !goesOn(text, t.Start) {
			list = append(list, t)
		}
	}
	for i, t := range list {
		if t.Pair >= 0 {
			list[i].Pair = place[t.Pair]
		}
	}
	return list
}
