package lex

import (
	"slices"
	"strings"
)

// tag reads an element of JSX where an expression may begin.
func (s *scanner) tag() bool {
	if !s.lang.jsx || s.src[s.at] != '<' || s.depth > deepest || s.value() || s.at+1 >= s.end {
		return false
	}
	next := s.src[s.at+1]
	if next != '>' && !s.lang.inWord(rune(next)) {
		return false
	}
	name := s.src[s.at+1 : s.at+1+s.nameLength(s.at+1)]
	after := strings.TrimLeft(s.src[s.at+1+len(name):s.end], " ")
	if strings.HasPrefix(after, ",") || strings.HasPrefix(after, "extends ") { // a type's parameters
		return false
	}
	s.element()
	return true
}

// nameLength is the length of a tag's or an attribute's name.
func (s *scanner) nameLength(from int) int {
	i := from
	for i < s.end && (s.lang.inWord(rune(s.src[i])) || strings.IndexByte("-.:@#*", s.src[i]) >= 0 && i > from || s.src[i] >= 0x80) {
		i++
	}
	return i - from
}

// name emits the name of an element; in JSX its parts are names of their own.
func (s *scanner) name(n int) {
	for end := s.at + n; s.at < end; {
		dot := strings.IndexByte(s.src[s.at:end], '.')
		switch {
		case !s.lang.jsx || dot < 0:
			s.emit(Word, end-s.at)
		case dot == 0:
			s.emit(Mark, 1)
		default:
			s.emit(Word, dot)
		}
	}
}

// void are elements of HTML that are never closed.
var void = []string{"area", "base", "br", "col", "embed", "hr", "img", "input", "link", "meta", "source", "track", "wbr"}

// element reads an element: its opening tag, what is in it and its closing tag.
func (s *scanner) element() {
	s.depth++
	defer func() { s.depth-- }()
	open := s.emit(Mark, 1)
	n := s.nameLength(s.at)
	name := s.src[s.at : s.at+n]
	s.name(n)
	attributes, closed := s.attributes()
	switch {
	case closed < 0: // the text ends
		return
	case s.tokens[closed].Of(s.src) == "/>" || s.lang.void && slices.Contains(void, strings.ToLower(name)):
		s.pair(open, closed)
		return
	}
	if s.lang.markup && (name == "script" || name == "style") {
		s.foreign(name, attributes)
	}
	if s.depth > deepest {
		return
	}
	s.content()
	if s.has("</") {
		there := s.src[s.at+2 : s.at+2+s.nameLength(s.at+2)]
		if there != name {
			s.pair(open, closed) // it is never closed
			return
		}
		s.emit(Mark, 2)
		s.name(len(name))
		s.space()
		if s.has(">") {
			s.pair(open, s.emit(Mark, 1))
		}
	}
}

// attributes reads up to the end of a tag; closed is its last token, -1 if there is none.
func (s *scanner) attributes() (text string, closed int) {
	from := s.at
	for s.at < s.end {
		c := s.src[s.at]
		switch {
		case s.space():
		case s.has("/>"):
			return s.src[from:s.at], s.emit(Mark, 2)
		case c == '>':
			return s.src[from:s.at], s.emit(Mark, 1)
		case s.lang.jsx && c == '{':
			s.braced()
		case s.lang.jsx && (s.has("/*") || s.has("//")):
			s.comment()
		case c == '"' || c == '\'':
			n := strings.IndexByte(s.rest()[1:], c)
			if n < 0 {
				n = s.end - s.at - 2
			}
			s.emit(String, n+2)
		case c == '<':
			return "", -1
		default:
			if n := s.nameLength(s.at); n > 0 {
				s.emit(Word, n)
			} else {
				s.emit(Mark, 1)
			}
		}
	}
	return "", -1
}

// braced reads code in curly brackets.
func (s *scanner) braced() {
	open := s.emit(Mark, 1)
	if s.depth > deepest {
		return
	}
	s.code('}')
	if s.at < s.end && s.src[s.at] == '}' {
		s.pair(open, s.emit(Mark, 1))
	}
}

// content reads what is between an opening and a closing tag.
func (s *scanner) content() {
	for s.at < s.end && !s.has("</") {
		switch {
		case s.has("<!--"):
			s.emit(Comment, s.upTo("-->"))
		case s.has("<![CDATA["):
			s.emit(Text, s.upTo("]]>"))
		case s.has("<!"), s.has("<?"):
			s.emit(Comment, s.upTo(">"))
		case s.has("<"):
			if s.at+1 < s.end && (s.src[s.at+1] == '>' || s.nameLength(s.at+1) > 0) {
				s.element()
			} else {
				s.emit(Text, 1)
			}
		case s.lang.jsx && s.has("{"):
			s.braced()
		default:
			s.text()
		}
	}
}

// text reads text between tags, without the white space around it.
func (s *scanner) text() {
	if s.space() {
		return
	}
	stops := "<"
	if s.lang.jsx {
		stops = "<{"
	}
	n := strings.IndexAny(s.rest(), stops)
	if n < 0 {
		n = s.end - s.at
	}
	s.emit(Text, max(1, len(strings.TrimRight(s.rest()[:n], " \t\r\n"))))
}

// upTo is the length of what ends with a mark.
func (s *scanner) upTo(mark string) int {
	if n := strings.Index(s.rest(), mark); n >= 0 {
		return n + len(mark)
	}
	return s.end - s.at
}

// markup reads a file of markup.
func (s *scanner) markup() {
	for s.at < s.end {
		s.content()
		if s.has("</") { // nothing opened it
			s.emit(Mark, 2)
			s.attributes()
		}
	}
}

// foreign reads a script or a style sheet, which has a language of its own.
func (s *scanner) foreign(name, attributes string) {
	n := strings.Index(s.rest(), "</"+name)
	if n < 0 {
		n = s.end - s.at
	}
	language := "css"
	if name == "script" {
		language = "javascript"
		if strings.Contains(attributes, `"ts"`) || strings.Contains(attributes, `'ts'`) {
			language = "typescript"
		}
	}
	lang, end := s.lang, s.end
	s.lang, s.end = Named(language), s.at+n
	s.code(0)
	s.lang, s.end = lang, end
}

// php reads a file of HTML with code between marks.
func (s *scanner) php() {
	for s.at < s.end {
		n := strings.Index(s.rest(), "<?")
		if n < 0 {
			n = s.end - s.at
		}
		s.emit(Text, n)
		if s.at >= s.end {
			return
		}
		start := 2
		for _, mark := range []string{"<?php", "<?="} {
			if s.has(mark) {
				start = len(mark)
			}
		}
		s.emit(Mark, start)
		end := s.end
		if n := strings.Index(s.rest(), "?>"); n >= 0 {
			s.end = s.at + n
		}
		s.code(0)
		s.end = end
		if s.has("?>") {
			s.emit(Mark, 2)
		}
	}
}
