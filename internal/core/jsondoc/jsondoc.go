// Package jsondoc reads JSON (RFC 8259) as a tree that knows the byte range of
// every value, so that a file can be changed without writing it anew.
package jsondoc

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"bellwether/internal/core/model"
)

// byteOrderMark may stand before the text; RFC 8259 §8.1 lets readers skip it.
const byteOrderMark = "\ufeff"

// Value is one JSON value and where it stands.
type Value struct {
	Kind       jsontext.Kind // '{', '[', '"', '0', 't', 'f' or 'n'
	Start, End int           // byte offsets in the file, End exclusive
	Text       string        // of a string: unescaped; of a number: as written
	Members    []Member      // of an object, in the order of the file
	Items      []*Value      // of an array
}

// Member is one name of an object with its value.
type Member struct {
	Name  string
	Start int // byte offset of the name's opening quote
	Value *Value
}

// Parse reads a file of one JSON value. Errors are *model.Fault with line and
// column; a name that an object states twice is one.
func Parse(file string, src []byte) (*Value, error) {
	skip := 0
	if bytes.HasPrefix(src, []byte(byteOrderMark)) {
		skip = len(byteOrderMark)
	}
	p := parser{d: jsontext.NewDecoder(bytes.NewBuffer(src[skip:])), src: src, skip: skip}
	v, err := p.value()
	if err == nil {
		if _, err = p.d.ReadToken(); err == nil {
			err = fmt.Errorf("there is more text after the JSON value")
		} else if errors.Is(err, io.EOF) {
			return v, nil
		}
	}
	return nil, p.fault(file, err)
}

type parser struct {
	d    *jsontext.Decoder
	src  []byte
	skip int
}

func (p *parser) value() (*Value, error) {
	tok, err := p.d.ReadToken()
	if err != nil {
		return nil, err
	}
	v := &Value{Kind: tok.Kind()}
	v.End = p.skip + int(p.d.InputOffset())
	switch v.Kind {
	case '{':
		v.Start = v.End - 1
		for p.d.PeekKind() != '}' {
			name, err := p.d.ReadToken()
			if err != nil {
				return nil, err
			}
			m := Member{Name: name.String()}
			end := p.skip + int(p.d.InputOffset())
			m.Start = p.openingQuote(end)
			if m.Value, err = p.value(); err != nil {
				return nil, err
			}
			v.Members = append(v.Members, m)
		}
		if _, err := p.d.ReadToken(); err != nil {
			return nil, err
		}
	case '[':
		v.Start = v.End - 1
		for p.d.PeekKind() != ']' {
			item, err := p.value()
			if err != nil {
				return nil, err
			}
			v.Items = append(v.Items, item)
		}
		if _, err := p.d.ReadToken(); err != nil {
			return nil, err
		}
	case '"':
		v.Text = tok.String()
		v.Start = p.openingQuote(v.End)
	default:
		v.Text = tok.String()
		v.Start = v.End - len(v.Text)
	}
	v.End = p.skip + int(p.d.InputOffset())
	return v, nil
}

// openingQuote is the offset of the quote that opens the string that ends at
// end.
func (p *parser) openingQuote(end int) int {
	for i := end - 2; i >= 0; i-- {
		if p.src[i] != '"' {
			continue
		}
		backslashes := 0
		for i-1-backslashes >= 0 && p.src[i-1-backslashes] == '\\' {
			backslashes++
		}
		if backslashes%2 == 0 {
			return i
		}
	}
	return 0
}

func (p *parser) fault(file string, err error) error {
	offset := p.skip + int(p.d.InputOffset())
	wrong := err.Error()
	var syntactic *jsontext.SyntacticError
	if errors.As(err, &syntactic) {
		offset = p.skip + int(syntactic.ByteOffset)
		wrong = "this is not JSON: " + syntactic.Err.Error()
		if errors.Is(err, jsontext.ErrDuplicateName) {
			name := syntactic.JSONPointer.LastToken()
			wrong = fmt.Sprintf("the name %q stands twice in the same object", name)
		}
	}
	return &model.Fault{
		Doing: "reading JSON", File: file,
		Line: model.LineOf(p.src, offset), Col: model.ColumnOf(p.src, offset),
		Wrong: strings.TrimPrefix(wrong, "jsontext: "),
	}
}

// Get is the value of a member, nil if v is no object or has no such member.
func (v *Value) Get(name string) *Value {
	if v == nil {
		return nil
	}
	for i := range v.Members {
		if v.Members[i].Name == name {
			return v.Members[i].Value
		}
	}
	return nil
}

// At follows a path of member names.
func (v *Value) At(path ...string) *Value {
	for _, name := range path {
		v = v.Get(name)
	}
	return v
}

// String is the text of a string, "" for anything else.
func (v *Value) String() string {
	if v == nil || v.Kind != '"' {
		return ""
	}
	return v.Text
}

// True tells whether v is the literal true.
func (v *Value) True() bool { return v != nil && v.Kind == 't' }

// Raw is the text of v in the file that it was read from.
func (v *Value) Raw(src []byte) []byte { return src[v.Start:v.End] }

// Within is the site of what stands between the quotes of a string.
func (v *Value) Within(file string, src []byte) model.Site {
	return model.Site{
		File: file, Start: v.Start + 1, End: v.End - 1,
		Line: model.LineOf(src, v.Start), Text: string(src[v.Start+1 : v.End-1]),
	}
}
