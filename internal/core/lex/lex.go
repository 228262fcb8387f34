// Package lex splits source text into tokens, so that code can be told from comments, strings
// and the text between tags. It is exact about where those begin and end, and knows no grammar.
package lex

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Kind is what a token is.
type Kind uint8

// The kinds of tokens.
const (
	Space Kind = iota
	Comment
	Word // a name or a keyword
	Number
	String // a string, or a part of one that has code inside
	Text   // what stands between tags
	Mark   // a bracket, an operator, or anything else
)

// Token is a piece of a text.
type Token struct {
	Kind       Kind
	Start, End int // byte offsets, End exclusive
	// Pair is the index of the token that closes what this one opens, or the other way round:
	// brackets, the ends of a string with code inside, the first and last mark of an element.
	// It is -1 for a token without one.
	Pair int
}

// Silent tells whether a token says nothing: white space or a comment.
func (t Token) Silent() bool { return t.Kind == Space || t.Kind == Comment }

// Of is the token's text.
func (t Token) Of(src string) string { return src[t.Start:t.End] }

// Split gives the tokens of a text. Together they are the whole text, in order.
func Split(l *Language, src string) []Token {
	s := &scanner{lang: l, src: src, end: len(src), last: -1, tokens: make([]Token, 0, len(src)/4)}
	switch {
	case l.markup:
		s.markup()
	case l.inHTML:
		s.php()
	default:
		s.code(0)
	}
	return s.tokens
}

// Said are the tokens that say something, with their partners among themselves.
func Said(tokens []Token) []Token {
	index := make([]int32, len(tokens))
	n := 0
	for i, t := range tokens {
		index[i] = int32(n)
		if !t.Silent() {
			n++
		}
	}
	said := make([]Token, 0, n)
	for _, t := range tokens {
		if !t.Silent() {
			if t.Pair >= 0 {
				t.Pair = int(index[t.Pair])
			}
			said = append(said, t)
		}
	}
	return said
}

// scanner reads one text.
type scanner struct {
	lang   *Language
	src    string
	at     int
	end    int // where it stops: the text's end, or that of a part in another language
	tokens []Token
	open   []int // brackets without a partner so far
	depth  int   // how many interpolations and elements it is in
	last   int   // the last token that is not silent; -1 for none
	// due are the heredocs that begin after this line.
	due []heredoc
}

// deepest bounds how many interpolations, elements and parts of other languages may lie in
// each other; what is deeper counts as plain text.
const deepest = 200

func (s *scanner) rest() string { return s.src[s.at:s.end] }

func (s *scanner) has(prefix string) bool { return strings.HasPrefix(s.rest(), prefix) }

// emit ends a token after n bytes.
func (s *scanner) emit(k Kind, n int) int {
	if n <= 0 {
		return len(s.tokens) - 1
	}
	n = min(n, s.end-s.at)
	s.tokens = append(s.tokens, Token{Kind: k, Start: s.at, End: s.at + n, Pair: -1})
	s.at += n
	if k != Space && k != Comment {
		s.last = len(s.tokens) - 1
	}
	return len(s.tokens) - 1
}

func (s *scanner) pair(a, b int) {
	if a >= 0 && b > a && s.tokens[a].Pair < 0 && s.tokens[b].Pair < 0 {
		s.tokens[a].Pair, s.tokens[b].Pair = b, a
	}
}

// lastText is the text of the last token that says something.
func (s *scanner) lastText() string {
	if s.last < 0 {
		return ""
	}
	return s.tokens[s.last].Of(s.src)
}

var closers = map[byte]byte{')': '(', ']': '[', '}': '{'}

// bracket pairs a bracket that was just emitted. What was opened since and never closed stays
// without a partner.
func (s *scanner) bracket(i, base int) {
	c := s.src[s.tokens[i].Start]
	opener, closes := closers[c]
	if !closes {
		s.open = append(s.open, i)
		return
	}
	for k := len(s.open) - 1; k >= base; k-- {
		if s.src[s.tokens[s.open[k]].Start] == opener {
			s.pair(s.open[k], i)
			s.open = s.open[:k]
			return
		}
	}
}

// code reads code up to the text's end, or up to a closing bracket that nothing in it opened.
func (s *scanner) code(until byte) {
	s.depth++
	defer func() { s.depth-- }()
	base := len(s.open)
	for s.at < s.end {
		if s.due != nil && s.src[s.at] == '\n' {
			s.emit(Space, 1)
			s.heredocs()
			continue
		}
		if s.space() || s.comment() || s.string() || s.regex() || s.tag() || s.word() {
			continue
		}
		c := s.src[s.at]
		if until != 0 && c == until && !s.opened(base) {
			break
		}
		i := s.emit(Mark, s.markLength())
		if s.tokens[i].End == s.tokens[i].Start+1 && strings.IndexByte("()[]{}", c) >= 0 {
			s.bracket(i, base)
		}
	}
	s.open = s.open[:min(base, len(s.open))]
}

// opened tells whether a curly bracket is open.
func (s *scanner) opened(base int) bool {
	return slices.ContainsFunc(s.open[min(base, len(s.open)):], func(i int) bool { return s.src[s.tokens[i].Start] == '{' })
}

func (s *scanner) space() bool {
	n := 0
	for n < s.end-s.at {
		r, size := utf8.DecodeRuneInString(s.src[s.at+n:])
		if !unicode.IsSpace(r) && r != '\ufeff' || s.due != nil && r == '\n' {
			break
		}
		n += size
	}
	s.emit(Space, n)
	return n > 0
}

// toLineEnd is how many bytes are left in the line.
func (s *scanner) toLineEnd() int {
	if n := strings.IndexByte(s.rest(), '\n'); n >= 0 {
		if n > 0 && s.src[s.at+n-1] == '\r' {
			n--
		}
		return n
	}
	return s.end - s.at
}

