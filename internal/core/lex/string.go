package lex

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// quote is one form of strings.
type quote struct {
	open, close string
	escape      bool   // a backslash takes the next character in
	lines       bool   // it may go over several lines
	doubled     bool   // a doubled closing mark is one of the text
	hole        string // what begins code inside, up to a closing curly bracket: "${"
	dollar      bool   // a name behind a dollar sign is code, too
}

// string reads a string that begins here.
func (s *scanner) string() bool {
	if !s.lang.begins()[s.src[s.at]] {
		return false
	}
	if q, ok := s.prefixed(); ok {
		return s.quoted(q)
	}
	if s.lang.heredoc != "" && s.has(s.lang.heredoc) && s.heredoc() {
		return true
	}
	for _, q := range s.lang.strings {
		if s.has(q.open) && s.quoted(q) {
			return true
		}
	}
	return s.lang.chars && s.has("'") && s.char()
}

// char reads a single character in quotes; what looks like one and is not, is something else.
func (s *scanner) char() bool {
	rest := s.rest()[1:]
	_, size := utf8.DecodeRuneInString(rest)
	if strings.HasPrefix(rest, `\\`) {
		return s.quoted(single)
	}
	if strings.HasPrefix(rest[size:], "'") {
		s.emit(String, size+2)
		return true
	}
	return false
}

// prefixed is the string that begins with letters before its quote.
func (s *scanner) prefixed() (q quote, ok bool) {
	n := 0
	for n < 3 && s.at+n < s.end && strings.IndexByte(s.lang.prefixes, s.src[s.at+n]) >= 0 {
		n++
	}
	if n == 0 || s.at+n >= s.end || s.at > 0 && s.lang.inWord(lastRune(s.src[:s.at])) {
		return q, false
	}
	letters := strings.ToLower(s.src[s.at : s.at+n])
	for _, q := range s.lang.strings {
		if !strings.HasPrefix(s.src[s.at+n:s.end], q.open) {
			continue
		}
		q.open = s.src[s.at:s.at+n] + q.open
		q.escape = q.escape && !strings.Contains(letters, "r")
		if s.lang.format != "" && strings.Contains(letters, s.lang.format) {
			q.hole = "{"
		}
		return q, true
	}
	return q, false
}

func lastRune(text string) rune {
	r, _ := utf8.DecodeLastRuneInString(text)
	return r
}

// quoted reads a string of one form. One that does not end where it must is none.
func (s *scanner) quoted(q quote) bool {
	if !q.lines && q.hole == "" && !q.dollar {
		n := q.length(s.rest())
		s.emit(String, n)
		return n > 0
	}
	if !q.lines && q.length(s.rest()) == 0 {
		return false
	}
	s.inside(q, len(q.open), s.end)
	return true
}

// length is the length of a string of one line that a text begins with, 0 for none.
func (q quote) length(text string) int {
	for i := len(q.open); i < len(text); {
		switch {
		case q.escape && text[i] == '\\':
			i += 2
		case strings.HasPrefix(text[i:], q.close):
			i += len(q.close)
			if !q.doubled || !strings.HasPrefix(text[i:], q.close) {
				return i
			}
			i += len(q.close)
		case text[i] == '\n' && !q.lines:
			return 0
		default:
			i++
		}
	}
	return 0
}

// inside reads a string with code inside, up to its closing mark or a limit. n is how much of
// it is read already.
func (s *scanner) inside(q quote, n, limit int) {
	first, last := -1, -1
	part := func() {
		if n == 0 {
			return
		}
		last = s.emit(String, n)
		if first < 0 {
			first = last
		}
		n = 0
	}
	for s.at+n < limit {
		rest := s.src[s.at+n : limit]
		switch {
		case q.escape && rest[0] == '\\':
			n += 2
			continue
		case q.close != "" && strings.HasPrefix(rest, q.close):
			n += len(q.close)
			if q.doubled && strings.HasPrefix(s.src[s.at+n:limit], q.close) {
				n += len(q.close)
				continue
			}
			part()
			s.pair(first, last)
			return
		case q.hole != "" && strings.HasPrefix(rest, q.hole) && s.depth < deepest:
			if q.hole == "{" && strings.HasPrefix(rest, "{{") {
				n += 2
				continue
			}
			n += len(q.hole)
			part()
			end := s.end
			s.end = limit
			s.code('}')
			s.end = end
			if s.at < limit {
				n = 1 // the closing bracket
			}
			continue
		case q.dollar && rest[0] == '$' && len(rest) > 1 && (unicode.IsLetter(rune(rest[1])) || rest[1] == '_'):
			n++
			part()
			s.emit(Word, s.wordLength())
			continue
		}
		n++
	}
	n = min(n, limit-s.at)
	part()
	s.pair(first, last)
}

// heredoc is a string that begins in the next line.
type heredoc struct {
	name   string
	indent bool // its end may be indented
	plain  bool // nothing in it is code
}

// heredoc notes one that is announced here.
func (s *scanner) heredoc() bool {
	i := s.at + len(s.lang.heredoc)
	d := heredoc{}
	for i < s.end && (s.src[i] == '~' || s.src[i] == '-') {
		d.indent = true
		i++
	}
	if s.lang.inHTML { // PHP indents as it likes
		d.indent = true
	}
	if i < s.end && (s.src[i] == '\'' || s.src[i] == '"') {
		d.plain = s.src[i] == '\''
		i++
	}
	from := i
	plain := Language{}
	for i < s.end && s.src[i] < utf8.RuneSelf && plain.inWord(rune(s.src[i])) {
		i++
	}
	d.name = s.src[from:i]
	quoted := from > 0 && (s.src[from-1] == '\'' || s.src[from-1] == '"')
	if d.name == "" || !quoted && (d.name[0] < 'A' || d.name[0] > 'Z' && d.name[0] != '_') {
		return false // it shifts, or adds to a list
	}
	if i < s.end && (s.src[i] == '\'' || s.src[i] == '"') {
		i++
	}
	s.emit(String, i-s.at)
	s.due = append(s.due, d)
	return true
}

// heredocs reads the strings that begin at this line.
func (s *scanner) heredocs() {
	due := s.due
	s.due = nil
	for _, d := range due {
		limit := s.at
		for limit < s.end {
			line, _, _ := strings.Cut(s.src[limit:s.end], "\n")
			bare := strings.TrimRight(line, "\r")
			if d.indent {
				bare = strings.TrimLeft(bare, " \t")
			}
			if bare == d.name || s.lang.inHTML && strings.TrimRight(bare, ";),") == d.name {
				limit += strings.Index(line, d.name) + len(d.name)
				break
			}
			limit = min(limit+len(line)+1, s.end)
		}
		q := quote{escape: !d.plain}
		if !d.plain {
			q.hole, q.dollar = s.lang.heredocHole, s.lang.heredocHole == "${"
		}
		s.inside(q, 0, limit)
	}
}
