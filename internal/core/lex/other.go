package lex

import (
	"github.com/alecthomas/chroma/v2"
	"github.com/alecthomas/chroma/v2/lexers"
)

// others reads a language that is not described here, by the library's lexer: comments and
// strings are what it says, everything else is split into words and marks.
func (s *scanner) others() {
	plain := &Language{Name: s.lang.Name, Lines: true}
	rest := func(until int) {
		s.lang, s.end = plain, until
		for s.at < s.end {
			if s.space() || s.word() {
				continue
			}
			i := s.emit(Mark, s.markLength())
			if c := s.src[s.tokens[i].Start]; s.tokens[i].End == s.tokens[i].Start+1 && (closers[c] != 0 || c == '(' || c == '[' || c == '{') {
				s.bracket(i, 0)
			}
		}
	}
	each, err := lexers.Get(s.lang.other).Tokenise(&chroma.TokeniseOptions{State: "root"}, s.src)
	total, code := len(s.src), 0
	if err == nil {
		for t := each(); t != chroma.EOF && code+len(t.Value) <= total; t = each() {
			kind, special := Mark, true
			switch {
			case t.Type.InCategory(chroma.Comment) && !t.Type.InSubCategory(chroma.CommentPreproc):
				kind = Comment
			case t.Type.InSubCategory(chroma.LiteralString):
				kind = String
			default:
				special = false
			}
			if special && len(t.Value) > 0 {
				rest(code)
				s.end = total
				s.emit(kind, len(t.Value))
			}
			code += len(t.Value)
		}
	}
	rest(total)
}
