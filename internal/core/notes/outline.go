package notes

import "strings"

// outline makes entries of the lines of a part: by its headings, its lists and what is nested in them.
type outline struct {
	entries []Entry
	heads   []head // the headings that a line stands under, the outermost first
	items   []item // the items of lists that a line is nested in
	now     int    // the entry that goes on in the next line; -1 for none
}

// head is a heading, with the kind of what stands under it.
type head struct {
	level int
	kind  Kind
}

// item is an item of a list.
type item struct {
	indent, entry int
}

// Entries are what a part says, in its order. Under a heading of breaking changes everything is one, whatever the headings below it;
// what is nested in an item of a list is an entry of its own.
func (p *Part) Entries() []Entry {
	o := &outline{now: -1}
	blank, fenced := false, false
	for i, l := range p.Lines {
		text := strings.TrimRight(l.Text, " \t")
		bare := strings.TrimSpace(text)
		under := i > 0 && strings.TrimSpace(p.Lines[i-1].Text) != "" && underline.MatchString(bare) // and no fence
		if !under && (strings.HasPrefix(bare, "```") || strings.HasPrefix(bare, "~~~")) {
			fenced = !fenced
			continue
		}
		switch {
		case fenced:
			o.goOn(bare)
			continue
		case bare == "":
			blank = true
			continue
		case underline.MatchString(text), reference.MatchString(bare):
			continue
		}
		underlined := i+1 < len(p.Lines) && underline.MatchString(p.Lines[i+1].Text) && len(strings.TrimSpace(p.Lines[i+1].Text)) >= 3
		if m := subHeading.FindStringSubmatch(text); m != nil || underlined && !bullet.MatchString(text) {
			o.heading(bare, m)
			blank = false
			continue
		}
		m := bullet.FindStringSubmatch(text)
		switch {
		case m != nil:
			o.listed(l.Number, len(m[1]), m[2])
		case o.now < 0 || blank && len(text) == len(bare):
			o.items = nil
			o.add(l.Number, bare)
		default:
			o.goOn(bare)
		}
		blank = false
	}
	return o.finished()
}

// heading notes a heading, with its parts as the form of headings has them; nil for one that a line stands under.
func (o *outline) heading(bare string, m []string) {
	label, level := bare, 10
	if m != nil {
		label = strings.Join(m[1:], "")
		switch {
		case strings.HasPrefix(bare, "#"), strings.HasPrefix(bare, "=="):
			level = len(bare) - len(strings.TrimLeft(bare, "#="))
		case m[5] != "":
			level = 40 // "Words:"
		default:
			level = 30 // bold
		}
	}
	for len(o.heads) > 0 && o.heads[len(o.heads)-1].level >= level {
		o.heads = o.heads[:len(o.heads)-1]
	}
	kind := kindOf(label)
	if above := o.kind(); above == Breaking || kind == "" {
		kind = above
	}
	o.heads, o.items, o.now = append(o.heads, head{level, kind}), nil, -1
}

// kind is that of the headings that a line stands under.
func (o *outline) kind() Kind {
	if len(o.heads) == 0 {
		return ""
	}
	return o.heads[len(o.heads)-1].kind
}

func (o *outline) add(line int, text string) {
	o.entries = append(o.entries, Entry{Line: line, Text: text, Kind: o.kind()})
	o.now = len(o.entries) - 1
}

// goOn adds a line to the entry that it belongs to.
func (o *outline) goOn(text string) {
	if o.now >= 0 && len(o.entries[o.now].Text) < maxEntry {
		o.entries[o.now].Text += " " + text
	}
}

// listed adds an item of a list. One that is nested in an item which only says what follows, with a colon, begins with that.
func (o *outline) listed(line, indent int, text string) {
	for len(o.items) > 0 && o.items[len(o.items)-1].indent >= indent {
		o.items = o.items[:len(o.items)-1]
	}
	label := ""
	if n := len(o.items); n > 0 {
		if above := &o.entries[o.items[n-1].entry]; strings.HasSuffix(above.Text, ":") && len(above.Text) <= maxLabel {
			label, above.label = above.Text+" ", true
		}
	}
	o.add(line, label+text)
	o.items = append(o.items, item{indent, o.now})
}

// maxLabel is how long what only says what follows may be, in bytes.
const maxLabel = 120

// finished are the entries, without those that only say what follows.
func (o *outline) finished() (entries []Entry) {
	for i := range o.entries {
		if o.entries[i].label {
			continue
		}
		o.entries[i].read()
		entries = append(entries, o.entries[i])
	}
	return entries
}
