package pattern

import (
	"errors"
	"slices"
	"strings"

	"bellwether/internal/core/lex"
)

// Source is a text that is searched, split once for all patterns.
type Source struct {
	Text   string
	Lang   *lex.Language
	tokens []lex.Token // those that say something; partners by their indices here
	lines  []int       // where each line begins; nil before it was asked for
}

// NewSource splits a text.
func NewSource(lang *lex.Language, text string) *Source {
	return SourceOf(lang, text, lex.Said(lex.Split(lang, text)))
}

// SourceOf is a text of which the tokens that say something are known.
func SourceOf(lang *lex.Language, text string, said []lex.Token) *Source {
	return &Source{Text: text, Lang: lang, tokens: joined(text, said)}
}

func (s *Source) text(i int) string { return s.tokens[i].Of(s.Text) }

// Match is one place that a pattern matches.
type Match struct {
	Start, End int // byte offsets
	items      []item
	bound      *binding
}

// item is something of a pattern as it was matched, or of a template as it is to be written.
type item struct {
	key        string // what is the same on both sides has the same
	start, end int    // of what was matched, in the source
	text       string // of what is to be written
	comma      bool   // a closing bracket, with the comma before it
	gap        string // before it, in the pattern or template
}

// span is a run of tokens, end exclusive.
type span struct{ from, to int }

// binding is what holes took. Parts that repeat have bindings of their own.
type binding struct {
	holes  map[string]span
	rounds map[string][]*binding // by the groups' signs
	outer  *binding
}

func (b *binding) find(name string) (span, bool) {
	for ; b != nil; b = b.outer {
		if s, ok := b.holes[name]; ok {
			return s, true
		}
	}
	return span{}, false
}

// ErrAmbiguous means that there are too many ways to match a pattern in a text.
var ErrAmbiguous = errors.New("the pattern can be matched in too many ways; put more code between its holes")

// ErrLoop means that a pattern matches what its template writes.
var ErrLoop = errors.New("the pattern matches what it writes itself, without end; add a condition that what is done already does not meet")

// mostSteps bounds the search in one text: so many, and some for each of its tokens.
const mostSteps = 200_000

// matcher searches one text.
type matcher struct {
	src   *Source
	code  *Code
	conds map[string]Condition
	steps int
	seen  []item // what was matched so far
	bound *binding
	end   int // behind the last token matched
}

// Find gives the places that the pattern matches, in order. Where one lies in another, both are
// given, the outer one first.
func (c *Code) Find(src *Source, conds map[string]Condition) ([]Match, error) {
	m := &matcher{src: src, code: c, conds: conds, steps: mostSteps + 50*len(src.tokens)}
	var found []Match
	anchor, before := c.parts[0], 0
	if anchor.hole != "" {
		anchor, before = c.parts[1], 1
	}
	for i := range src.tokens {
		if anchor.literal() && !m.same(anchor, i) {
			continue
		}
		start := i
		if before == 1 {
			if start = m.operand(i); start == i || c.parts[0].of == WordHole && start != i-1 {
				continue
			}
		} else if anchor.kind == lex.Word && i > 0 && slices.Contains(members, src.text(i-1)) {
			continue // a member of something has another meaning
		}
		m.seen, m.bound = nil, &binding{holes: map[string]span{}, rounds: map[string][]*binding{}}
		var hit Match
		ok := m.parts(c.parts, 0, start, m.bound, func(at int) bool {
			if at == start || !m.fits() {
				return false
			}
			hit = Match{Start: src.tokens[start].Start, End: src.tokens[at-1].End, items: matched(m.seen), bound: m.bound.clone()}
			return true
		})
		if m.steps < 0 {
			return nil, ErrAmbiguous
		}
		if ok {
			found = append(found, hit)
		}
	}
	return found, nil
}

// members are what comes before the name of a member.
var members = []string{".", "?.", "::", "->", "?->"}

