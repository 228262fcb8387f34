package printed

import (
	"cmp"
	"slices"
	"strings"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/lazyregexp"
)

// pattern is one form of what a tool says. Groups of its expression have names:
// text, file, line, col, code, level, pkg and ver.
type pattern struct {
	tool string
	kind finding.Kind // where no level and no word in the text tells another
	has  string       // what each such line has, three bytes at least, alternatives with | between; it makes looking fast
	re   string
	says string // the text, where there is no such group; $code and the like stand for groups
	// head is that the text stands on the next line that is not empty.
	head bool
	// look is in how many lines after it the place is looked for, in one of its forms.
	look int
	form string
	not  string // lines with this are none
	// under is that it stands below a line with the file's name.
	under bool

	line, none, at *lazyregexp.Regexp
}

// The forms of places that stand on lines of their own.
const (
	arrowForm = `^\s*(?:-->|└─) (?P<file>[^\s:]+):(?P<line>\d+)(?::(?P<col>\d+))?`
	anyForm   = `^\s*(?:(?:-->|└─) |  )(?P<file>[^\s:]+\.\w+):(?P<line>\d+)(?::(?P<col>\d+))?`
	plainForm = `^\s+(?P<file>[^\s:()]+\.\w+):(?P<line>\d+)(?::(?P<col>\d+))?:?`
	spaceForm = `^\s+(?P<file>\S+\.\w+) (?P<line>\d+):(?P<col>\d+)`
	stackForm = `^\s+at (?:.*\()?(?:file://)?(?P<file>[^\s:()]+):(?P<line>\d+):(?P<col>\d+)\)?$`
)

// compiled readies the patterns for use.
func compiled(table []pattern) []pattern {
	for i := range table {
		p := &table[i]
		p.line = lazyregexp.New(p.re)
		if p.not != "" {
			p.none = lazyregexp.New(p.not)
		}
		if p.form != "" {
			p.at = lazyregexp.New(p.form)
		}
	}
	return table
}

// named are the groups of a match by their names.
func named(re *lazyregexp.Regexp, line string) map[string]string {
	m := re.FindStringSubmatch(line)
	if m == nil {
		return nil
	}
	found := map[string]string{}
	for i, name := range re.SubexpNames() {
		if name != "" {
			found[name] = cmp.Or(found[name], m[i])
		}
	}
	return found
}

// match reads a line by the pattern; ok is false if it has another form.
func (p *pattern) match(line string) (f finding.Finding, at spot, ok bool) {
	g := named(p.line, line)
	if g == nil || p.none != nil && p.none.MatchString(line) {
		return f, at, false
	}
	f = finding.Finding{Tool: p.tool, Kind: p.kind, Code: g["code"], Text: g["text"], Package: g["pkg"], Version: g["ver"]}
	if p.says != "" {
		f.Text = expand(p.says, g)
	}
	switch strings.ToLower(strings.TrimSpace(g["level"])) {
	case "error", "fatal error", "parse error", "e", "✖", "×":
		f.Kind = finding.Failure
	case "warning", "notice", "w", "⚠":
		f.Kind = finding.Warning
	case "deprecated":
		f.Kind = finding.Deprecation
	}
	if f.Kind == finding.Warning && deprecates.MatchString(f.Text+" "+f.Code) {
		f.Kind = finding.Deprecation
	}
	return f, spot{g["file"], g["line"], g["col"]}, true
}

// deprecates are words by which a warning is one of what is to go.
var deprecates = lazyregexp.New(
	`(?i)\bdeprecat|\bobsolete\b|(?:will|going to) be removed|scheduled (?:to be removed|for removal)|marked for removal|` +
		`PendingDeprecation|FutureWarning`,
)

// expand puts groups into a text, each as $name.
func expand(text string, groups map[string]string) string {
	for name, value := range groups {
		text = strings.ReplaceAll(text, "$"+name, value)
	}
	return text
}

// spot is a place as a tool prints it.
type spot struct{ file, line, col string }

// where looks for the place of a finding on a later line.
func (p *pattern) where(line string) (spot, bool) {
	g := named(p.at, line)
	if g == nil {
		return spot{}, false
	}
	return spot{g["file"], g["line"], g["col"]}, true
}

// words finds out which of several texts a line has, by looking at three bytes at
// a time.
type words struct {
	first [1 << 16]bool // by a hash of three bytes: whether any of them begins so
	lists map[[3]byte][]word
}

// word is a text of three bytes or more, and what it stands for.
type word struct {
	text string
	of   int
}

func newWords(texts ...string) *words {
	w := &words{lists: map[[3]byte][]word{}}
	for i, text := range texts {
		w.put(text, i)
	}
	return w
}

func (w *words) put(text string, of int) {
	key := [3]byte{text[0], text[1], text[2]}
	w.first[hash3(text[0], text[1], text[2])] = true
	w.lists[key] = append(w.lists[key], word{text, of})
}

func hash3(a, b, c byte) uint16 { return uint16(a)<<8 ^ uint16(b)<<4 ^ uint16(c) }

// each gives what stands in a line, until found says that it is enough.
func (w *words) each(line string, found func(of int) (enough bool)) bool {
	for i := 0; i+3 <= len(line); i++ {
		if !w.first[hash3(line[i], line[i+1], line[i+2])] {
			continue
		}
		for _, o := range w.lists[[3]byte{line[i], line[i+1], line[i+2]}] {
			if strings.HasPrefix(line[i:], o.text) && found(o.of) {
				return true
			}
		}
	}
	return false
}

// in tells whether a line has any of them.
func (w *words) in(line string) bool {
	return w.each(line, func(int) bool { return true })
}

// index finds the pattern that a line matches.
type index struct {
	words *words
	table []pattern
	tried []int // reused
}

func newIndex(table []pattern) *index {
	x := &index{words: newWords(), table: table}
	for i, p := range table {
		for has := range strings.SplitSeq(p.has, "|") {
			x.words.put(has, i)
		}
	}
	return x
}

// find reads a line by the first pattern of the table that it matches.
func (x *index) find(line string) (p *pattern, f finding.Finding, at spot, ok bool) {
	x.tried = x.tried[:0]
	x.words.each(line, func(of int) bool {
		x.tried = append(x.tried, of)
		return false
	})
	slices.Sort(x.tried)
	for _, n := range slices.Compact(x.tried) {
		if f, at, ok = x.table[n].match(line); ok {
			return &x.table[n], f, at, true
		}
	}
	return nil, f, at, false
}
