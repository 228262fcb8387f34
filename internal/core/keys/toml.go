package keys

import (
	"slices"
	"strings"

	"bellwether/internal/core/lex"
)

// readTOML reads tables, keys with and without dots, and inline tables.
func (d *Document) readTOML() error {
	r := &bracesReader{d: d, tokens: tokensOf("toml", d.src), colon: "="}
	d.containers = []container{{at: len(d.src), last: -1}}
	table, in := []string{}, 0
	for i := 0; i < len(r.list); {
		t := r.list[i]
		if r.text(i) == "[" {
			if t.Pair < 0 {
				return malformed(d.src, t.Start, "this bracket is not closed")
			}
			names, _ := r.names(i+1, t.Pair)
			if r.text(i+1) == "[" {
				names, _ = r.names(i+2, r.list[i+1].Pair)
			}
			if in == 0 && d.containers[0].last < 0 {
				d.containers[0].at = lineStart(d.src, t.Start)
			}
			i = t.Pair + 1
			table = names
			d.containers = append(d.containers, container{path: table, at: nextLine(d.src, r.list[i-1].End), last: -1})
			in = len(d.containers) - 1
			continue
		}
		names, next := r.names(i, len(r.list))
		if len(names) == 0 || r.text(next) != "=" || next+1 >= len(r.list) {
			return malformed(d.src, t.Start, "a key and \"=\" are wanted here")
		}
		e := &Entry{Path: append(append([]string{}, table...), names...), own: len(names), key: span{t.Start, r.list[next-1].End}}
		if next == i+1 && r.list[i].Kind == lex.String {
			e.key = span{t.Start + 1, t.End - 1}
		}
		first := next + 1
		end, err := r.tomlValue(first, e.Path)
		if err != nil {
			return err
		}
		e.value = span{r.list[first].Start, r.list[end-1].End}
		e.Scalar, e.Text = r.list[first].Pair < first || r.list[first].Kind == lex.String, unquoted(e.value.of(d.src))
		e.whole = span{lineStart(d.src, t.Start), nextLine(d.src, e.value.end)}
		d.enclose(e, in)
		d.containers[in].at = e.whole.end
		i = end
	}
	return nil
}

// names reads the names of a key, and gives the token behind them.
func (r *bracesReader) names(i, end int) (names []string, next int) {
	for i < end && (r.list[i].Kind == lex.Word || r.list[i].Kind == lex.String || r.list[i].Kind == lex.Number) {
		if r.list[i].Kind == lex.String {
			names = append(names, unquoted(r.text(i)))
		} else {
			names = append(names, strings.Split(r.text(i), ".")...)
		}
		i++
		if i >= end || r.text(i) != "." {
			break
		}
		i++
	}
	return names, i
}

// tomlValue reads a value that ends with its line, or with its brackets.
func (r *bracesReader) tomlValue(i int, path []string) (int, error) {
	if r.text(i) == "{" || r.text(i) == "[" {
		return r.value(i, path, 0)
	}
	if p := r.list[i].Pair; p > i {
		return p + 1, nil
	}
	i++
	for i < len(r.list) && !strings.Contains(r.src[r.list[i-1].End:r.list[i].Start], "\n") {
		i++
	}
	return i, nil
}

// addTOML adds a key to a table, or a table for it.
func (d *Document) addTOML(c container, key, rest []string, v Value) (Edit, error) {
	text := d.written(v, "") + behind(v, " ")
	if c.commas {
		if v.Behind != "" || len(v.Above) > 0 {
			return Edit{}, errNoRoom
		}
		line := bare(rest) + " = " + text
		if c.last < 0 {
			return Edit{Start: c.inner.start, End: c.inner.end, New: " " + line + " "}, nil
		}
		at := d.Entries[c.last].whole.end
		return Edit{Start: at, End: at, New: ", " + line}, nil
	}
	if len(rest) > 1 && len(c.path) == 0 {
		lines := append([]string{"[" + bare(key[:len(key)-1]) + "]"}, v.Above...)
		lines = append(lines, bare(key[len(key)-1:])+" = "+text)
		if len(d.src) > 0 {
			lines = append([]string{""}, lines...)
		}
		return d.atLineStart(len(d.src), lines), nil
	}
	lines := append(slices.Clone(v.Above), bare(rest)+" = "+text)
	if c.last < 0 && len(c.path) == 0 && len(d.containers) > 1 {
		lines = append(lines, "")
	}
	return d.atLineStart(c.at, lines), nil
}

// bare are names with dots, in quotes where they need them.
func bare(names []string) string {
	var all []string
	for _, name := range names {
		if name == "" || strings.Trim(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-") != "" {
			name = quoted(name)
		}
		all = append(all, name)
	}
	return strings.Join(all, ".")
}
