package keys

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Parts are the documents that a file has, each by itself: one of YAML may have several, with dashes between them.
func (d *Document) Parts() []*Document {
	if d.parts < 2 {
		return []*Document{d}
	}
	all := make([]*Document, d.parts)
	for i := range all {
		all[i] = &Document{Format: d.Format, src: d.src}
	}
	at := make([]int, len(d.containers)) // of each container in its part
	for i, c := range d.containers {
		at[i] = len(all[c.part].containers)
		c.last = -1
		all[c.part].containers = append(all[c.part].containers, c)
	}
	for _, e := range d.Entries {
		own, part := *e, all[e.part]
		own.in = at[e.in]
		part.Entries = append(part.Entries, &own)
		part.containers[own.in].last = len(part.Entries) - 1
	}
	return all
}

// Unlike says what a file has after a change that it had not before, or no longer, but for some keys and what lies below and above
// them; "" for nothing. Each of its documents has the keys that it had, with their values, and has none twice. A parent that is left
// empty may go. Renamed are keys that got another name, by the old one.
func Unlike(before, after *Document, about []string, renamed map[string]string) string {
	was, is := before.Parts(), after.Parts()
	if len(was) != len(is) {
		return fmt.Sprintf("it would have %d documents for %d", len(is), len(was))
	}
	for i := range was {
		old, fresh := was[i].rest(about), is[i].rest(about)
		all := maps.Clone(old)
		maps.Copy(all, fresh)
		for _, name := range slices.Sorted(maps.Keys(all)) {
			a, z := old[name], fresh[name]
			if !slices.Equal(a, z) && (len(z) > 0 || strings.Join(a, "") != "") {
				return name + " would not be what it was"
			}
		}
		twice := is[i].twice()
		for name := range was[i].twice() {
			delete(twice, name)
			delete(twice, renamed[name])
		}
		for _, name := range slices.Sorted(maps.Keys(twice)) {
			return name + " would stand there twice"
		}
	}
	return ""
}

// rest are the values of keys, by name, but for some keys with what is in them, below them and above them.
func (d *Document) rest(about []string) map[string][]string {
	var touched []*Entry
	for _, key := range about {
		touched = append(touched, d.Find(Split(key))...)
	}
	all := map[string][]string{}
	for _, e := range d.Entries {
		near := slices.ContainsFunc(about, func(key string) bool { return d.near(e, Split(key)) })
		if near || slices.ContainsFunc(touched, e.within) {
			continue
		}
		text := ""
		if e.Scalar {
			text = e.Text
		}
		all[e.Name()] = append(all[e.Name()], text)
	}
	return all
}

// within tells whether an entry lies in another one, as an attribute of an element does.
func (e *Entry) within(o *Entry) bool {
	return e.whole.start >= o.whole.start && e.key.start >= o.whole.start && e.key.end <= o.whole.end
}

// near tells whether an entry is a key, lies below it, or is a parent of it.
func (d *Document) near(e *Entry, key []string) bool {
	if d.is(e, key) {
		return true
	}
	if key[len(key)-1] == "*" {
		key = key[:len(key)-1]
	}
	return d.Below(e.Path, key) || d.Below(key, e.Path)
}

// twice are the names that stand in a document more than once, but for elements, which may repeat.
func (d *Document) twice() map[string]bool {
	seen, twice := map[string]bool{}, map[string]bool{}
	for _, e := range d.Entries {
		if seen[e.Name()] && d.Format != XML {
			twice[e.Name()] = true
		}
		seen[e.Name()] = true
	}
	return twice
}
