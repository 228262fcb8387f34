// Package keys reads and changes configuration by its keys: properties, environment files, INI,
// YAML, JSON with and without comments, TOML and XML. A change splices bytes, so that comments,
// order and format stay.
package keys

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/splice"
)

// Edit is a change of a file.
type Edit = splice.Edit

// Format is how a file of configuration is written.
type Format string

// The formats.
const (
	Properties Format = "properties"
	Env        Format = "env" // NAME=value, for the environment
	INI        Format = "ini"
	YAML       Format = "yaml"
	JSON       Format = "json" // with or without comments
	TOML       Format = "toml"
	XML        Format = "xml"
)

var byEnding = map[string]Format{
	".properties": Properties, ".env": Env, ".ini": INI, ".cfg": INI, ".conf": INI, ".yml": YAML, ".yaml": YAML, ".json": JSON, ".jsonc": JSON,
	".json5": JSON, ".toml": TOML, ".xml": XML, ".config": XML, ".csproj": XML, ".fsproj": XML, ".props": XML, ".targets": XML,
}

// FormatOf is the format of a file by its name; ok is false for none.
func FormatOf(file string) (f Format, ok bool) {
	base := path.Base(file)
	if base == ".env" || strings.HasPrefix(base, ".env.") {
		return Env, true
	}
	f, ok = byEnding[strings.ToLower(path.Ext(base))]
	return f, ok
}

// span is a range of bytes, end exclusive.
type span struct{ start, end int }

func (s span) of(src string) string { return src[s.start:s.end] }

// Entry is one key of a file.
type Entry struct {
	Path []string // from the file's top
	Line int      // counted from 1
	// Text is the value, as far as it is a single one; Scalar tells whether it is.
	Text   string
	Scalar bool

	own   int  // how many of the path's last names stand in the key itself: 2 for "server.port" in YAML
	key   span // the key's text, without quotes
	value span // with quotes
	whole span // with its line, where it has lines of its own
	// closing is the name in the closing tag of an element of XML.
	closing span
	in      int  // the container it is in
	part    int  // of the file's documents, the one that it is in
	pair    bool // of XML: name and value are attributes or a text
	fixed   bool // it cannot be taken away by itself
}

// Name is the path with dots.
func (e *Entry) Name() string { return strings.Join(e.Path, ".") }

// container is something that keys can be added to.
type container struct {
	path   []string
	part   int    // of the file's documents, the one that it is in
	at     int    // where a key is inserted
	indent string // of its entries
	tag    int    // of XML: where an attribute is inserted; 0 for none
	commas bool   // entries are parted by commas
	inner  span   // of one with commas: between its brackets
	pairs  string // of XML: the element that siblings have for name and value; empty for none
	last   int    // the last entry in it; -1 for none
}

// Document is a file of configuration.
type Document struct {
	Format     Format
	Entries    []*Entry
	src        string
	containers []container
	parts      int // how many documents the file has, where a file can have several
}

// Read reads a file. It fails on one that is not well-formed.
func Read(f Format, src string) (*Document, error) {
	d := &Document{Format: f, src: src}
	var err error
	switch f {
	case Properties, Env, INI:
		d.readLines()
	case YAML:
		err = d.readYAML()
	case JSON:
		err = d.readJSON()
	case TOML:
		err = d.readTOML()
	case XML:
		err = d.readXML()
	default:
		err = fmt.Errorf("there is no format %q", f)
	}
	if err != nil {
		return nil, err
	}
	// What a format allows and this reader does not understand is left alone.
	for _, e := range d.Entries {
		for _, r := range []span{e.key, e.value, e.whole} {
			if r.start < 0 || r.end < r.start || r.end > len(src) || e.value.start < e.key.end {
				return nil, errors.New("it is written in a way that is not understood here")
			}
		}
		if c := d.containers[e.in]; c.commas && (e.whole.start < c.inner.start || e.whole.end > c.inner.end) {
			return nil, errors.New("it is written in a way that is not understood here")
		}
	}
	d.number()
	return d, nil
}

// number finds the lines of the entries.
func (d *Document) number() {
	byPlace := slices.Clone(d.Entries)
	slices.SortFunc(byPlace, func(a, b *Entry) int { return a.key.start - b.key.start })
	line, at := 1, 0
	for _, e := range byPlace {
		line += strings.Count(d.src[at:e.key.start], "\n")
		e.Line, at = line, e.key.start
	}
}

// relaxed tells whether names that differ in case, "-" and "_" only are the same.
func (d *Document) relaxed() bool {
	return d.Format == Properties || d.Format == Env || d.Format == YAML
}

// normal is what spellings of the same name have in common.
func normal(name string) string {
	return strings.NewReplacer("-", "", "_", "").Replace(strings.ToLower(name))
}

// Stripped is a text in which a key stands in one spelling only, to be searched for Mark.
func Stripped(text string) string { return normal(text) }

