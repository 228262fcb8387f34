package keys

import (
	"errors"
	"slices"
	"strings"

	"bellwether/internal/core/lex"
)

// readXML reads elements, attributes, and elements that stand for a name and its value:
// <property name="a.b" value="c"/>, <add key="a">c</add>.
func (d *Document) readXML() error {
	r := &xmlReader{d: d, tokens: tokensOf("xml", d.src)}
	for i := 0; i < len(r.list); {
		if r.text(i) != "<" {
			i++
			continue
		}
		next, err := r.element(i, nil, -1)
		if err != nil {
			return err
		}
		i = next
	}
	if len(d.Entries) == 0 {
		return errors.New("it has no element")
	}
	return nil
}

type xmlReader struct {
	d *Document
	tokens
}

// element reads an element, and gives the token behind it.
func (r *xmlReader) element(i int, path []string, in int) (int, error) {
	open := r.list[i]
	if open.Pair < i || r.text(open.Pair) != "/>" && (open.Pair < 3 || r.text(open.Pair-2) != "</") {
		return 0, malformed(r.src, open.Start, "this element is not closed")
	}
	name := r.text(i + 1)
	e := &Entry{Path: append(path[:len(path):len(path)], name), own: 1, key: span{r.list[i+1].Start, r.list[i+1].End}}
	e.whole = r.lines(span{open.Start, r.list[open.Pair].End})
	attributes, at := r.attributes(i + 2)
	closed := r.text(at) == "/>"
	inner := span{r.list[at].End, r.list[at].End}
	last := open.Pair - 2
	if closed {
		last = at
	} else {
		inner.end = r.list[last].Start
		e.closing = span{r.list[last+1].Start, r.list[last+1].End}
	}
	e.value = inner
	e.Scalar = !closed && (last == at+1 || last == at+2 && r.list[at+1].Kind == lex.Text)
	if e.Scalar && last == at+2 {
		e.value = span{r.list[at+1].Start, r.list[at+1].End}
	}
	e.Text = unescaped(e.value.of(r.src))
	if in >= 0 {
		r.d.enclose(e, in)
	} else {
		e.fixed = true
		r.d.Entries = append(r.d.Entries, e)
	}
	here := r.contain(e, inner, closed, r.list[at].Start)
	if in < 0 {
		e.in = here
	}
	for _, a := range attributes {
		a.Path = append(e.Path[:len(e.Path):len(e.Path)], "@"+a.key.of(r.src))
		a.in = here
		r.d.Entries = append(r.d.Entries, a)
	}
	r.named(e, path, attributes, in)
	for k := at + 1; k < last; {
		if r.text(k) != "<" {
			k++
			continue
		}
		next, err := r.element(k, e.Path, here)
		if err != nil {
			return 0, err
		}
		k = next
	}
	return open.Pair + 1, nil
}

// contain notes an element as one that others can be added to.
func (r *xmlReader) contain(e *Entry, inner span, closed bool, tag int) int {
	c := container{path: e.Path, at: inner.end, tag: tag, last: -1}
	if closed {
		c.at = -1
	} else if start := lineStart(r.src, inner.end); strings.TrimSpace(r.src[start:inner.end]) == "" {
		c.at = max(start, inner.start)
	}
	c.indent = indentAt(r.src, e.key.start-1)
	r.d.containers = append(r.d.containers, c)
	return len(r.d.containers) - 1
}

// attributes reads up to the end of a tag.
func (r *xmlReader) attributes(i int) (all []*Entry, end int) {
	for i < len(r.list) && r.text(i) != ">" && r.text(i) != "/>" {
		if r.list[i].Kind == lex.Word && r.text(i+1) == "=" && i+2 < len(r.list) && r.list[i+2].Kind == lex.String {
			a := &Entry{own: 1, Scalar: true, key: span{r.list[i].Start, r.list[i].End}, value: span{r.list[i+2].Start, r.list[i+2].End}}
			a.Text = unescaped(r.src[a.value.start+1 : a.value.end-1])
			start := len(strings.TrimRight(r.src[:a.key.start], " \t\r\n"))
			a.whole = span{start, a.value.end}
			all = append(all, a)
			i += 3
			continue
		}
		i++
	}
	return all, i
}