// operand is where the operand begins that ends before a token: names, calls and members.
func (m *matcher) operand(at int) int {
	i := at
	for i > 0 {
		t := m.src.tokens[i-1]
		switch {
		case t.Pair >= 0 && t.Pair < i-1:
			i = t.Pair
			if i > 0 && m.callee(i-1) && m.src.text(i) != "{" {
				continue
			}
		case t.Kind == lex.Word || t.Kind == lex.Number || t.Kind == lex.String:
			i--
		default:
			return i
		}
		if i == 0 || !slices.Contains(members, m.src.text(i-1)) {
			return i
		}
		i--
	}
	return i
}

// callee tells whether brackets behind a token are its arguments or its index.
func (m *matcher) callee(i int) bool {
	t := m.src.tokens[i]
	text := m.src.text(i)
	return t.Kind == lex.Word && !slices.Contains(keywords, text) || text == ")" || text == "]"
}

var keywords = strings.Fields("return if while for switch catch in of and or not await new throw case yield")

// same tells whether a token is the one of a pattern. Strings in other quotes are the same.
func (m *matcher) same(p part, i int) bool {
	t := m.src.tokens[i]
	text := m.src.text(i)
	if text == p.text {
		return t.Kind == p.kind || t.Kind != lex.String && p.kind != lex.String && t.Kind != lex.Text
	}
	return t.Kind == lex.String && p.kind == lex.String && unquoted(text) == unquoted(p.text) && !strings.Contains(text, `\`)
}

func unquoted(text string) string {
	if len(text) >= 2 && strings.IndexByte("\"'`", text[0]) >= 0 && text[0] == text[len(text)-1] {
		return text[1 : len(text)-1]
	}
	return text
}

// parts matches parts from one on, and calls then with where they end. It undoes what it noted
// where that fails.
func (m *matcher) parts(parts []part, n, at int, b *binding, then func(at int) bool) bool {
	if m.steps--; m.steps < 0 {
		return false
	}
	if n == len(parts) {
		return then(at)
	}
	p := parts[n]
	seen := len(m.seen)
	back := func() bool {
		m.seen = m.seen[:seen]
		return false
	}
	switch {
	case p.group != nil:
		return m.group(parts, n, at, b, nil, then) || back()
	case p.hole != "":
		if before, bound := b.find(p.hole); bound {
			length := before.to - before.from
			if at+length > len(m.src.tokens) || !m.equal(before, span{at, at + length}) {
				return false
			}
			m.take(p, span{at, at + length})
			return m.parts(parts, n+1, at+length, b, then) || back()
		}
		return m.hole(parts, n, at, b, then) || back()
	}
	if at < len(m.src.tokens) && m.same(p, at) {
		t := m.src.tokens[at]
		m.seen = append(m.seen, item{key: p.text, start: t.Start, end: t.End, gap: p.gap})
		if m.parts(parts, n+1, at+1, b, then) {
			return true
		}
		back()
	}
	// A comma may stand before a closing bracket.
	if at+1 < len(m.src.tokens) && closes(p.text) && n > 0 && !m.code.lists[parts[n-1].hole] && m.src.text(at) == "," && m.same(p, at+1) {
		m.seen = append(m.seen, item{key: p.text, start: m.src.tokens[at].Start, end: m.src.tokens[at+1].End, gap: p.gap, comma: true})
		return m.parts(parts, n+1, at+2, b, then) || back()
	}
	// A comma beside an empty list may be missing.
	if p.soft && m.beside(parts, n, b, at) {
		m.seen = append(m.seen, item{gap: p.gap})
		return m.parts(parts, n+1, at, b, then) || back()
	}
	return false
}

// closes tells whether a token is a closing bracket.
func closes(text string) bool { return text == ")" || text == "]" || text == "}" }

