package doc

import (
	"fmt"
	"io"
	"strings"

	"bellwether/internal/core/harmless"
)

// Diff is a unified diff.
type Diff []string

// lineStyle is the meaning of a line of a diff.
func lineStyle(l string) Style {
	switch {
	case strings.HasPrefix(l, "--- "), strings.HasPrefix(l, "+++ "):
		return StyleStrong
	case strings.HasPrefix(l, "@@"):
		return StyleFaint
	case strings.HasPrefix(l, "+"):
		return StyleGood
	case strings.HasPrefix(l, "-"):
		return StyleBad
	}
	return StyleUsual
}

// Text writes it for a terminal. Without colours it is a patch: each line is what it is in the file.
func (x Diff) Text(w io.Writer, p Palette) {
	for _, l := range x {
		fmt.Fprintln(w, p.colour(Span{harmless.Code(l), lineStyle(l)}))
	}
}

// Markdown writes it as Markdown.
func (x Diff) Markdown(w io.Writer) { fmt.Fprintln(w, harmless.Fenced(x)) }
