// Package yamldoc reads YAML (1.2, by way of the usual library) so that every
// text in it has a place: for messages that name the line, and for changing a
// file without writing it anew.
package yamldoc

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"iter"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
)

// Document is a file of YAML, which may hold several documents.
type Document struct {
	File  string
	Roots []*yaml.Node // of each document that is not empty
	src   []byte
	lines []int // where each line starts
	// runes are, of lines that were asked about, the bytes at which their characters begin; nil for one that is ASCII.
	runes map[int][]int
}

// Parse reads a file. Errors are *model.Fault with the line.
func Parse(file string, src []byte) (*Document, error) {
	d := &Document{File: file, src: src, lines: []int{0}, runes: map[int][]int{}}
	for i, c := range src {
		if c == '\n' {
			d.lines = append(d.lines, i+1)
		}
	}
	decoder := yaml.NewDecoder(bytes.NewReader(src))
	for {
		var n yaml.Node
		err := decoder.Decode(&n)
		if errors.Is(err, io.EOF) {
			return d, nil
		}
		if err != nil {
			return nil, fault(file, err)
		}
		if n.Kind == yaml.DocumentNode && len(n.Content) == 1 {
			d.Roots = append(d.Roots, n.Content[0])
		}
	}
}

// Site is where the text of a scalar stands, without quotes. ok is false where
// the bytes there are not that text: it is escaped, folded, or no scalar.
func (d *Document) Site(n *yaml.Node) (s model.Site, ok bool) {
	if n.Kind != yaml.ScalarNode || n.Value == "" || n.Line < 1 || n.Line > len(d.lines) {
		return s, false
	}
	at := d.offset(n.Line, n.Column)
	// An anchor or a tag before the value is part of the node.
	for at < len(d.src) && (d.src[at] == '&' || d.src[at] == '!') {
		word := bytes.IndexAny(d.src[at:], " \t\r\n")
		if word < 0 {
			return s, false
		}
		at += word
		at += len(d.src[at:]) - len(bytes.TrimLeft(d.src[at:], " \t"))
	}
	if at < len(d.src) && (d.src[at] == '"' || d.src[at] == '\'') {
		at++
	}
	end := at + len(n.Value)
	if end > len(d.src) || string(d.src[at:end]) != n.Value {
		return s, false
	}
	return model.Site{File: d.File, Start: at, End: end, Line: n.Line, Text: n.Value}, true
}

// Offset is the byte where a node begins; ok is false for one that stands nowhere.
func (d *Document) Offset(n *yaml.Node) (at int, ok bool) {
	if n.Line < 1 || n.Line > len(d.lines) {
		return 0, false
	}
	return d.offset(n.Line, n.Column), true
}

// offset is the byte of a line and a column, which counts characters from 1.
func (d *Document) offset(line, column int) int {
	start, end := d.lines[line-1], d.LineStart(line+1)
	if line == 1 && bytes.HasPrefix(d.src, []byte("\ufeff")) {
		start += len("\ufeff")
	}
	starts, known := d.runes[line]
	if !known {
		starts = characters(d.src[start:end])
		d.runes[line] = starts
	}
	switch {
	case starts == nil:
		return min(start+column-1, len(d.src))
	case column > len(starts):
		return end
	}
	return start + starts[column-1]
}

// characters are the bytes at which the characters of a line begin; nil if each is one byte.
func characters(line []byte) (starts []int) {
	if !slices.ContainsFunc(line, func(c byte) bool { return c >= utf8.RuneSelf }) {
		return nil
	}
	for at := 0; at < len(line); {
		starts = append(starts, at)
		_, size := utf8.DecodeRune(line[at:])
		at += size
	}
	return starts
}

// LineStart is the byte where a line, counted from 1, starts.
func (d *Document) LineStart(line int) int {
	if line > len(d.lines) {
		return len(d.src)
	}
	return d.lines[line-1]
}

// Fault is a mistake at a node.
func (d *Document) Fault(doing string, n *yaml.Node, wrong string) *model.Fault {
	return &model.Fault{Doing: doing, File: d.File, Line: n.Line, Col: n.Column, Wrong: wrong}
}

// Pairs are the keys of a mapping with their values, in their order; of what is no mapping, none. What stands for another
// node is followed.
func Pairs(n *yaml.Node) iter.Seq2[*yaml.Node, *yaml.Node] {
	return func(yield func(key, value *yaml.Node) bool) {
		if n = followed(n); n == nil || n.Kind != yaml.MappingNode {
			return
		}
		for i := 0; i+1 < len(n.Content); i += 2 {
			if !yield(n.Content[i], followed(n.Content[i+1])) {
				return
			}
		}
	}
}

// Get is the value of a key of a mapping; nil for none.
func Get(n *yaml.Node, key string) *yaml.Node {
	for k, value := range Pairs(n) {
		if k.Value == key {
			return value
		}
	}
	return nil
}

// Text is the text of a scalar; empty for a null, and for what is none.
func Text(n *yaml.Node) string {
	if n = followed(n); n == nil || n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
		return ""
	}
	return n.Value
}

