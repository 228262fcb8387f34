// Package pattern is a small language for changes of the shape of code. A pattern is code with
// holes; it is matched token by token, so that white space, line breaks and comments between do
// not matter. A template says what comes in the place of what was matched. docs/rules.md tells
// how both are written.
package pattern

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/lex"
	"bellwether/internal/core/spelling"
)

// Mistake is what is wrong with a pattern or template, with its place there.
type Mistake struct {
	Line, Column int // counted from 1
	Wrong, Next  string
}

// Error is the place and what is wrong.
func (m *Mistake) Error() string { return fmt.Sprintf("%d:%d: %s", m.Line, m.Column, m.Wrong) }

// Kind is what a hole takes.
type Kind string

// The kinds of holes.
const (
	Expression Kind = "expression" // one or more tokens, up to a comma, a semicolon or the end of what they are in
	List       Kind = "list"       // any number of arguments, items or members, with their commas
	Block      Kind = "block"      // anything, also nothing
	WordHole   Kind = "word"       // one name
	StringHole Kind = "string"     // one string
	NumberHole Kind = "number"     // one number
)

var kinds = []string{string(Expression), string(List), string(Block), string(WordHole), string(StringHole), string(NumberHole)}

// Condition is what the text of a hole must be like.
type Condition struct {
	Matches, Not *regexp.Regexp // of the whole text; nil for any
	// With and Without are code that must, or must not, stand in the hole, outside its brackets.
	With, Without []string
}

// part is a token of a pattern, a hole or a group.
type part struct {
	text string // of a token
	kind lex.Kind
	gap  string // what stands before it in the pattern

	hole string
	of   Kind

	group []part
	many  bool // the group may stand any number of times, not only once or never
	soft  bool // a comma beside a list: it is missing where the list is empty
}

func (p part) literal() bool { return p.hole == "" && p.group == nil }

// Code is a pattern or template, read for one language.
type Code struct {
	lang  *lex.Language
	parts []part
	lists map[string]bool // the holes that are lists
}

// Words are the names that stand in every place that the pattern matches.
func (c *Code) Words() (words []string) {
	for _, p := range c.parts {
		if p.literal() && p.kind == lex.Word {
			words = append(words, p.text)
		}
	}
	return words
}

// Parse reads a pattern. Its errors are *Mistake.
func Parse(lang *lex.Language, src string) (*Code, error) {
	c, err := read(lang, src, false)
	if err != nil {
		return nil, err
	}
	c.lists = map[string]bool{}
	holes(c.parts, 0, func(p *part, _ int) { c.lists[p.hole] = c.lists[p.hole] || p.of == List || p.of == Block })
	soften(c.parts, c.lists)
	// A pattern of holes and brackets only would match everything.
	said := func(p part) bool { return p.literal() && p.kind != lex.Mark }
	if !slices.ContainsFunc(c.parts, said) {
		return nil, &Mistake{1, 1, "this matches everything", "write a name, a string or a number into it that has to stand there"}
	}
	if first := c.parts[0]; first.hole != "" &&
		(first.of != Expression && first.of != WordHole || len(c.parts) < 2 || !c.parts[1].literal()) {
		return nil, &Mistake{1, 1, "a pattern may begin with a hole only for an expression that a token follows", ""}
	}
	return c, nil
}

// Template reads a template for a pattern. Its errors are *Mistake.
func (c *Code) Template(src string) (*Code, error) {
	t, err := read(c.lang, src, true)
	if err != nil {
		return nil, err
	}
	have := map[string]int{} // with how many groups they are in
	holes(c.parts, 0, func(p *part, deep int) { have[p.hole] = deep })
	var wrong *Mistake
	holes(t.parts, 0, func(p *part, deep int) {
		depth, there := have[p.hole]
		switch {
		case !there:
			wrong = &Mistake{1, 1, fmt.Sprintf("the pattern has no hole %q", p.hole), ""}
		case depth != deep:
			wrong = &Mistake{
				1,
				1,
				fmt.Sprintf("the hole %q stands in a part that may be missing in the one, and not in the other", p.hole),
				"",
			}
		}
	})
	signs := map[string]bool{}
	groups(c.parts, func(p part) { signs[p.sign()] = true })
	groups(t.parts, func(p part) {
		if wrong == nil && !signs[p.sign()] {
			wrong = &Mistake{1, 1, "the pattern has no part with the same holes that may be missing or repeat", ""}
		}
	})
	if wrong != nil {
		return nil, wrong
	}
	soften(t.parts, c.lists)
	return t, nil
}

