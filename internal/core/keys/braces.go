package keys

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"bellwether/internal/core/lex"
)

// tokens are the tokens of a text that say something, with their partners among themselves.
type tokens struct {
	src  string
	list []lex.Token
}

func tokensOf(language, src string) tokens {
	return tokens{src, lex.Said(lex.Split(lex.Named(language), src))}
}

func (t tokens) text(i int) string {
	if i < 0 || i >= len(t.list) {
		return ""
	}
	return t.list[i].Of(t.src)
}

// malformed says where a text is not what it must be.
func malformed(src string, at int, wrong string) error {
	return fmt.Errorf("line %d: %s", strings.Count(src[:at], "\n")+1, wrong)
}

// readJSON reads JSON, with comments and commas at ends if there are any.
func (d *Document) readJSON() error {
	r := &bracesReader{d: d, tokens: tokensOf("json", d.src), colon: ":"}
	if len(r.list) == 0 {
		return errors.New("it is empty")
	}
	end, err := r.value(0, nil, 0)
	if err == nil && end < len(r.list) {
		err = malformed(d.src, r.list[end].Start, "there is more text after the value")
	}
	return err
}

// bracesReader reads values of JSON, and those of TOML within brackets.
type bracesReader struct {
	d *Document
	tokens
	colon string
}

const deepest = 200

// value reads the value at a token, and gives the token behind it.
func (r *bracesReader) value(i int, path []string, depth int) (int, error) {
	if depth > deepest {
		return 0, errors.New("it is nested too deep")
	}
	if i >= len(r.list) {
		return 0, errors.New("a value is missing at the end")
	}
	t := r.list[i]
	switch r.text(i) {
	case "{", "[":
		if t.Pair < i {
			return 0, malformed(r.src, t.Start, "this bracket is not closed")
		}
		return t.Pair + 1, r.members(i, path, depth)
	case "}", "]", ":", ",", "=":
		return 0, malformed(r.src, t.Start, "a value is wanted here")
	}
	i++
	for i < len(r.list) && r.list[i-1].End == r.list[i].Start && strings.IndexByte(",:]}", r.src[r.list[i].Start]) < 0 {
		i++ // a sign, an exponent
	}
	return i, nil
}

// members reads what is in brackets.
func (r *bracesReader) members(open int, path []string, depth int) error {
	object := r.text(open) == "{"
	end := r.list[open].Pair
	in := -1
	inner := span{r.list[open].End, r.list[end].Start}
	if object {
		r.d.containers = append(r.d.containers, container{path: path, commas: true, inner: inner, at: inner.start, last: -1})
		in = len(r.d.containers) - 1
	}
	for i, n := open+1, 0; i < end; n++ {
		from := i
		here := append(path[:len(path):len(path)], "["+strconv.Itoa(n)+"]")
		var e *Entry
		if object {
			name := unquoted(r.text(i))
			for i+2 < end && r.text(i+1) == "." { // a dotted key of TOML
				name += "." + unquoted(r.text(i+2))
				i += 2
			}
			if k := r.list[from].Kind; k != lex.String && k != lex.Word && k != lex.Number || r.text(i+1) != r.colon {
				return malformed(r.src, r.list[i].Start, "a name and \""+r.colon+"\" are wanted here")
			}
			here = append(path[:len(path):len(path)], name)
			e = &Entry{Path: here, own: 1, key: span{r.list[from].Start, r.list[i].End}}
			if r.list[from].Kind == lex.String {
				e.key.start++
				e.key.end--
			}
			i += 2
			r.d.enclose(e, in)
		}
		if i >= end {
			return malformed(r.src, r.list[end].Start, "a value is missing here")
		}
		first := i
		next, err := r.value(i, here, depth+1)
		if err != nil {
			return err
		}
		if e != nil {
			e.value = span{r.list[first].Start, r.list[next-1].End}
			e.whole = span{r.list[from].Start, e.value.end}
			e.Scalar = r.list[first].Pair < 0
			e.Text = unquoted(e.value.of(r.src))
		}
		if i = next; i < end {
			if r.text(i) != "," {
				return malformed(r.src, r.list[i].Start, "a comma is wanted here")
			}
			i++
		}
	}
	return nil
}

