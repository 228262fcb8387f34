package keys

import (
	"errors"
	"slices"
	"strings"
)

// errNoRoom means that comments would have to stand in a place that has one line.
var errNoRoom = errors.New("the comments about it have no room where it would go")

// Move takes an entry to another path, as a value of its own, with the comments that stand above and behind it. Parents that are
// left empty go.
func (d *Document) Move(e *Entry, to []string, v Value) ([]Edit, error) {
	removed, err := d.Remove(e)
	if err != nil {
		return nil, err
	}
	edits := d.take(e, removed, &v, to)
	added, err := d.Add(to, v)
	if err != nil {
		return nil, err
	}
	for _, r := range edits {
		if added.Start > r.Start && added.Start < r.End {
			added.Start, added.End = r.End, r.End
		}
		if added.Start == r.End && r.End == len(d.src) && r.Start > 0 && d.src[r.Start-1] == '\n' {
			added.New = strings.TrimPrefix(added.New, d.lineEnd()) // the last line goes, which had no end
		}
	}
	return append(edits, added), nil
}

// Drop takes an entry away, and parents that are left empty.
func (d *Document) Drop(e *Entry) (Edit, error) {
	removed, err := d.Remove(e)
	if err != nil {
		return removed, err
	}
	if parent := d.emptied(e, span{removed.Start, removed.End}, nil); parent != e {
		return d.Remove(parent)
	}
	return removed, nil
}

// take gives the edits that take an entry away with the comments about it, which the value gets.
func (d *Document) take(e *Entry, removed Edit, v *Value, to []string) []Edit {
	commas := d.containers[e.in].commas
	first := lineStart(d.src, e.whole.start)
	own := strings.TrimSpace(d.src[first:e.whole.start]) == "" // it begins its line
	if own {
		for first > 0 {
			above := lineStart(d.src, first-1)
			text := strings.TrimSpace(d.src[above:first])
			if !d.comments(text) || indentAt(d.src, first-1) != indentAt(d.src, e.key.start) && d.Format == YAML {
				break
			}
			first = above
			v.Above = append([]string{text}, v.Above...)
		}
	}
	end := e.whole.end
	switch {
	case commas && own:
		end = removed.End
		if tail := d.afterComment(end, len(d.src)); tail > end {
			v.Behind, end = strings.TrimSpace(d.src[end:tail]), tail
		}
	case d.Format == YAML || d.Format == TOML:
		if e.Scalar || d.Format == TOML {
			if rest := strings.TrimSpace(d.src[e.value.end:nextLine(d.src, e.value.end)]); strings.HasPrefix(rest, "#") {
				v.Behind = rest
			}
		}
	}
	if parent := d.emptied(e, span{first, max(end, e.whole.end)}, to); parent != e {
		if r, err := d.Remove(parent); err == nil {
			return []Edit{r}
		}
	}
	if !commas {
		return []Edit{{Start: first, End: e.whole.end}}
	}
	edits := []Edit{{Start: removed.Start, End: max(removed.End, end)}}
	if len(v.Above) > 0 {
		edits[0].Start = max(0, len(strings.TrimRight(d.src[:first], " \t\r\n")))
		if before := d.before(e); before != nil && d.src[removed.End-1] != ',' {
			if comma := strings.IndexByte(d.src[before.whole.end:first], ','); comma >= 0 {
				at := before.whole.end + comma
				edits = append([]Edit{{Start: at, End: at + 1}}, edits...)
			}
			if edits[0].End > edits[len(edits)-1].Start {
				edits = []Edit{{Start: edits[0].Start, End: edits[len(edits)-1].End}}
			}
		}
	}
	return edits
}

// before is the entry before another one in the same place, nil for none.
func (d *Document) before(e *Entry) (last *Entry) {
	for _, o := range d.Entries {
		if o == e {
			return last
		}
		if o.in == e.in {
			last = o
		}
	}
	return nil
}

// comments tells whether a line is a comment.
func (d *Document) comments(line string) bool {
	switch d.Format {
	case JSON:
		return strings.HasPrefix(line, "//")
	case XML:
		return strings.HasPrefix(line, "<!--") && strings.HasSuffix(line, "-->")
	case INI:
		return strings.HasPrefix(line, "#") || strings.HasPrefix(line, ";")
	case Properties:
		return strings.HasPrefix(line, "#") || strings.HasPrefix(line, "!")
	}
	return strings.HasPrefix(line, "#")
}

// emptied is the outermost parent that is left with nothing when an entry goes, with what is taken away of it; the entry itself where
// something else stands in all of them. What a new path lies below stays.
func (d *Document) emptied(e *Entry, gone span, stays []string) *Entry {
	for {
		path := d.containers[e.in].path
		at := slices.IndexFunc(d.Entries, func(o *Entry) bool {
			return len(path) > 0 && slices.Equal(o.Path, path) && o.part == e.part && o != e
		})
		if at < 0 || d.Entries[at].pair || d.Entries[at].fixed || len(stays) > 0 && d.Below(stays, path) {
			return e
		}
		parent := d.Entries[at]
		if slices.ContainsFunc(d.Entries, func(o *Entry) bool { return o.in == e.in && o != e }) {
			return e
		}
		from, to := max(parent.value.start, d.containers[e.in].inner.start), parent.value.end
		if d.Format == YAML {
			from = parent.key.end // comments stand before the first key
		}
		rest := d.src[from:max(from, min(gone.start, to))] + d.src[min(max(from, gone.end), max(from, to)):max(from, to)]
		if strings.Trim(rest, " \t\r\n{}:\"'") != "" {
			return e // a comment, attributes, a text
		}
		e, gone = parent, parent.whole
	}
}

// behind is the comment behind a value, with what parts the two.
func behind(v Value, gap string) string {
	if v.Behind == "" {
		return ""
	}
	return gap + v.Behind
}
