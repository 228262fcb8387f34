package keys

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/model"
	"bellwether/internal/core/yamldoc"
)

// readYAML reads the mappings of all documents in a file.
func (d *Document) readYAML() error {
	doc, err := yamldoc.Parse("", []byte(d.src))
	var fault *model.Fault
	if errors.As(err, &fault) {
		return fmt.Errorf("line %d: %s", fault.Line, fault.Wrong)
	}
	if err != nil {
		return err
	}
	d.parts = len(doc.Roots)
	for i, root := range doc.Roots {
		first := len(d.containers)
		d.yamlValue(doc, root, nil, 0)
		for n := first; n < len(d.containers); n++ {
			d.containers[n].part = i
		}
		for _, e := range d.Entries {
			e.part = d.containers[e.in].part
		}
	}
	if len(d.containers) == 0 {
		if len(doc.Roots) > 0 {
			return nil // a list: keys have no place in it
		}
		d.containers = append(d.containers, container{at: len(d.src), last: -1})
	}
	return nil
}

func (d *Document) yamlValue(doc *yamldoc.Document, n *yaml.Node, path []string, depth int) {
	if depth > deepest {
		return
	}
	switch n.Kind {
	case yaml.SequenceNode:
		for i, item := range n.Content {
			d.yamlValue(doc, item, append(path[:len(path):len(path)], "["+strconv.Itoa(i)+"]"), depth+1)
		}
	case yaml.MappingNode:
		d.yamlMapping(doc, n, path, depth)
	}
}

func (d *Document) yamlMapping(doc *yamldoc.Document, n *yaml.Node, path []string, depth int) {
	c := container{path: path, last: -1}
	at, ok := doc.Offset(n)
	if !ok {
		return
	}
	if n.Style&yaml.FlowStyle != 0 {
		end := d.flowEnd(at)
		c.commas, c.inner, c.at = true, span{at + 1, max(at+1, end-1)}, at+1
	}
	d.containers = append(d.containers, c)
	in := len(d.containers) - 1
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		site, ok := doc.Site(key)
		if !ok {
			continue
		}
		names := []string{key.Value}
		if key.Style == 0 {
			names = strings.Split(key.Value, ".")
		}
		e := &Entry{Path: append(path[:len(path):len(path)], names...), own: len(names), key: span{site.Start, site.End}}
		d.yamlEntry(doc, e, value, c.commas)
		if !c.commas && strings.TrimSpace(d.src[e.whole.start:e.key.start]) != "" { // "- name: x"
			if i+2 < len(n.Content) {
				next, _ := doc.Offset(n.Content[i+2])
				start, _ := doc.Offset(key)
				e.whole = span{start, next}
			} else {
				e.fixed = i == 0
			}
		}
		d.enclose(e, in)
		d.containers[in].at = max(d.containers[in].at, e.whole.end)
		if !c.commas {
			d.containers[in].indent = strings.Repeat(" ", key.Column-1)
		}
		d.yamlValue(doc, value, e.Path, depth+1)
	}
}

// yamlEntry finds the ranges of an entry's value and of the whole entry.
func (d *Document) yamlEntry(doc *yamldoc.Document, e *Entry, value *yaml.Node, commas bool) {
	colon := min(e.key.end+max(0, strings.IndexByte(d.src[e.key.end:], ':'))+1, len(d.src))
	at, ok := doc.Offset(value)
	empty := value.Kind == yaml.ScalarNode && value.Value == "" && value.Style == 0
	if !ok || at < colon || empty {
		at = colon
	}
	end := at
	switch site, plain := doc.Site(value); {
	case empty:
	case plain && value.Kind == yaml.ScalarNode:
		end = site.End
		if site.Start > 0 && strings.IndexByte(`"'`, d.src[site.Start-1]) >= 0 && value.Style != 0 {
			at, end = site.Start-1, min(site.End+1, len(d.src))
		} else {
			at = site.Start
		}
	case value.Kind == yaml.ScalarNode && value.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0, value.Style&yaml.FlowStyle != 0:
		end = d.flowEnd(at)
	default:
		end = d.blockEnd(e.key.start, value.Kind == yaml.SequenceNode)
	}
	e.value = span{at, max(at, end)}
	e.Scalar, e.Text = value.Kind == yaml.ScalarNode, value.Value
	e.whole = span{e.key.start, e.value.end}
	if !commas {
		start := lineStart(d.src, e.key.start)
		e.whole = span{start, max(d.blockEnd(e.key.start, value.Kind == yaml.SequenceNode), nextLine(d.src, e.value.end-1))}
		e.value.end = at + len(strings.TrimRight(d.src[at:min(max(at, e.value.end), len(d.src))], " \t\r\n"))
	} else if e.key.start > 0 && strings.IndexByte(`"'`, d.src[e.key.start-1]) >= 0 {
		e.whole.start--
	}
}

