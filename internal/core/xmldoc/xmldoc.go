// Package xmldoc reads XML with the place of every element and of its text, so that a text can be
// changed and all other bytes stay. Namespaces are left out: names are local ones. No entity that a
// document declares is resolved, only those of HTML.
package xmldoc

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"

	"bellwether/internal/core/model"
)

// Element is an element with what is in it.
type Element struct {
	Name     string
	Attrs    map[string]string
	Children []*Element
	Text     string     // what stands in it besides elements, trimmed
	Site     model.Site // of the text without white space around it; with no length where it cannot be changed in one piece
	Start    int        // where its start tag begins
	Line     int        // of its start tag, counted from 1
	Inner    int        // where its content begins
	End      int        // behind its end tag

	text []byte // as it is gathered
	said bool   // some of it is more than white space
}

// The bounds of a document.
const (
	maxDepth    = 1000
	maxElements = 2_000_000
)

// Parse reads a document. The error is a *model.Fault with the line.
func Parse(file string, src []byte) (*Element, error) {
	r := &reader{file: file, src: src, dec: xml.NewDecoder(bytes.NewReader(ascii(src)))}
	r.dec.Entity = xml.HTMLEntity // which readers of old documents know
	r.dec.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	root, err := r.read()
	if err != nil {
		at := int(r.dec.InputOffset())
		wrong := err.Error()
		var syntax *xml.SyntaxError
		if errors.As(err, &syntax) {
			wrong = syntax.Msg
		}
		return nil, &model.Fault{
			Doing: "reading XML", File: file, Line: model.LineOf(src, min(at, len(src))), Wrong: wrong, Next: "mend its syntax",
		}
	}
	return root, nil
}

// ascii is a text of as many bytes whose other characters are question marks where it is not
// UTF-8, so that every place stays where it is. A byte order mark becomes white space.
func ascii(src []byte) []byte {
	text := bytes.Clone(src)
	if bytes.HasPrefix(text, []byte("\xef\xbb\xbf")) {
		copy(text, "   ")
	}
	if bytes.Equal(bytes.ToValidUTF8(text, nil), text) {
		return text
	}
	for i, c := range text {
		if c >= 0x80 {
			text[i] = '?'
		}
	}
	return text
}

type reader struct {
	file  string
	src   []byte
	dec   *xml.Decoder
	stack []*Element
	count int
	// Lines are counted as places come, which is one pass however many there are.
	counted, line int
}

// lineOf is the line of a place that is not before the last one that was asked for.
func (r *reader) lineOf(at int) int {
	r.line += bytes.Count(r.src[min(r.counted, at):at], []byte("\n"))
	r.counted = max(r.counted, at)
	return r.line + 1
}

func (r *reader) read() (root *Element, err error) {
	for {
		start := int(r.dec.InputOffset())
		token, err := r.dec.RawToken()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		end := int(r.dec.InputOffset())
		switch t := token.(type) {
		case xml.StartElement:
			if r.count++; r.count > maxElements || len(r.stack) > maxDepth {
				return nil, errors.New("it has too many elements")
			}
			e := &Element{Name: t.Name.Local, Start: start, Inner: end, Line: r.lineOf(start)}
			for _, a := range t.Attr {
				if e.Attrs == nil {
					e.Attrs = map[string]string{}
				}
				e.Attrs[a.Name.Local] = a.Value
			}
			switch n := len(r.stack); {
			case n > 0:
				r.stack[n-1].Children = append(r.stack[n-1].Children, e)
			case root != nil:
				return nil, errors.New("it has more than one root")
			default:
				root = e
			}
			r.stack = append(r.stack, e)
		case xml.EndElement:
			n := len(r.stack)
			if n == 0 || r.stack[n-1].Name != t.Name.Local {
				return nil, fmt.Errorf("</%s> ends nothing", t.Name.Local)
			}
			e := r.stack[n-1]
			e.End = max(end, e.Inner)
			e.Text, e.text = string(bytes.TrimSpace(e.text)), nil
			r.stack = r.stack[:n-1]
		case xml.CharData:
			if n := len(r.stack); n > 0 {
				r.text(r.stack[n-1], string(t), start, end)
			}
		}
	}
	if len(r.stack) > 0 {
		return nil, fmt.Errorf("<%s> is not closed", r.stack[len(r.stack)-1].Name)
	}
	if root == nil {
		return nil, errors.New("it has no element")
	}
	return root, nil
}

// text adds a piece of text to an element. Two pieces with something in them cannot be changed as one.
func (r *reader) text(e *Element, text string, start, end int) {
	blank := strings.TrimSpace(text) == ""
	if blank && !e.said {
		return
	}
	e.text = append(e.text, text...)
	if blank {
		return
	}
	if e.said {
		e.Site = model.Site{}
		return
	}
	e.said = true
	raw := r.src[start:end]
	if inner, cdata := bytes.CutPrefix(raw, []byte("<![CDATA[")); cdata {
		start += len("<![CDATA[")
		raw = bytes.TrimSuffix(inner, []byte("]]>"))
	}
	trimmed := bytes.TrimLeft(raw, " \t\r\n")
	start += len(raw) - len(trimmed)
	trimmed = bytes.TrimRight(trimmed, " \t\r\n")
	e.Site = model.Site{File: r.file, Start: start, End: start + len(trimmed), Text: string(trimmed), Line: r.lineOf(start)}
}

// Child is the first child of a name; nil for none. It may be asked of nil.
func (e *Element) Child(name string) *Element {
	if e == nil {
		return nil
	}
	for _, c := range e.Children {
		if c.Name == name {
			return c
		}
	}
	return nil
}

// At is the element that a path of names leads to; nil for none.
func (e *Element) At(path ...string) *Element {
	for _, name := range path {
		e = e.Child(name)
	}
	return e
}

// All are the children of a name.
func (e *Element) All(name string) (all []*Element) {
	if e == nil {
		return nil
	}
	for _, c := range e.Children {
		if c.Name == name {
			all = append(all, c)
		}
	}
	return all
}

// Value is the text of the first child of a name, "" for none.
func (e *Element) Value(name string) string {
	if c := e.Child(name); c != nil {
		return c.Text
	}
	return ""
}

// Escaped is a text as it stands between tags.
func Escaped(text string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;").Replace(text)
}
