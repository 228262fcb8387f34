package source

import (
	"slices"
	"strings"

	"bellwether/internal/core/lex"
)

// Scope is where a name means something of the file's own, as tokens, both inclusive.
type Scope struct {
	from, to int
	Name     int // the token that declares it
}

// declaring are the words that a declared name follows.
var declaring = []string{
	"const", "let", "var", "val", "function", "func", "fun", "fn", "def", "defp", "defmodule", "class", "interface", "struct", "enum", "trait",
	"type", "object", "record", "sub", "module", "final", "auto",
}

// Declared finds where a name is declared in a file, by the forms that most languages share: a
// word like "const" or "func" before it, a parameter, ":=", a name that an import is given. What
// is found is left alone; it is no parser, and errs on that side.
func (f *File) Declared(name string) (all []Scope) {
	for i, t := range f.Said {
		if t.Kind != lex.Word || t.Of(f.Text) != name || IsMember(f.Word(i-1)) || f.Tired() {
			continue
		}
		before, after := f.Word(i-1), f.Word(i+1)
		switch {
		case slices.Contains(declaring, before) && after != ".":
			all = append(all, f.scopeOf(i))
		case before == "as" && f.Word(i-2) != name:
			all = append(all, f.scopeOf(i))
		case after == ":=" || f.Lang.Name == "go" && after == "," && f.assigns(i):
			all = append(all, f.scopeOf(i))
		case after == "=>" && slices.Contains(braced, f.Lang.Name), after == "->" && f.Lang.Name == "java":
			all = append(all, Scope{i, f.expressionEnd(i + 2), i})
		case f.startsLine(i) && after == "=" && (f.Lang.Name == "python" || f.Lang.Name == "ruby"):
			all = append(all, f.scopeOf(i))
		case f.destructured(i):
			all = append(all, f.scopeOf(i))
		default:
			if s, ok := f.parameter(i); ok {
				all = append(all, s)
			}
		}
	}
	return all
}

// Taken is where a name means something already: it is declared, or imported.
func (f *File) Taken(name string) []Scope {
	all := f.Declared(name)
	for i, t := range f.Said {
		if t.Kind == lex.Word && t.Of(f.Text) == name && !IsMember(f.Word(i-1)) && f.InImport(i) && f.Word(i+1) != "as" &&
			f.Word(f.statement(i)) != "export" {
			all = append(all, Scope{0, len(f.Said) - 1, i})
		}
	}
	return all
}

// Exported tells of a name that something has only for those who import it from here: "export { a as name }".
func (f *File) Exported(i int) bool {
	open := f.enclosing(i)
	return f.Word(i-1) == "as" && open > 0 && f.Word(open) == "{" && f.Word(open-1) == "export"
}

// assigns tells whether a list of names of Go is declared: "a, b := f()".
func (f *File) assigns(i int) bool {
	for k := i; k < len(f.Said) && k < i+12; k++ {
		switch text := f.Word(k); {
		case text == ":=":
			return true
		case f.Said[k].Kind != lex.Word && text != ",":
			return false
		}
	}
	return false
}

func (f *File) startsLine(i int) bool {
	return i == 0 || strings.Contains(f.Text[f.Said[i-1].End:f.Said[i].Start], "\n")
}

// destructured tells whether a name is taken out of something that is no module.
func (f *File) destructured(i int) bool {
	open := f.enclosing(i)
	if !slices.Contains(braced, f.Lang.Name) || open < 1 || f.Word(open) != "{" && f.Word(open) != "[" {
		return false
	}
	if after := f.Word(i + 1); after != "," && after != "}" && after != "]" && after != "=" {
		return false
	}
	end := f.Said[open].Pair
	if !slices.Contains([]string{"const", "let", "var"}, f.Word(open-1)) || f.Word(end+1) != "=" {
		return false
	}
	next := f.Word(end + 2)
	return next != "require" && (next != "await" || f.Word(end+3) != "import")
}