// Mark is a text that stands in the stripped text of every file that has a key; "" for any.
func Mark(key string) string {
	names := Split(key)
	for i := len(names) - 1; i >= 0; i-- {
		if name := strings.TrimPrefix(names[i], "@"); name != "*" && !strings.Contains(name, "[") {
			return normal(name)
		}
	}
	return ""
}

// same tells whether two names are the same key.
func (d *Document) same(a, b string) bool {
	return a == b || d.relaxed() && normal(a) == normal(b) || d.Format == XML && a == b[strings.IndexByte(b, ':')+1:]
}

// Split gives the names of a key that is written with dots. A name in quotes or square brackets
// may have dots itself.
func Split(key string) (names []string) {
	name := ""
	var until rune
	for _, r := range key {
		switch {
		case until != 0 && r == until:
			until = 0
		case until != 0:
			name += string(r)
		case r == '"' || r == '\'':
			until = r
		case r == '.':
			names = append(names, name)
			name = ""
		default:
			name += string(r)
		}
	}
	return append(names, name)
}

// Find are the entries of a key. A last name "*" finds all below. In a file for the environment
// a key is found by the variable that stands for it.
func (d *Document) Find(key []string) (found []*Entry) {
	for _, e := range d.Entries {
		if d.is(e, key) {
			found = append(found, e)
		}
	}
	return found
}

func (d *Document) is(e *Entry, key []string) bool {
	if d.Format == Env {
		return strings.EqualFold(e.Path[0], Variable(key)) || len(key) == 1 && e.Path[0] == key[0]
	}
	if len(key) > 0 && key[len(key)-1] == "*" {
		return len(e.Path) == len(key) && d.Below(e.Path, key[:len(key)-1])
	}
	return len(e.Path) == len(key) && d.Below(e.Path, key)
}

// Below tells whether a path begins with names, in any of their spellings.
func (d *Document) Below(path, names []string) bool {
	if len(path) < len(names) {
		return false
	}
	for i, name := range names {
		if !d.same(name, path[i]) {
			return false
		}
	}
	return true
}

// Variable is the variable of the environment that stands for a key: SERVER_PORT.
func Variable(key []string) string {
	return strings.ToUpper(strings.NewReplacer(".", "_", "-", "", "[", "_", "]", "").Replace(strings.Join(key, "_")))
}

// ErrNotAlone means that an entry cannot be taken away by itself.
var ErrNotAlone = errors.New("it cannot be taken away by itself here")

// Rename gives another name to an entry, which stays where it is. Ok is false where the new path
// differs in more than what the key itself says: then it has to be moved.
func (d *Document) Rename(e *Entry, to []string) (edits []Edit, ok bool) {
	stay := len(e.Path) - e.own
	name := Variable(to)
	if d.Format != Env {
		if len(to) <= stay || !d.Below(e.Path, to[:stay]) || !e.pair && e.own == 1 && len(to) != len(e.Path) {
			return nil, false
		}
		name = strings.TrimPrefix(strings.Join(to[stay:], "."), "@")
	}
	edits = append(edits, Edit{Start: e.key.start, End: e.key.end, New: name})
	if e.closing.end > 0 {
		edits = append(edits, Edit{Start: e.closing.start, End: e.closing.end, New: name})
	}
	return edits, true
}

// Set gives an entry another value.
func (d *Document) Set(e *Entry, v Value) (Edit, error) {
	if !e.Scalar {
		return Edit{}, errors.New("it has several values")
	}
	text := d.written(v, e.value.of(d.src))
	if d.Format == YAML && e.value.start == e.value.end {
		text = " " + text
	}
	return Edit{Start: e.value.start, End: e.value.end, New: text}, nil
}

// Value is what a key is given.
type Value struct {
	Text  string
	Plain bool   // a number, true or false
	Raw   string // as it stood in a file of the same format; empty for one that is told
	List  []string
	// Above are comments that stand in lines above it, Behind is one behind it: as they are written, without what is around them.
	Above  []string
	Behind string
}

// ValueOf is the value of an entry, to be given to another one.
func (d *Document) ValueOf(e *Entry) Value {
	raw := e.value.of(d.src)
	return Value{Text: e.Text, Plain: e.Scalar && raw == e.Text && plainWord(raw), Raw: raw}
}

func plainWord(text string) bool {
	if text == "true" || text == "false" || text == "null" {
		return true
	}
	dots := 0
	for i, c := range text {
		if c == '.' {
			dots++
		} else if (c < '0' || c > '9') && (c != '-' || i > 0) {
			return false
		}
	}
	return text != "" && dots <= 1
}

