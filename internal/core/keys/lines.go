package keys

import "strings"

// readLines reads properties, INI and files for the environment: a key a line.
func (d *Document) readLines() {
	d.containers = []container{{at: len(d.src), last: -1}}
	section := []string{}
	in := 0
	for at := 0; at < len(d.src); {
		next := nextLine(d.src, at)
		// A backslash at the end goes on in the next line.
		for d.Format == Properties && next < len(d.src) && continued(d.src[at:next]) {
			next = nextLine(d.src, next)
		}
		line := strings.TrimRight(d.src[at:next], "\r\n")
		bare := strings.TrimLeft(line, " \t\ufeff")
		start := at + len(line) - len(bare)
		switch {
		case bare == "" || bare[0] == '#' || bare[0] == '!' && d.Format == Properties || bare[0] == ';' && d.Format == INI:
		case d.Format == INI && bare[0] == '[':
			name, _, _ := strings.Cut(bare[1:], "]")
			section = Split(name)
			d.containers = append(d.containers, container{path: section, at: next, last: -1})
			in = len(d.containers) - 1
		default:
			if e := d.line(start, start+len(bare)); e != nil {
				e.Path = append(append([]string{}, section...), e.Path...)
				e.whole = span{at, next}
				d.enclose(e, in)
				if d.Format == INI {
					d.containers[in].at = next
				}
			}
		}
		at = next
	}
	if d.Format == INI && len(d.containers) > 1 && d.containers[0].last < 0 {
		d.containers[0].at = 0
	}
}

// continued tells whether a line ends with an odd number of backslashes.
func continued(line string) bool {
	line = strings.TrimRight(line, "\r\n")
	return (len(line)-len(strings.TrimRight(line, `\`)))%2 == 1
}

// line reads a key and its value.
func (d *Document) line(start, end int) *Entry {
	text := d.src[start:end]
	if d.Format == Env {
		if rest, ok := strings.CutPrefix(text, "export "); ok {
			start += len(text) - len(rest)
			text = rest
		}
	}
	stops := map[Format]string{Properties: "=: \t", Env: "=", INI: "=:"}[d.Format]
	n := 0
	for n < len(text) && strings.IndexByte(stops, text[n]) < 0 {
		if text[n] == '\\' && d.Format == Properties {
			n++
		}
		n++
	}
	n = min(n, len(text))
	key := strings.TrimRight(text[:n], " \t")
	if key == "" || n == len(text) && d.Format != Properties {
		return nil
	}
	rest := text[n:]
	value := strings.TrimLeft(rest, " \t")
	if value != "" && strings.IndexByte("=:", value[0]) >= 0 {
		value = strings.TrimLeft(value[1:], " \t")
	}
	e := &Entry{Scalar: true, key: span{start, start + len(key)}, value: span{start + len(text) - len(value), start + len(text)}}
	e.Text = strings.TrimRight(value, " \t")
	e.value.end -= len(value) - len(e.Text)
	switch d.Format {
	case Env:
		e.Path, e.own = []string{key}, 1
		if len(e.Text) > 1 && (e.Text[0] == '"' || e.Text[0] == '\'') && e.Text[len(e.Text)-1] == e.Text[0] {
			e.Text = e.Text[1 : len(e.Text)-1]
		}
	case INI:
		e.Path, e.own = []string{key}, 1
	default:
		e.Path = strings.Split(strings.NewReplacer(`\:`, ":", `\=`, "=", `\ `, " ").Replace(key), ".")
		e.own = len(e.Path)
	}
	return e
}

// addLine adds a key beside those that share the most of its path.
func (d *Document) addLine(c container, key, rest []string, v Value) Edit {
	name := strings.Join(rest, ".")
	separator, at := "=", c.at
	var lines []string
	if d.Format == Env {
		name = Variable(key)
	}
	if d.Format == INI && len(rest) > 1 {
		lines = append(lines, "", "["+strings.Join(key[:len(key)-1], ".")+"]")
		name, at = key[len(key)-1], len(d.src)
	}
	shared := -1
	for _, e := range d.Entries {
		if d.Format == INI && (len(lines) > 0 || e.in >= len(d.containers) || d.containers[e.in].at != c.at) {
			continue
		}
		n := 0
		for n < len(e.Path) && n < len(key) && d.same(e.Path[n], key[n]) {
			n++
		}
		if n >= shared {
			shared = n
			separator = d.src[e.key.end:e.value.start]
			if n > 0 || d.Format == INI {
				at = e.whole.end
			}
		}
	}
	return d.atLineStart(at, append(append(lines, v.Above...), name+separator+d.written(v, "")+behind(v, " ")))
}