// holes calls do for each hole.
func holes(parts []part, deep int, do func(p *part, deep int)) {
	for i := range parts {
		switch p := &parts[i]; {
		case p.hole != "":
			do(p, deep)
		case p.group != nil:
			holes(p.group, deep+1, do)
		}
	}
}

// groups calls do for each part that may be missing or repeat.
func groups(parts []part, do func(p part)) {
	for _, p := range parts {
		if p.group != nil {
			do(p)
			groups(p.group, do)
		}
	}
}

// sign tells which group of a pattern one of a template is: its holes, or else its tokens.
func (p part) sign() string {
	var names, texts []string
	holes(p.group, 0, func(p *part, _ int) { names = append(names, p.hole) })
	for _, inner := range p.group {
		texts = append(texts, inner.text)
	}
	if names != nil {
		slices.Sort(names)
		return strings.Join(slices.Compact(names), " ")
	}
	return "\x00" + strings.Join(texts, " ")
}

// place is a hole's stand-in in the text that is split into tokens.
const place = "zqhole"

// read reads a pattern or template.
func read(lang *lex.Language, src string, template bool) (*Code, error) {
	whole := lang
	lang = lang.Code()
	src = strings.TrimRight(src, "\n")
	text, metas, err := replaceHoles(lang, src)
	if err != nil {
		return nil, err
	}
	r := &reader{lang: lang, src: src, text: text, metas: metas, tokens: lex.Split(lang, text), template: template}
	parts, err := r.parts(nil)
	if err != nil {
		return nil, err
	}
	return &Code{lang: whole, parts: parts}, nil
}

// meta is what stands between backticks.
type meta struct {
	text string
	at   int // in the pattern
}

// marker tells whether it begins or ends a group.
func (m meta) marker() bool { return strings.ContainsAny(m.text, "()") }

// mistake is one at a place of a text.
func mistake(src string, at int, wrong, next string) *Mistake {
	before := src[:at]
	return &Mistake{strings.Count(before, "\n") + 1, at - strings.LastIndexByte(before, '\n'), wrong, next}
}

// replaceHoles puts words in the place of what stands in backticks.
func replaceHoles(lang *lex.Language, src string) (text string, metas []meta, err error) {
	var b strings.Builder
	for i := 0; i < len(src); {
		if src[i] != '`' {
			b.WriteByte(src[i])
			i++
			continue
		}
		if strings.HasPrefix(src[i:], "``") {
			b.WriteByte('`')
			i += 2
			continue
		}
		n := strings.IndexByte(src[i+1:], '`')
		if n < 0 || strings.Contains(src[i+1:i+1+n], "\n") {
			return "", nil, mistake(src, i, "this hole is not closed", "end it with a backtick; two backticks stand for one of the code")
		}
		m := meta{strings.TrimSpace(src[i+1 : i+1+n]), i}
		word := place + letters(len(metas)) // letters only, so that it is a word in every language
		switch after := i + n + 2; {
		case m.marker():
			word = " " + word + " "
		case i > 0 && wordy(lang, src[i-1]) || after < len(src) && wordy(lang, src[after]):
			return "", nil, mistake(src, i, "a hole takes whole words, but here it touches one", "put white space between them")
		}
		b.WriteString(word)
		metas = append(metas, m)
		i += n + 2
	}
	return b.String(), metas, nil
}

// wordy tells whether a byte belongs to a word.
func wordy(lang *lex.Language, c byte) bool {
	t := lex.Split(lang, string(rune(c)))
	return len(t) == 1 && (t[0].Kind == lex.Word || t[0].Kind == lex.Number)
}

// letters is a number in three letters.
func letters(n int) string {
	return string([]byte{byte('a' + n/676%26), byte('a' + n/26%26), byte('a' + n%26)})
}

// reader makes parts of tokens.
type reader struct {
	lang     *lex.Language
	src      string // the pattern
	text     string // with words in the place of holes
	metas    []meta
	tokens   []lex.Token
	at       int
	gap      string // what was passed since the last part
	ended    meta   // the last end of a group
	template bool   // what it is read for: holes may stand side by side
}

func (r *reader) wrong(m meta, wrong, next string) *Mistake { return mistake(r.src, m.at, wrong, next) }