// parameter is the scope of a name that is a function's parameter.
func (f *File) parameter(i int) (s Scope, ok bool) {
	open := f.enclosing(i)
	if open < 0 {
		return s, false
	}
	if p := f.enclosing(open); p >= 0 && (f.Word(open) == "{" || f.Word(open) == "[") && f.Word(p) == "(" {
		if f.Word(i+1) == ":" {
			return s, false
		}
		open = p // one that is taken out of a parameter
	}
	if f.Word(open) != "(" {
		return s, false
	}
	end := f.Said[open].Pair
	if end < 0 {
		return s, false
	}
	before := f.Word(i - 1)
	names := before == "(" || before == "," || before == "{" || before == "[" || before == "..." || before == "*" || before == "&"
	typed := i > 0 && f.Said[i-1].Kind == lex.Word && slices.Contains([]string{",", ")", "="}, f.Word(i+1))
	if !names && !typed {
		return s, false
	}
	lead := f.Word(open - 1)
	switch {
	case f.Word(end+1) == "=>":
		return Scope{i, f.expressionEnd(end + 2), i}, true
	case slices.Contains([]string{"if", "for", "while", "switch", "catch", "match", "when", "with"}, lead) && lead != "catch":
		return s, false
	}
	isFunction := slices.Contains(declaring, lead) || slices.Contains(declaring, f.Word(open-2)) || lead == "catch" ||
		f.Lang.Name == "go" && f.Word(open-3) == ")" // a method
	body := f.bodyAfter(end)
	if body < 0 || !isFunction && !f.method(open, end, body) {
		return s, false
	}
	to := f.Said[body].Pair
	if f.Word(body) != "{" {
		to = f.indentedEnd(open)
	}
	return Scope{i, to, i}, true
}

// method tells whether brackets with a body behind them are a method's parameters.
func (f *File) method(open, end, body int) bool {
	if open < 1 || f.Said[open-1].Kind != lex.Word {
		return false
	}
	around := f.enclosing(open)
	return body == end+1 && around >= 0 && f.Word(around) == "{" && f.Lang.Name != "go" ||
		slices.Contains([]string{"java", "csharp", "c", "dart"}, f.Lang.Name)
}

// bodyAfter is the bracket that opens a function's body behind its parameters; of languages
// that indent it, the colon. It is -1 for none.
func (f *File) bodyAfter(end int) int {
	for k := end + 1; k < len(f.Said) && k < end+24; k++ {
		text := f.Word(k)
		switch {
		case text == "{" || text == ":" && f.Lang.Indented:
			return k
		case text == ";" || text == "=" || text == ")" || text == ",":
			return -1
		case f.Said[k].Pair > k:
			k = f.Said[k].Pair
		case f.Lang.Name == "ruby" || f.Lang.Name == "elixir":
			return k
		}
	}
	return -1
}

// scopeOf is where a name that is declared at a token counts: up to the end of the block.
func (f *File) scopeOf(i int) Scope {
	if f.Lang.Indented || f.Lang.Name == "ruby" || f.Lang.Name == "elixir" {
		indent := f.indent(i)
		if indent == 0 {
			return Scope{0, len(f.Said) - 1, i}
		}
		from := i
		for from > 0 && !f.tires() && (!f.startsLine(from) || f.indent(from) >= indent) {
			from--
		}
		return Scope{from, f.indentedEnd(from), i}
	}
	for open := f.enclosing(i); open >= 0 && !f.tires(); open = f.enclosing(open) {
		if f.Word(open) == "{" && !f.destructures(open) && !f.imports(open) {
			return Scope{open, f.Said[open].Pair, i}
		}
	}
	return Scope{0, len(f.Said) - 1, i}
}

// destructures tells whether curly brackets are names that are taken out of something.
func (f *File) destructures(open int) bool {
	return slices.Contains([]string{"const", "let", "var"}, f.Word(open-1))
}

// indentedEnd is the last token of the block that a line opens.
func (f *File) indentedEnd(i int) int {
	indent := f.indent(i)
	for k := i + 1; k < len(f.Said) && !f.tires(); k++ {
		if f.startsLine(k) && f.indent(k) <= indent && f.Word(k) != ")" {
			return k - 1
		}
	}
	return len(f.Said) - 1
}

// expressionEnd is the last token of an expression.
func (f *File) expressionEnd(i int) int {
	for k := i; k < len(f.Said) && !f.tires(); k++ {
		text := f.Word(k)
		switch {
		case f.Said[k].Pair > k:
			k = f.Said[k].Pair
			if text == "{" && k == f.Said[i].Pair {
				return k
			}
		case text == "," || text == ";" || f.Said[k].Pair >= 0:
			return k - 1
		}
	}
	return len(f.Said) - 1
}
