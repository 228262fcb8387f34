package jsondoc

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/model"
)

// Put gives the text with a value, as JSON, at a path of names. What is missing on
// the way is added at the end of its object, in the style of the text. It fails
// where the path leads through something that is no object.
func Put(file string, src []byte, path []string, value string) ([]byte, error) {
	doc, err := Parse(file, src)
	if err != nil {
		return nil, err
	}
	at, depth := doc, 0
	for ; depth < len(path); depth++ {
		if at.Kind != '{' {
			return nil, &model.Fault{
				Doing: "editing JSON", File: file, Line: model.LineOf(src, at.Start),
				Wrong: fmt.Sprintf("%s is no object", strings.Join(path[:depth], ".")),
			}
		}
		next := at.Get(path[depth])
		if next == nil {
			break
		}
		at = next
	}
	s := styleOf(src)
	if depth == len(path) {
		return splice(src, at.Start, at.End, value), nil
	}
	text := value
	for i := len(path) - 1; i > depth; i-- {
		text = "{" + s.line(i+1) + quoted(path[i]) + ": " + text + s.line(i) + "}"
	}
	text = s.line(depth+1) + quoted(path[depth]) + ": " + text
	if n := len(at.Members); n > 0 {
		end := at.Members[n-1].Value.End
		return splice(src, end, end, ","+s.between(text)), nil
	}
	return splice(src, at.Start, at.End, "{"+text+s.line(depth)+"}"), nil
}

// Drop gives the text without what is at a path of names, and without objects that
// have nothing else in them. Where there is nothing, the text stays.
func Drop(file string, src []byte, path []string) ([]byte, error) {
	doc, err := Parse(file, src)
	if err != nil {
		return nil, err
	}
	parent := doc.At(path[:len(path)-1]...)
	if parent.Get(path[len(path)-1]) == nil {
		return src, nil
	}
	if len(parent.Members) == 1 && len(path) > 1 {
		return Drop(file, src, path[:len(path)-1])
	}
	i := slices.IndexFunc(parent.Members, func(m Member) bool { return m.Name == path[len(path)-1] })
	start, end := parent.Members[i].Start, parent.Members[i].Value.End
	switch {
	case i > 0:
		start = parent.Members[i-1].Value.End
	case len(parent.Members) > 1:
		end = parent.Members[1].Start
	default:
		start, end = parent.Start+1, parent.End-1
	}
	return splice(src, start, end, ""), nil
}

func splice(src []byte, start, end int, text string) []byte {
	return slices.Concat(src[:start], []byte(text), src[end:])
}

func quoted(name string) string {
	var text bytes.Buffer
	e := json.NewEncoder(&text)
	e.SetEscapeHTML(false)
	_ = e.Encode(name) // a string always encodes
	return strings.TrimSuffix(text.String(), "\n")
}

// style is how a text is laid out.
type style struct{ newline, indent string }

func styleOf(src []byte) style {
	if !bytes.Contains(bytes.TrimSpace(src), []byte("\n")) {
		return style{}
	}
	return style{LineEnd(src), Indentation(src)}
}

// LineEnd is the line end that a text uses.
func LineEnd(src []byte) string {
	if bytes.Contains(src, []byte("\r\n")) {
		return "\r\n"
	}
	return "\n"
}

// Indentation is what a level of a text is indented by; two spaces where it shows
// none.
func Indentation(src []byte) string {
	for line := range bytes.Lines(src) {
		if trimmed := bytes.TrimLeft(line, " \t"); len(trimmed) > 0 && trimmed[0] == '"' && len(trimmed) < len(line) {
			return string(line[:len(line)-len(trimmed)])
		}
	}
	return "  "
}

// line begins a line at a depth; texts of one line have none.
func (s style) line(depth int) string {
	if s.newline == "" {
		return ""
	}
	return s.newline + strings.Repeat(s.indent, depth)
}

// between is the text of a member after a comma.
func (s style) between(text string) string {
	if s.newline == "" {
		return " " + text
	}
	return text
}