// metaOf is what a token stands for.
func (r *reader) metaOf(t lex.Token) (m meta, ok bool, err error) {
	text := t.Of(r.text)
	at := strings.Index(text, place)
	if at < 0 || at+len(place)+3 > len(text) {
		return m, false, nil
	}
	n := 0
	for _, c := range []byte(text[at+len(place):][:3]) {
		n = n*26 + int(c) - 'a'
	}
	if n < 0 || n >= len(r.metas) {
		return m, false, nil
	}
	if len(text) != len(place)+3 || t.Kind != lex.Word && t.Kind != lex.Text {
		err = r.wrong(r.metas[n], "a hole cannot be a part of a string or of a comment", "match all of it with a hole like `name:string`")
	}
	return r.metas[n], true, err
}

// parts reads up to the end, or, within a group, up to its end.
func (r *reader) parts(within *meta) (all []part, err error) {
	for r.at < len(r.tokens) {
		t := r.tokens[r.at]
		r.at++
		if t.Silent() {
			r.gap += t.Of(r.text)
			continue
		}
		m, isMeta, err := r.metaOf(t)
		if err != nil {
			return nil, err
		}
		gap := r.gap
		r.gap = ""
		if !isMeta {
			all = append(all, part{text: t.Of(r.text), kind: t.Kind, gap: gap})
			continue
		}
		if m.marker() { // it has a blank on each side
			gap = strings.TrimSuffix(gap, " ")
			if r.at < len(r.tokens) && r.tokens[r.at].Kind == lex.Space {
				r.gap = r.tokens[r.at].Of(r.text)[1:]
				r.at++
			}
		}
		switch m.text {
		case "(":
			group, err := r.parts(&m)
			if err != nil {
				return nil, err
			}
			if len(group) == 0 {
				return nil, r.wrong(m, "nothing stands in this part", "")
			}
			all = append(all, part{group: group, many: r.ended.text == ")*", gap: gap})
		case ")?", ")*":
			if within == nil {
				return nil, r.wrong(m, "no part begins that ends here", "begin it with `(`")
			}
			r.ended = m
			r.gap = gap + r.gap
			return all, nil
		default:
			p, err := r.hole(m)
			if err != nil {
				return nil, err
			}
			p.gap = gap
			if n := len(all); !r.template && n > 0 && all[n-1].hole != "" && !all[n-1].single() && !p.single() {
				return nil, r.wrong(m, "two holes stand side by side, and nothing tells where the first one ends",
					"put what stands between them there, or make one hole of them")
			}
			all = append(all, p)
		}
	}
	if within != nil {
		return nil, r.wrong(*within, "this part is not closed", "end it with `)?` if it may be missing, with `)*` if it may repeat")
	}
	return all, nil
}

// single tells whether a hole takes one token only.
func (p part) single() bool { return p.of == WordHole || p.of == StringHole || p.of == NumberHole }

var holeName = lazyregexp.New(`^[A-Za-z][A-Za-z0-9_-]*$`)

// hole reads a hole: its name, and what it takes.
func (r *reader) hole(m meta) (p part, err error) {
	name, kind, told := strings.Cut(m.text, ":")
	name, kind = strings.TrimSpace(name), strings.TrimSpace(kind)
	if !holeName.MatchString(name) {
		return p, r.wrong(
			m,
			fmt.Sprintf("%q is not the name of a hole", m.text),
			"names are letters, digits, - and _, like `size` or `rest:list`",
		)
	}
	if !told {
		kind = string(Expression)
	}
	if !slices.Contains(kinds, kind) {
		next := spelling.DidYouMean(kind, kinds)
		if next == "" {
			next = "holes are " + strings.Join(kinds, ", ")
		}
		return p, r.wrong(m, fmt.Sprintf("there is no hole of the kind %q", kind), next)
	}
	return part{hole: name, of: Kind(kind)}, nil
}

// soften marks the commas that are missing where a list beside them is empty. A hole that is
// named again, or named in a template, is a list where it was one.
func soften(parts []part, lists map[string]bool) {
	for i := range parts {
		soften(parts[i].group, lists)
		list := func(k int) bool { return k >= 0 && k < len(parts) && lists[parts[k].hole] }
		if parts[i].literal() && parts[i].text == "," {
			parts[i].soft = list(i-1) || list(i+1)
		}
	}
}

// Has tells whether a pattern has a hole.
func (c *Code) Has(hole string) (found bool) {
	holes(c.parts, 0, func(p *part, _ int) { found = found || p.hole == hole })
	return found
}