// beside tells whether a comma that is missing stands beside a list that is, or will be, empty.
func (m *matcher) beside(parts []part, n int, b *binding, at int) bool {
	if n > 0 && parts[n-1].hole != "" {
		if s, ok := b.find(parts[n-1].hole); ok && s.from == s.to && m.code.lists[parts[n-1].hole] {
			return true
		}
	}
	if n+1 < len(parts) && m.code.lists[parts[n+1].hole] {
		// Then the list behind it has to be empty, and what follows it comes at once.
		return at >= len(m.src.tokens) || n+2 >= len(parts) || !parts[n+2].literal() || m.same(parts[n+2], at)
	}
	return false
}

func (m *matcher) equal(a, b span) bool {
	for i := range a.to - a.from {
		if m.src.text(a.from+i) != m.src.text(b.from+i) {
			return false
		}
	}
	return true
}

// take notes what a hole took.
func (m *matcher) take(p part, s span) {
	it := item{key: "\x00" + p.hole, gap: p.gap}
	if s.from < s.to {
		it.start, it.end = m.src.tokens[s.from].Start, m.src.tokens[s.to-1].End
	}
	m.seen = append(m.seen, it)
}

// matched are the items without those that took nothing. The white space before such a one
// counts as that before the next.
func matched(seen []item) (items []item) {
	var passed *string
	for _, it := range seen {
		if it.end == 0 {
			if passed == nil {
				passed = &it.gap
			}
			continue
		}
		if passed != nil {
			it.gap, passed = *passed, nil
		}
		items = append(items, it)
	}
	return items
}

// hole tries what a hole may take, the least first; the last part of a pattern takes all it can.
func (m *matcher) hole(parts []part, n, at int, b *binding, then func(at int) bool) bool {
	p := parts[n]
	seen := len(m.seen)
	try := func(to int) bool {
		s := span{at, to}
		if !m.holds(p.hole, s) {
			return false
		}
		b.holes[p.hole] = s
		m.take(p, s)
		if m.parts(parts, n+1, to, b, then) {
			return true
		}
		delete(b.holes, p.hole)
		m.seen = m.seen[:seen]
		return false
	}
	ends := m.reach(p, at)
	if n == len(parts)-1 && b.outer == nil && len(ends) > 0 && !p.single() {
		return try(ends[len(ends)-1])
	}
	return slices.ContainsFunc(ends, try)
}

// reach are the ends that a hole may have.
func (m *matcher) reach(p part, at int) (ends []int) {
	tokens := m.src.tokens
	if p.single() {
		want := map[Kind]lex.Kind{WordHole: lex.Word, StringHole: lex.String, NumberHole: lex.Number}[p.of]
		if at < len(tokens) && tokens[at].Kind == want {
			return []int{max(at, tokens[at].Pair) + 1}
		}
		return nil
	}
	if p.of != Expression {
		ends = append(ends, at)
	}
	for i := at; i < len(tokens); {
		text := m.src.text(i)
		if i > at && p.of != Block && m.src.Lang.Lines && m.ends(i) && !m.enclosed(i) {
			break
		}
		switch {
		case tokens[i].Pair > i:
			i = tokens[i].Pair + 1
		case tokens[i].Pair >= 0, p.of == Expression && text == ",", p.of != Block && text == ";", text == "</":
			return ends
		default:
			i++
		}
		ends = append(ends, i)
	}
	return ends
}

// ends tells whether a statement ends before a token, because a line does.
func (m *matcher) ends(i int) bool {
	a, b := m.src.tokens[i-1], m.src.tokens[i]
	if between := m.src.Text[a.End:b.Start]; !strings.Contains(between, "\n") || strings.Contains(between, "\\") {
		return false // a backslash joins the lines
	}
	joins := func(t lex.Token, text string) bool {
		return t.Kind == lex.Mark && t.Pair < 0 && text != ";" && text != "@" && text != "}" && text != ")" && text != "]"
	}
	return !joins(a, m.src.text(i-1)) && !joins(b, m.src.text(i))
}

