// Package source is a text that rules are applied to: its tokens, what lies in what, and where names count.
package source

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

	Tokens []lex.Token // all of them
	Said   []lex.Token // those that say something; partners among themselves
	doc    *keys.Document
	docErr error
	read   bool
	source *pattern.Source
	nest   *nesting
	Looked int   // to find where names count
	lines  []int // where each line begins
}

// NewFile is a file with its text.
func NewFile(name, text string) *File { return &File{Name: name, Text: text, Lang: lex.Of(name)} }

// Split reads the tokens.
func (f *File) Split() {
	if f.Tokens != nil || f.Lang == nil {
		return
	}
	f.Tokens = lex.Split(f.Lang, f.Text)
	f.Said = lex.Said(f.Tokens)
}

// Word is the text of a token that says something, "" for none.
func (f *File) Word(i int) string {
	if i < 0 || i >= len(f.Said) {
		return ""
	}
	return f.Said[i].Of(f.Text)
}

// Content is what a string has between its quotes.
func (f *File) Content(i int) (text string, start int) {
	t := f.Said[i]
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

// Config is the file as configuration; nil for none.
func (f *File) Config() (*keys.Document, error) {
	if !f.read {
		f.read = true
		if format, ok := keys.FormatOf(f.Name); ok {
			f.doc, f.docErr = keys.Read(format, f.Text)
		}
	}
	return f.doc, f.docErr
}

// Patterns is the file as patterns search it.
func (f *File) Patterns() *pattern.Source {
	if f.source == nil {
		f.Split()
		f.source = pattern.SourceOf(f.Lang, f.Text, f.Said)
	}
	return f.source
}

// members are what comes before the name of a member.
var members = []string{".", "?.", "::", "->", "?->"}

// IsMember tells whether a text stands before the name of a member.
func IsMember(text string) bool { return slices.Contains(members, text) }

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
		if text := f.Word(k); text == "import" || text == "export" || text == "use" {
			return true
		}
		if text := f.Word(k); text == ";" || text == "}" || text == "=" || text == ")" {
			return false
		}
	}
	return false
}

// InImport tells whether a token is in a statement that imports.
func (f *File) InImport(i int) bool { return slices.Contains(importing, f.Word(f.statement(i))) }

// ImportedString tells whether a string names what is imported.
func (f *File) ImportedString(i int) bool {
	switch before := f.Word(i - 1); before {
	case "from", "import", "require", "require_relative", "include", "load", "part", "export", "use":
		return true
	case "(":
		called := f.Word(i - 2)
		return called == "require" || called == "import" || called == "resolve" || called == "mock" || called == "include"
	}
	if f.Lang.Name == "go" {
		open := f.enclosing(i)
		return open > 0 && f.Word(open) == "(" && f.Word(open-1) == "import" || f.Word(i-2) == "import"
	}
	return false
}

// Sequence tells whether tokens from one on are names with marks of members between.
func (f *File) Sequence(i int, names []string) (end int, ok bool) {
	for n, name := range names {
		if n > 0 {
			if !IsMember(f.Word(i)) && f.Word(i) != `\` {
				return 0, false
			}
			i++
		}
		if i >= len(f.Said) || f.Said[i].Kind != lex.Word || f.Word(i) != name {
			return 0, false
		}
		i++
	}
	return i, true
}

// Uses tells whether the file imports something: a module, a package, or what is below it.
func (f *File) Uses(what string) bool {
	f.Split()
	names := SplitPath(what)
	for i, t := range f.Said {
		switch t.Kind {
		case lex.String:
			text, _ := f.Content(i)
			if (text == what || strings.HasPrefix(text, what+"/")) && f.ImportedString(i) {
				return true
			}
		case lex.Word:
			if t.Of(f.Text) == names[0] && !IsMember(f.Word(i-1)) {
				if _, ok := f.Sequence(i, names); ok && f.InImport(i) {
					return true
				}
			}
		}
	}
	return false
}

// SplitPath gives the names of a path: "a.b", `a\b`, "a::b".
func SplitPath(path string) []string {
	return strings.FieldsFunc(strings.NewReplacer("::", ".", `\`, ".").Replace(path), func(r rune) bool { return r == '.' })
}

// Loose counts the brackets without a partner.
func (f *File) Loose() map[string]int {
	f.Split()
	n := map[string]int{}
	for _, t := range f.Said {
		if text := t.Of(f.Text); t.Kind == lex.Mark && t.Pair < 0 && len(text) == 1 && strings.Contains("()[]{}", text) {
			n[text]++
		}
	}
	return n
}