// named notes an element that stands for a name and its value.
func (r *xmlReader) named(e *Entry, path []string, attributes []*Entry, in int) {
	if in < 0 {
		return
	}
	find := func(names ...string) *Entry {
		for _, a := range attributes {
			if slices.Contains(names, a.key.of(r.src)) {
				return a
			}
		}
		return nil
	}
	name, value := find("name", "key"), find("value")
	if name == nil || value == nil && !e.Scalar {
		return
	}
	names := strings.Split(name.Text, ".")
	p := &Entry{Path: append(path[:len(path):len(path)], names...), own: len(names), pair: true, Scalar: true, whole: e.whole}
	p.key = span{name.value.start + 1, name.value.end - 1}
	p.value, p.Text = e.value, e.Text
	if value != nil {
		p.value, p.Text = value.value, value.Text
	}
	r.d.enclose(p, in)
	r.d.containers[in].pairs = r.src[e.key.start-1 : e.whole.end]
}

// lines extends an element to its lines, where it has them for itself.
func (r *xmlReader) lines(s span) span {
	start, end := lineStart(r.src, s.start), nextLine(r.src, s.end)
	if strings.TrimSpace(r.src[start:s.start]) == "" && strings.TrimSpace(r.src[s.end:end]) == "" {
		return span{start, end}
	}
	return s
}

func unescaped(text string) string {
	return strings.NewReplacer("&lt;", "<", "&gt;", ">", "&quot;", `"`, "&apos;", "'", "&amp;", "&").Replace(text)
}

// addXML adds an attribute, a pair of name and value, or an element.
func (d *Document) addXML(c container, names []string, v Value) (Edit, error) {
	v.Raw = ""
	text := d.written(v, "")
	last := names[len(names)-1]
	if len(names) == 1 && strings.HasPrefix(last, "@") {
		return Edit{Start: c.tag, End: c.tag, New: " " + last[1:] + `="` + text + `"`}, nil
	}
	if c.at < 0 {
		return Edit{}, errors.New("its element is empty and has no closing tag")
	}
	unit := d.indentUnit()
	if c.pairs != "" {
		var sibling *Entry
		for _, e := range d.Entries {
			if e.pair && d.src[e.whole.start:e.whole.end] != "" && strings.HasSuffix(d.src[:e.whole.end], c.pairs) {
				sibling = e
			}
		}
		if sibling != nil {
			start := sibling.whole.start + strings.IndexByte(d.src[sibling.whole.start:], '<')
			whole := strings.TrimRight(d.src[start:sibling.whole.end], "\r\n")
			value := sibling.value
			written := d.written(v, value.of(d.src))
			copied := d.src[start:sibling.key.start] + strings.Join(
				names,
				".",
			) + d.src[sibling.key.end:value.start] + written + whole[value.end-start:]
			return d.atLineStart(c.at, []string{indentAt(d.src, start) + copied}), nil
		}
	}
	var lines []string
	indent := c.indent + unit
	for _, name := range names[:len(names)-1] {
		lines = append(lines, indent+"<"+name+">")
		indent += unit
	}
	for _, comment := range v.Above {
		lines = append(lines, indent+comment)
	}
	lines = append(lines, indent+"<"+last+">"+text+"</"+last+">")
	for i := len(names) - 2; i >= 0; i-- {
		indent = indent[:len(indent)-len(unit)]
		lines = append(lines, indent+"</"+names[i]+">")
	}
	e := d.atLineStart(c.at, lines)
	if c.at != lineStart(d.src, c.at) { // the element has one line only
		e.New += c.indent
	}
	return e, nil
}