// unquoted is the text of a string of JSON or TOML.
func unquoted(text string) string {
	if len(text) < 2 || text[0] != '"' && text[0] != '\'' {
		return text
	}
	if plain, err := strconv.Unquote(text); err == nil && text[0] == '"' {
		return plain
	}
	return text[1 : len(text)-1]
}

// addJSON adds a member behind the last one.
func (d *Document) addJSON(c container, names []string, v Value) (Edit, error) {
	nl := d.lineEnd()
	outer := indentAt(d.src, c.inner.start)
	unit := d.indentUnit()
	inner, several := outer+unit, true
	if c.last >= 0 {
		e := d.Entries[c.last]
		several = strings.Contains(d.src[c.inner.start:d.Entries[c.last].key.start], "\n")
		if several {
			inner = indentAt(d.src, e.key.start)
		}
	} else if !strings.Contains(d.src, "\n") {
		several = false
	}
	if !several && (v.Behind != "" || len(v.Above) > 0) {
		return Edit{}, errNoRoom
	}
	text, tail := d.nested(names, v, inner, unit, several), ""
	if len(names) == 1 {
		tail = behind(v, " ")
	}
	if c.last < 0 {
		if several {
			return Edit{Start: c.inner.start, End: c.inner.end, New: nl + inner + text + tail + nl + outer}, nil
		}
		return Edit{Start: c.inner.start, End: c.inner.end, New: text}, nil
	}
	at := d.Entries[c.last].whole.end
	gap := " "
	if several {
		gap = nl + inner
	}
	if rest := strings.TrimLeft(d.src[at:c.inner.end], " \t"); strings.HasPrefix(rest, ",") {
		at = d.afterComment(c.inner.end-len(rest)+1, c.inner.end)
		return Edit{Start: at, End: at, New: gap + text + "," + tail}, nil
	}
	end := d.afterComment(at, c.inner.end) // what stands behind the last member stays there
	return Edit{Start: at, End: end, New: "," + d.src[at:end] + gap + text + tail}, nil
}

// afterComment is where the comment ends that follows a place in its line; the place itself where none does.
func (d *Document) afterComment(at, limit int) int {
	line := strings.TrimRight(d.src[at:min(nextLine(d.src, at), limit)], "\r\n")
	if strings.HasPrefix(strings.TrimLeft(line, " \t"), "//") {
		return at + len(strings.TrimRight(line, " \t"))
	}
	return at
}

// nested is a member whose value is under further names.
func (d *Document) nested(names []string, v Value, indent, unit string, several bool) string {
	if len(names) == 1 {
		above := ""
		for _, comment := range v.Above {
			above += comment + d.lineEnd() + indent
		}
		return above + quoted(names[0]) + ": " + reindented(d.written(v, ""), indent, several)
	}
	inner := d.nested(names[1:], v, indent+unit, unit, several)
	if len(names) == 2 {
		inner += behind(v, " ")
	}
	if !several {
		return quoted(names[0]) + ": { " + inner + " }"
	}
	nl := d.lineEnd()
	return quoted(names[0]) + ": {" + nl + indent + unit + inner + nl + indent + "}"
}

// reindented is a value of several lines with another indentation: its last line gets indent.
func reindented(text, indent string, several bool) string {
	lines := strings.Split(text, "\n")
	if len(lines) == 1 || !several {
		return text
	}
	last := lines[len(lines)-1]
	old := last[:len(last)-len(strings.TrimLeft(last, " \t"))]
	for i := 1; i < len(lines); i++ {
		if rest, ok := strings.CutPrefix(lines[i], old); ok {
			lines[i] = indent + rest
		}
	}
	return strings.Join(lines, "\n")
}

// indentAt is the white space that the line of a place begins with.
func indentAt(src string, at int) string {
	line := src[lineStart(src, at):at]
	return line[:len(line)-len(strings.TrimLeft(line, " \t"))]
}

// indentUnit is what one level of the file is indented by.
func (d *Document) indentUnit() string {
	for line := range strings.Lines(d.src) {
		if bare := strings.TrimLeft(line, " \t"); bare != line && strings.TrimSpace(bare) != "" && bare[0] != '#' && bare[0] != '*' {
			return line[:len(line)-len(bare)]
		}
	}
	return "  "
}