// Remove takes an entry away.
func (d *Document) Remove(e *Entry) (Edit, error) {
	if e.fixed {
		return Edit{}, ErrNotAlone
	}
	if !d.containers[e.in].commas {
		return Edit{Start: e.whole.start, End: e.whole.end}, nil
	}
	// With the comma behind it, or else the one before it.
	inner := d.containers[e.in].inner
	s := span{e.whole.start, e.whole.end}
	for s.start > inner.start && strings.IndexByte(" \t\r\n", d.src[s.start-1]) >= 0 {
		s.start--
	}
	after := s.end + len(d.src[s.end:inner.end]) - len(strings.TrimLeft(d.src[s.end:inner.end], " \t"))
	if after < inner.end && d.src[after] == ',' {
		s.end = after + 1
		if s.start == inner.start && !strings.Contains(d.src[s.start:e.whole.start], "\n") {
			s.end += len(d.src[s.end:inner.end]) - len(strings.TrimLeft(d.src[s.end:inner.end], " "))
		}
		return Edit{Start: s.start, End: s.end}, nil
	}
	if before := strings.TrimRight(d.src[inner.start:s.start], " \t\r\n"); strings.HasSuffix(before, ",") {
		s.start = inner.start + len(before) - 1
	}
	return Edit{Start: s.start, End: s.end}, nil
}

// Add gives a key a value. What has to stand above it is added, too.
func (d *Document) Add(key []string, v Value) (Edit, error) {
	best := -1
	for i, c := range d.containers {
		if len(c.path) < len(key) && d.Below(key, c.path) && (best < 0 || len(c.path) > len(d.containers[best].path)) {
			best = i
		}
	}
	if best < 0 {
		return Edit{}, errors.New("there is no place for it")
	}
	c := d.containers[best]
	rest := key[len(c.path):]
	switch d.Format {
	case Properties, Env, INI:
		return d.addLine(c, key, rest, v), nil
	case YAML:
		return d.addYAML(c, rest, v)
	case JSON:
		return d.addJSON(c, rest, v)
	case TOML:
		return d.addTOML(c, key, rest, v)
	}
	return d.addXML(c, rest, v)
}

// written is a value as the format has it. The quotes are those of a value that it replaces.
func (d *Document) written(v Value, before string) string {
	if v.Raw != "" {
		return v.Raw
	}
	switch d.Format {
	case Properties, INI:
		return v.Text
	case Env:
		if len(before) > 1 && (before[0] == '"' || before[0] == '\'') {
			return before[:1] + v.Text + before[:1]
		}
		if strings.ContainsAny(v.Text, " \t#\"'$") {
			return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`).Replace(v.Text) + `"`
		}
		return v.Text
	case XML:
		text := strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;").Replace(v.Text)
		if len(before) > 1 && (before[0] == '"' || before[0] == '\'') {
			return before[:1] + text + before[:1]
		}
		return text
	}
	if v.List != nil {
		var items []string
		for _, text := range v.List {
			items = append(items, d.written(Value{Text: text, Plain: plainWord(text)}, ""))
		}
		return "[" + strings.Join(items, ", ") + "]"
	}
	if v.Plain {
		return v.Text
	}
	if d.Format == YAML {
		return yamlText(v.Text, before)
	}
	if len(before) > 1 && before[0] == '\'' && !strings.ContainsAny(v.Text, "'\\\n") {
		return "'" + v.Text + "'"
	}
	return quoted(v.Text)
}

// quoted is a text as JSON and TOML have it.
func quoted(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range text {
		switch {
		case r == '"' || r == '\\':
			b.WriteRune('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < ' ':
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// lineEnd is the line end that a file has.
func (d *Document) lineEnd() string {
	if strings.Contains(d.src, "\r\n") {
		return "\r\n"
	}
	return "\n"
}

// atLineStart is an insertion of whole lines at a place where a line begins, or at the end of a
// file whose last line has no end.
func (d *Document) atLineStart(at int, lines []string) Edit {
	nl := d.lineEnd()
	text := strings.Join(lines, nl) + nl
	if at > 0 && d.src[at-1] != '\n' {
		text = nl + strings.TrimSuffix(text, nl)
	}
	return Edit{Start: at, End: at, New: text}
}

// nextLine is where the line after a place begins.
func nextLine(src string, at int) int {
	at = min(max(at, 0), len(src))
	if n := strings.IndexByte(src[at:], '\n'); n >= 0 {
		return at + n + 1
	}
	return len(src)
}

// lineStart is where the line of a place begins.
func lineStart(src string, at int) int {
	return strings.LastIndexByte(src[:min(at, len(src))], '\n') + 1
}

// enclose notes an entry in its container.
func (d *Document) enclose(e *Entry, in int) {
	e.in, e.part = in, d.containers[in].part
	d.Entries = append(d.Entries, e)
	d.containers[in].last = len(d.Entries) - 1
}

// Names are the names of all entries, sorted.
func (d *Document) Names() (names []string) {
	for _, e := range d.Entries {
		names = append(names, e.Name())
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// IsKey tells whether a place is in the name of a key.
func (d *Document) IsKey(at int) bool {
	return d != nil && slices.ContainsFunc(d.Entries, func(e *Entry) bool { return !e.pair && e.key.start <= at && at < e.key.end })
}

// ValueRange is where an entry's value stands, with its quotes.
func (d *Document) ValueRange(e *Entry) (start, end int) { return e.value.start, e.value.end }
