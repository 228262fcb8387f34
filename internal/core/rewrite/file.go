package rewrite

import (
	"slices"
	"strings"

	"bellwether/internal/core/keys"
	"bellwether/internal/core/lex"
	"bellwether/internal/core/pattern"
)

// File is a text that rules are applied to, with what was found out about it.
type File struct {
	Name string
	Text string
	Lang *lex.Language // nil for one that is not known

	tokens []lex.Token // all of them
	said   []lex.Token // those that say something; partners among themselves
	doc    *keys.Document
	docErr error
	read   bool
	source *pattern.Source
	nest   *nesting
	looked int   // to find where names count
	lines  []int // where each line begins
}

// NewFile is a file with its text.
func NewFile(name, text string) *File { return &File{Name: name, Text: text, Lang: lex.Of(name)} }

// split reads the tokens.
func (f *File) split() {
	if f.tokens != nil || f.Lang == nil {
		return
	}
	f.tokens = lex.Split(f.Lang, f.Text)
	f.said = lex.Said(f.tokens)
}

// text is the text of a token that says something, "" for none.
func (f *File) text(i int) string {
	if i < 0 || i >= len(f.said) {
		return ""
	}
	return f.said[i].Of(f.Text)
}

// content is what a string has between its quotes.
func (f *File) content(i int) (text string, start int) {
	t := f.said[i]
	text = t.Of(f.Text)
	from := strings.IndexAny(text, "\"'`")
	if from < 0 {
		return text, t.Start
	}
	quotes := 1
	if strings.HasPrefix(text[from:], `"""`) || strings.HasPrefix(text[from:], "'''") {
		quotes = 3
	}
	end := len(text) - quotes
	if end < from+quotes {
		return "", t.Start
	}
	return text[from+quotes : end], t.Start + from + quotes
}

// config is the file as configuration; nil for none.
func (f *File) config() (*keys.Document, error) {
	if !f.read {
		f.read = true
		if format, ok := keys.FormatOf(f.Name); ok {
			f.doc, f.docErr = keys.Read(format, f.Text)
		}
	}
	return f.doc, f.docErr
}

// patterns is the file as patterns search it.
func (f *File) patterns() *pattern.Source {
	if f.source == nil {
		f.split()
		f.source = pattern.SourceOf(f.Lang, f.Text, f.said)
	}
	return f.source
}

// members are what comes before the name of a member.
var members = []string{".", "?.", "::", "->", "?->"}

func isMember(text string) bool { return slices.Contains(members, text) }

// importing are the words that begin a statement that imports, or names its own place.
var importing = []string{
	"import",
	"from",
	"use",
	"using",
	"require",
	"require_once",
	"package",
	"alias",
	"open",
	"namespace",
	"export",
	"include",
}

// imports tells whether brackets are a list of names that are imported.
func (f *File) imports(open int) bool {
	for k := open - 1; k >= 0 && k > open-8; k-- {
		if text := f.text(k); text == "import" || text == "export" || text == "use" {
			return true
		}
		if text := f.text(k); text == ";" || text == "}" || text == "=" || text == ")" {
			return false
		}
	}
	return false
}

// inImport tells whether a token is in a statement that imports.
func (f *File) inImport(i int) bool { return slices.Contains(importing, f.text(f.statement(i))) }

// importedString tells whether a string names what is imported.
func (f *File) importedString(i int) bool {
	switch before := f.text(i - 1); before {
	case "from", "import", "require", "require_relative", "include", "load", "part", "export", "use":
		return true
	case "(":
		called := f.text(i - 2)
		return called == "require" || called == "import" || called == "resolve" || called == "mock" || called == "include"
	}
	if f.Lang.Name == "go" {
		open := f.enclosing(i)
		return open > 0 && f.text(open) == "(" && f.text(open-1) == "import" || f.text(i-2) == "import"
	}
	return false
}

// sequence tells whether tokens from one on are names with marks of members between.
func (f *File) sequence(i int, names []string) (end int, ok bool) {
	for n, name := range names {
		if n > 0 {
			if !isMember(f.text(i)) && f.text(i) != `\` {
				return 0, false
			}
			i++
		}
		if i >= len(f.said) || f.said[i].Kind != lex.Word || f.text(i) != name {
			return 0, false
		}
		i++
	}
	return i, true
}

// uses tells whether the file imports something: a module, a package, or what is below it.
func (f *File) uses(what string) bool {
	f.split()
	names := splitPath(what)
	for i, t := range f.said {
		switch t.Kind {
		case lex.String:
			text, _ := f.content(i)
			if (text == what || strings.HasPrefix(text, what+"/")) && f.importedString(i) {
				return true
			}
		case lex.Word:
			if t.Of(f.Text) == names[0] && !isMember(f.text(i-1)) {
				if _, ok := f.sequence(i, names); ok && f.inImport(i) {
					return true
				}
			}
		}
	}
	return false
}

// splitPath gives the names of a path: "a.b", `a\b`, "a::b".
func splitPath(path string) []string {
	return strings.FieldsFunc(strings.NewReplacer("::", ".", `\`, ".").Replace(path), func(r rune) bool { return r == '.' })
}
