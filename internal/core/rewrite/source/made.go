package source

import (
	"path"
	"strings"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/lex"
)

var (
	// What says so at any place of the beginning, and what does in the first lines alone: further down it may be about
	// a method, or an annotation of one's own.
	madeBy   = lazyregexp.New(`(?i)code generated .*do not edit|@generated\b|this file (is|was) (automatically |auto-?)?generated`)
	madeByUp = lazyregexp.New(`(?i)\bauto-?generated\b`)
	minified = lazyregexp.New(`(?i)[.-]min\.(js|css|mjs|cjs)$|\.bundle\.js$|\.map$`)
)

// foreign are folders of what others wrote.
var foreign = []string{"vendor", "node_modules", "third_party", "bower_components", "dist", ".git", ".bellwether"}

// Ours tells whether a text is a file of Bellwether's own: rules must not rewrite the books that
// they stand in.
func Ours(text string) bool { return ownSchema.MatchString(text[:min(len(text), 4000)]) }

var ownSchema = lazyregexp.New(`(?m)^schema: bellwether/`)

// Generated tells why a file is left alone as something that a program made; empty for one that
// is not.
func Generated(name, text string) string {
	for folder := range strings.SplitSeq(path.Dir(name), "/") {
		for _, f := range foreign {
			if folder == f {
				return "it lies in " + folder + ", which is not the project's own"
			}
		}
	}
	head := text[:min(len(text), 2000)]
	if strings.Contains(strings.ToLower(head), "generated") && (madeBy.MatchString(head) || madeByUp.MatchString(firstLines(head, 5))) {
		return "a program made it, as its first lines say"
	}
	if minified.MatchString(name) || lex.Of(name) != nil && len(text) > 20000 && strings.Count(text, "\n") < len(text)/2000 {
		return "it is minified"
	}
	return ""
}

// firstLines are the first few lines of a text.
func firstLines(text string, n int) string {
	at := 0
	for range n {
		next := strings.IndexByte(text[at:], '\n')
		if next < 0 {
			return text
		}
		at += next + 1
	}
	return text[:at]
}