// enclosed tells whether a token is in brackets other than curly ones, in which line ends mean
// nothing. It looks at the brackets that are open around the token.
func (m *matcher) enclosed(i int) bool {
	for k := i - 1; k >= 0; k-- {
		t := m.src.tokens[k]
		switch {
		case t.Pair >= 0 && t.Pair < k:
			k = t.Pair
		case t.Pair > i:
			text := m.src.text(k)
			return text == "(" || text == "[" || text == "{" && m.listed(k)
		}
	}
	return false
}

// listed tells whether what is in curly brackets is parted by commas.
func (m *matcher) listed(open int) bool {
	for k := open + 1; k < m.src.tokens[open].Pair; k++ {
		if p := m.src.tokens[k].Pair; p > k {
			k = p
			continue
		}
		switch m.src.text(k) {
		case ",":
			return true
		case ";", "=":
			return false
		}
	}
	return false
}

// group matches a part that may be missing or repeat.
func (m *matcher) group(parts []part, n, at int, b *binding, done []*binding, then func(at int) bool) bool {
	p := parts[n]
	seen := len(m.seen)
	round := &binding{holes: map[string]span{}, rounds: map[string][]*binding{}, outer: b}
	if p.many || len(done) == 0 {
		ok := m.parts(p.group, 0, at, round, func(end int) bool {
			if end == at {
				return false
			}
			more := append(slices.Clip(done), round)
			if p.many {
				return m.group(parts, n, end, b, more, then)
			}
			return m.after(parts, n, end, b, more, then)
		})
		if ok {
			return true
		}
		m.seen = m.seen[:seen]
	}
	return m.after(parts, n, at, b, done, then)
}

// after goes on behind a group.
func (m *matcher) after(parts []part, n, at int, b *binding, done []*binding, then func(at int) bool) bool {
	sign := parts[n].sign()
	before := b.rounds[sign]
	b.rounds[sign] = done
	if m.parts(parts, n+1, at, b, then) {
		return true
	}
	b.rounds[sign] = before
	return false
}

// holds tells whether what a hole takes is as its condition wants it.
func (m *matcher) holds(hole string, s span) bool {
	c, there := m.conds[hole]
	if !there {
		return true
	}
	text := ""
	if s.from < s.to {
		text = m.src.Text[m.src.tokens[s.from].Start:m.src.tokens[s.to-1].End]
	}
	return (c.Matches == nil || c.Matches.MatchString(text)) && (c.Not == nil || !c.Not.MatchString(text)) &&
		(len(c.With) == 0 || m.contains(s, c.With)) && (len(c.Without) == 0 || !m.contains(s, c.Without))
}

// contains tells whether tokens stand in a span, outside its brackets.
func (m *matcher) contains(s span, words []string) bool {
	for i := s.from; i+len(words) <= s.to; i++ {
		k := 0
		for k < len(words) && m.src.text(i+k) == words[k] {
			k++
		}
		if k == len(words) {
			return true
		}
		if p := m.src.tokens[i].Pair; p > i {
			i = p
		}
	}
	return false
}

// fits sees whether a hole with a condition that took nothing at all is as it has to be.
func (m *matcher) fits() bool {
	for name := range m.conds {
		if _, taken := m.bound.find(name); !taken && (m.conds[name].Matches != nil || m.conds[name].With != nil) {
			return false
		}
	}
	return true
}

// clone is a binding that the search changes no more.
func (b *binding) clone() *binding {
	c := &binding{holes: map[string]span{}, rounds: map[string][]*binding{}, outer: b.outer}
	for name, s := range b.holes {
		c.holes[name] = s
	}
	for n, rounds := range b.rounds {
		for _, r := range rounds {
			inner := r.clone()
			inner.outer = c
			c.rounds[n] = append(c.rounds[n], inner)
		}
	}
	return c
}

// Tokens are the texts of the tokens that code has, for a condition.
func Tokens(lang *lex.Language, code string) (texts []string) {
	lang = lang.Code()
	for _, t := range lex.Split(lang, code) {
		if !t.Silent() {
			texts = append(texts, t.Of(code))
		}
	}
	return texts
}