func followed(n *yaml.Node) *yaml.Node {
	if n != nil && n.Kind == yaml.AliasNode {
		return n.Alias
	}
	return n
}

// Distinct refuses a key that stands twice in a mapping of the document, and a mapping of more keys than a number.
func (d *Document) Distinct(most int) error {
	queue := slices.Clone(d.Roots)
	for len(queue) > 0 {
		n := queue[len(queue)-1]
		queue = append(queue[:len(queue)-1], n.Content...)
		if n.Kind != yaml.MappingNode {
			continue
		}
		if len(n.Content) > 2*most {
			return d.Fault("reading YAML", n.Content[2*most], fmt.Sprintf("there are more than %d keys beside each other", most))
		}
		lines := make(map[string]int, len(n.Content)/2)
		for key := range Pairs(n) {
			if key.Kind != yaml.ScalarNode {
				continue
			}
			if line, twice := lines[key.Value]; twice {
				return d.Fault("reading YAML", key, fmt.Sprintf("the key %q stands in line %d already", key.Value, line))
			}
			lines[key.Value] = key.Line
		}
	}
	return nil
}

// maxKeys is how many keys may stand beside each other in what is decoded: the library compares each with all others.
const maxKeys = 2000

// Decode reads YAML that people write into a structure. Errors are *model.Fault with the line; a
// key that the structure does not have is one, and names the nearest that it
// has.
func Decode(file string, src []byte, into any) error {
	d, err := Parse(file, src)
	if err != nil {
		return err
	}
	if err := d.Distinct(maxKeys); err != nil {
		return err
	}
	decoder := yaml.NewDecoder(bytes.NewReader(src))
	decoder.KnownFields(true)
	err = decoder.Decode(into)
	if err == nil || errors.Is(err, io.EOF) {
		return nil
	}
	f := fault(file, err)
	if m := unknownKey.FindStringSubmatch(f.Wrong); m != nil {
		f.Wrong = fmt.Sprintf("the key %q is not known", m[1])
		if known := keys(reflect.TypeOf(into), nil); slices.Contains(known, m[1]) {
			f.Wrong = fmt.Sprintf("the key %q does not belong here", m[1])
		} else {
			f.Next = spelling.DidYouMean(m[1], known)
		}
		f.Col = columnOf(src, f.Line, m[1])
	}
	return f
}

var (
	unknownKey  = lazyregexp.New(`^field (.+) not found in type`)
	lineInError = lazyregexp.New(`^(?:yaml: )?(?:unmarshal errors:\s*)?line ([0-9]+): `)
	wrongKind   = lazyregexp.New("^cannot unmarshal (!!\\w+)(?: `(.*)`)? into (.+)$")
)

// kindWords are what kinds of values are called, by YAML's tags and Go's types.
var kindWords = map[string]string{
	"!!seq": "a list", "!!map": "a mapping", "!!str": "a text", "!!int": "a number", "!!float": "a number",
	"!!bool": "true or false", "!!timestamp": "a date",
	"string": "a text", "int": "a number", "bool": "true or false", "time.Time": "a date",
}

// fault turns the library's error into one that names the place.
func fault(file string, err error) *model.Fault {
	text := err.Error()
	var several *yaml.TypeError
	if errors.As(err, &several) && len(several.Errors) > 0 {
		text = several.Errors[0]
	}
	f := &model.Fault{Doing: "reading YAML", File: file, Line: 1} // the library leaves the first line out
	if m := lineInError.FindStringSubmatch(text); m != nil {
		f.Line, _ = strconv.Atoi(m[1])
		text = text[len(m[0]):]
	}
	f.Wrong = strings.TrimPrefix(text, "yaml: ")
	if m := wrongKind.FindStringSubmatch(f.Wrong); m != nil {
		want := kindWords[m[3]]
		switch {
		case strings.HasPrefix(m[3], "[]"):
			want = "a list"
		case strings.HasPrefix(m[3], "map") || want == "":
			want = "a mapping"
		}
		f.Wrong = fmt.Sprintf("%s is wanted here, not %s", want, kindWords[m[1]])
		if m[2] != "" {
			f.Wrong += fmt.Sprintf(" (%s)", m[2])
		}
	}
	return f
}

// columnOf is where a key stands in a line, counted from 1.
func columnOf(src []byte, line int, key string) int {
	for range line - 1 {
		_, src, _ = bytes.Cut(src, []byte("\n"))
	}
	text, _, _ := bytes.Cut(src, []byte("\n"))
	return bytes.Index(text, []byte(key)) + 1
}

// keys are all keys that a structure's YAML form has, at any depth.
func keys(t reflect.Type, known []string) []string {
	switch t.Kind() {
	case reflect.Pointer, reflect.Slice:
		return keys(t.Elem(), known)
	case reflect.Struct:
		for i := range t.NumField() {
			f := t.Field(i)
			name, option, _ := strings.Cut(f.Tag.Get("yaml"), ",")
			switch {
			case name == "-" || !f.IsExported():
			case name != "":
				known = keys(f.Type, append(known, name))
			case option == "inline":
				known = keys(f.Type, known)
			}
		}
	}
	return known
}