// flowEnd is where a value in brackets or quotes ends.
func (d *Document) flowEnd(at int) int {
	t := tokensOf("yaml", d.src[at:])
	if len(t.list) == 0 {
		return at
	}
	return at + t.list[max(0, t.list[0].Pair)].End
}

// blockEnd is where the lines of an entry end: those that are indented more than its key.
func (d *Document) blockEnd(key int, list bool) int {
	column := key - lineStart(d.src, key)
	end := nextLine(d.src, key)
	for at := end; at < len(d.src); {
		next := nextLine(d.src, at)
		line := strings.TrimRight(d.src[at:next], " \t\r\n")
		bare := strings.TrimLeft(line, " ")
		indent := len(line) - len(bare)
		if bare != "" {
			if indent <= column && (!list || indent != column || !strings.HasPrefix(bare, "-")) {
				break
			}
			end = next
		}
		at = next
	}
	return end
}

// addYAML adds a key to a mapping, at its end.
func (d *Document) addYAML(c container, names []string, v Value) (Edit, error) {
	if c.commas {
		text := yamlText(names[len(names)-1], "") + ": " + d.written(v, "")
		for i := len(names) - 2; i >= 0; i-- {
			text = yamlText(names[i], "") + ": {" + text + "}"
		}
		if c.last < 0 {
			return Edit{Start: c.inner.start, End: c.inner.end, New: text}, nil
		}
		at := d.Entries[c.last].whole.end
		return Edit{Start: at, End: at, New: ", " + text}, nil
	}
	if strings.Contains(v.Raw, "\n") && strings.IndexByte("|>&!*", v.Raw[0]) >= 0 {
		return Edit{}, errors.New("a value of several lines can be renamed where it stands, not moved")
	}
	unit := d.indentUnit()
	if strings.Contains(unit, "\t") {
		unit = "  "
	}
	var lines []string
	indent := c.indent
	for i, name := range names {
		line := indent + yamlText(name, "") + ":"
		indent += unit
		if i == len(names)-1 {
			switch text := d.written(v, ""); {
			case strings.Contains(text, "\n") || strings.HasPrefix(text, "- ") || v.Raw != "" && !v.scalar():
				lines = append(lines, line)
				lines = append(lines, deeper(text, indent, d.columnOf(v))...)
				continue
			case text != "":
				line += " " + text
			}
			line += behind(v, " ")
			for _, comment := range v.Above {
				lines = append(lines, indent[:len(indent)-len(unit)]+comment)
			}
		}
		lines = append(lines, line)
	}
	return d.atLineStart(c.at, lines), nil
}

// scalar tells whether a value as it stood is a single one.
func (v Value) scalar() bool {
	var n yaml.Node
	return yaml.Unmarshal([]byte(v.Raw), &n) == nil && len(n.Content) == 1 &&
		(n.Content[0].Kind == yaml.ScalarNode || n.Content[0].Style&yaml.FlowStyle != 0)
}

// columnOf is the column that a block stood in, which its first line does not show.
func (d *Document) columnOf(v Value) int {
	if at := strings.Index(d.src, v.Raw); at >= 0 {
		return at - lineStart(d.src, at)
	}
	return 0
}

// deeper are the lines of a block, indented anew.
func deeper(block, indent string, column int) (lines []string) {
	for i, line := range strings.Split(strings.ReplaceAll(block, "\r\n", "\n"), "\n") {
		switch {
		case strings.TrimSpace(line) == "":
			lines = append(lines, "")
			continue
		case i > 0 && len(line) > column && strings.TrimSpace(line[:column]) == "":
			line = line[column:]
		}
		lines = append(lines, indent+line)
	}
	return lines
}

// yamlText is a text as YAML has it: plain where that is the same text, else in quotes, those
// of the value that it replaces first.
func yamlText(text, before string) string {
	if len(before) > 1 && before[0] == '\'' {
		return "'" + strings.ReplaceAll(text, "'", "''") + "'"
	}
	if len(before) > 1 && before[0] == '"' {
		return quoted(text)
	}
	// What older readers take for true or false is no text to them.
	older := slices.Contains([]string{"yes", "no", "on", "off"}, strings.ToLower(text))
	var n map[string]any
	if !older && yaml.Unmarshal([]byte("k: "+text), &n) == nil && n["k"] == text && !strings.ContainsAny(text, "\n,[]{}") {
		return text
	}
	return quoted(text)
}
