package pin

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// workflow reads YAML of continuous integration and of compose files: keys
// that set a runtime up ("node-version"), lists of a matrix, and images. What
// is no YAML is left alone: whoever runs it will say so.
func workflow(f *file) {
	// Positions are lines and columns, which are the same with plain line ends.
	doc, err := parser.ParseBytes(bytes.ReplaceAll(f.src, []byte("\r\n"), []byte("\n")), 0)
	if err != nil {
		return
	}
	for _, d := range doc.Docs {
		if d.Body != nil {
			f.node(d.Body, false)
		}
	}
}

// node walks through YAML. In a matrix, a runtime's bare name is a key, too.
func (f *file) node(n ast.Node, inMatrix bool) {
	switch n := n.(type) {
	case *ast.MappingNode:
		for _, v := range n.Values {
			f.entry(v, inMatrix)
		}
	case *ast.MappingValueNode:
		f.entry(n, inMatrix)
	case *ast.SequenceNode:
		for _, v := range n.Values {
			f.node(v, inMatrix)
		}
	}
}

func (f *file) entry(v *ast.MappingValueNode, inMatrix bool) {
	key := v.Key.GetToken().Value
	if key == "image" || key == "container" {
		if start, text, ok := f.scalar(v.Value); ok {
			f.image(text, start)
			return
		}
	}
	name, isVersion := strings.CutSuffix(strings.ReplaceAll(key, "_", "-"), "-version")
	if subject, ok := runtime(name); ok && (isVersion || inMatrix) {
		list := []ast.Node{v.Value}
		if s, ok := v.Value.(*ast.SequenceNode); ok {
			list = s.Values
		}
		for _, item := range list {
			if start, text, ok := f.scalar(item); ok && !strings.Contains(text, "${") {
				before := len(f.pins)
				f.add(subject, start, start+len(text))
				for i := range f.pins[before:] {
					f.pins[before+i].Among = len(list) > 1
				}
			}
		}
		return
	}
	f.node(v.Value, inMatrix || key == "matrix")
}

// scalar gives a plain or quoted text, and the byte where it starts. ok is
// false for anything else, and where the bytes there are not that text.
func (f *file) scalar(n ast.Node) (start int, text string, ok bool) {
	switch n.(type) {
	case *ast.StringNode, *ast.IntegerNode, *ast.FloatNode:
	default:
		return 0, "", false
	}
	t := n.GetToken()
	start = f.offset(t.Position)
	if start < len(f.src) && (f.src[start] == '"' || f.src[start] == '\'') {
		start++
	}
	if text = t.Value; start+len(text) > len(f.src) || string(f.src[start:start+len(text)]) != text {
		return 0, "", false
	}
	return start, text, text != ""
}

// offset is the byte of a position, whose columns count characters.
func (f *file) offset(p *token.Position) int {
	start := 0
	for range p.Line - 1 {
		next := bytes.IndexByte(f.src[start:], '\n')
		if next < 0 {
			return len(f.src)
		}
		start += next + 1
	}
	rest := f.src[start:]
	for range p.Column - 1 {
		if len(rest) == 0 {
			break
		}
		_, size := utf8.DecodeRune(rest)
		rest = rest[size:]
	}
	return len(f.src) - len(rest)
}