func (s *scanner) comment() bool {
	if !s.lang.begins()[s.src[s.at]] {
		return false
	}
	for _, b := range s.lang.blocks {
		if !s.has(b[0]) || b[0][0] == '\n' {
			continue
		}
		s.emit(Comment, s.blockLength(b))
		return true
	}
	for _, start := range s.lang.line {
		if s.has(start) && (start != "#" || s.lang.hash(s.src, s.at)) {
			s.emit(Comment, s.toLineEnd())
			return true
		}
	}
	if s.lang.begin != nil && (s.at == 0 || s.src[s.at-1] == '\n') && s.has(s.lang.begin[0]) {
		s.emit(Comment, s.blockLength(*s.lang.begin))
		return true
	}
	return false
}

// blockLength is the length of a comment that begins here, with those in it where they nest.
func (s *scanner) blockLength(b pair) int {
	depth, i := 1, len(b[0])
	for rest := s.rest(); i < len(rest); {
		switch {
		case strings.HasPrefix(rest[i:], b[1]):
			i += len(b[1])
			if depth--; depth == 0 {
				return i
			}
		case s.lang.nested && strings.HasPrefix(rest[i:], b[0]):
			depth++
			i += len(b[0])
		default:
			i++
		}
	}
	return i
}

// wordLength is the length of the word or number that begins here; 0 for none.
func (s *scanner) wordLength() int {
	n := 0
	for s.at+n < s.end {
		r, size := utf8.DecodeRuneInString(s.src[s.at+n:])
		if !s.lang.inWord(r) {
			break
		}
		n += size
	}
	if n > 0 && s.lang.tails != "" && s.at+n < s.end && strings.IndexByte(s.lang.tails, s.src[s.at+n]) >= 0 {
		if next := s.at + n + 1; next >= s.end || s.src[next] != '=' && s.src[next] != ':' {
			n++
		}
	}
	return n
}

func (s *scanner) word() bool {
	n := s.wordLength()
	if n == 0 {
		return false
	}
	if c := s.src[s.at]; c < '0' || c > '9' {
		s.emit(Word, n)
		return true
	}
	// A number goes on behind a dot.
	for s.at+n+1 < s.end && s.src[s.at+n] == '.' && s.src[s.at+n+1] >= '0' && s.src[s.at+n+1] <= '9' {
		for n++; s.at+n < s.end && s.lang.inWord(rune(s.src[s.at+n])); n++ {
		}
	}
	s.emit(Number, n)
	return true
}

// marks are the operators of several characters that are one token, the longest first. Angle
// brackets stand alone, since they may be brackets.
var marks = []string{
	"?->", "...", "===", "!==", "**=", "&&=", "||=", "??=", "=>", "->", "::", "?.", "??", ":=", "==", "!=", "<=", ">=", "&&", "||",
	"++", "--", "+=", "-=", "*=", "/=", "**", "..", "|>", "<-",
}

// marksBy are the marks by their first byte.
var marksBy = func() (by [256][]string) {
	for _, m := range marks {
		by[m[0]] = append(by[m[0]], m)
	}
	return by
}()

func (s *scanner) markLength() int {
	c := s.src[s.at]
	for _, m := range marksBy[c] {
		if s.has(m) {
			return len(m)
		}
	}
	if c < utf8.RuneSelf {
		return 1
	}
	_, size := utf8.DecodeRuneInString(s.rest())
	return size
}

// value tells whether what was read last is a value, so that an operator follows and not the
// beginning of an expression.
func (s *scanner) value() bool {
	if s.last < 0 {
		return false
	}
	switch t := s.tokens[s.last]; t.Kind {
	case Word:
		return !slices.Contains(opening, t.Of(s.src))
	case Number, String:
		return true
	default:
		text := t.Of(s.src)
		return text == ")" || text == "]" || text == "}" || text == "++" || text == "--"
	}
}

// opening are keywords that an expression follows.
var opening = []string{
	"return", "case", "do", "else", "in", "instanceof", "new", "of", "throw", "typeof", "void", "delete", "yield", "await", "default", "and",
	"or", "not", "if", "unless", "while", "until", "when", "then", "elsif", "extends", "puts", "export",
}

// regex reads a regular expression in slashes.
func (s *scanner) regex() bool {
	if !s.lang.regex || s.src[s.at] != '/' {
		return false
	}
	if s.value() {
		// "puts /x/" and "a / b": in Ruby the white space tells.
		spaced := s.at > 0 && s.src[s.at-1] == ' ' && s.at+1 < s.end && s.src[s.at+1] != ' '
		if !s.lang.commands || s.tokens[s.last].Kind != Word || !spaced {
			return s.src[s.last0()] == '}' && s.regexAfterBlock()
		}
	}
	return s.readRegex()
}

// last0 is where the last token begins.
func (s *scanner) last0() int { return s.tokens[s.last].Start }

// regexAfterBlock reads one that begins a line after a closing curly bracket.
func (s *scanner) regexAfterBlock() bool {
	between := s.src[s.tokens[s.last].End:s.at]
	return strings.Contains(between, "\n") && s.readRegex()
}

func (s *scanner) readRegex() bool {
	inClass := false
	for i := s.at + 1; i < s.end; i++ {
		switch c := s.src[i]; {
		case c == '\\':
			i++
		case c == '\n':
			return false
		case c == '[':
			inClass = true
		case c == ']':
			inClass = false
		case c == '/' && !inClass:
			for i++; i < s.end && s.src[i] >= 'a' && s.src[i] <= 'z'; i++ {
			}
			s.emit(String, i-s.at)
			return true
		}
	}
	return false
}
