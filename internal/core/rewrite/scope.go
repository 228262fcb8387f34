package rewrite

import (
	"slices"
	"strings"

	"bellwether/internal/core/lex"
)

// scope is where a name means something of the file's own, as tokens, both inclusive.
type scope struct {
	from, to int
	name     int // the token that declares it
}

// declaring are the words that a declared name follows.
var declaring = []string{
	"const", "let", "var", "val", "function", "func", "fun", "fn", "def", "defp", "defmodule", "class", "interface", "struct", "enum", "trait",
	"type", "object", "record", "sub", "module", "final", "auto",
}

// declared finds where a name is declared in a file, by the forms that most languages share: a
// word like "const" or "func" before it, a parameter, ":=", a name that an import is given. What
// is found is left alone; it is no parser, and errs on that side.
func (f *File) declared(name string) (all []scope) {
	for i, t := range f.said {
		if t.Kind != lex.Word || t.Of(f.Text) != name || isMember(f.text(i-1)) || f.tired() {
			continue
		}
		before, after := f.text(i-1), f.text(i+1)
		switch {
		case slices.Contains(declaring, before) && after != ".":
			all = append(all, f.scopeOf(i))
		case before == "as" && f.text(i-2) != name:
			all = append(all, f.scopeOf(i))
		case after == ":=" || f.Lang.Name == "go" && after == "," && f.assigns(i):
			all = append(all, f.scopeOf(i))
		case after == "=>" && slices.Contains(braced, f.Lang.Name), after == "->" && f.Lang.Name == "java":
			all = append(all, scope{i, f.expressionEnd(i + 2), i})
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

// assigns tells whether a list of names of Go is declared: "a, b := f()".
func (f *File) assigns(i int) bool {
	for k := i; k < len(f.said) && k < i+12; k++ {
		switch text := f.text(k); {
		case text == ":=":
			return true
		case f.said[k].Kind != lex.Word && text != ",":
			return false
		}
	}
	return false
}

func (f *File) startsLine(i int) bool {
	return i == 0 || strings.Contains(f.Text[f.said[i-1].End:f.said[i].Start], "\n")
}

// destructured tells whether a name is taken out of something that is no module.
func (f *File) destructured(i int) bool {
	open := f.enclosing(i)
	if !slices.Contains(braced, f.Lang.Name) || open < 1 || f.text(open) != "{" && f.text(open) != "[" {
		return false
	}
	if after := f.text(i + 1); after != "," && after != "}" && after != "]" && after != "=" {
		return false
	}
	end := f.said[open].Pair
	if !slices.Contains([]string{"const", "let", "var"}, f.text(open-1)) || f.text(end+1) != "=" {
		return false
	}
	next := f.text(end + 2)
	return next != "require" && (next != "await" || f.text(end+3) != "import")
}

// parameter is the scope of a name that is a function's parameter.
func (f *File) parameter(i int) (s scope, ok bool) {
	open := f.enclosing(i)
	if open < 0 {
		return s, false
	}
	if p := f.enclosing(open); p >= 0 && (f.text(open) == "{" || f.text(open) == "[") && f.text(p) == "(" {
		if f.text(i+1) == ":" {
			return s, false
		}
		open = p // one that is taken out of a parameter
	}
	if f.text(open) != "(" {
		return s, false
	}
	end := f.said[open].Pair
	if end < 0 {
		return s, false
	}
	before := f.text(i - 1)
	names := before == "(" || before == "," || before == "{" || before == "[" || before == "..." || before == "*" || before == "&"
	typed := i > 0 && f.said[i-1].Kind == lex.Word && slices.Contains([]string{",", ")", "="}, f.text(i+1))
	if !names && !typed {
		return s, false
	}
	lead := f.text(open - 1)
	switch {
	case f.text(end+1) == "=>":
		return scope{i, f.expressionEnd(end + 2), i}, true
	case slices.Contains([]string{"if", "for", "while", "switch", "catch", "match", "when", "with"}, lead) && lead != "catch":
		return s, false
	}
	isFunction := slices.Contains(declaring, lead) || slices.Contains(declaring, f.text(open-2)) || lead == "catch" ||
		f.Lang.Name == "go" && f.text(open-3) == ")" // a method
	body := f.bodyAfter(end)
	if body < 0 || !isFunction && !f.method(open, end, body) {
		return s, false
	}
	to := f.said[body].Pair
	if f.text(body) != "{" {
		to = f.indentedEnd(open)
	}
	return scope{i, to, i}, true
}

// method tells whether brackets with a body behind them are a method's parameters.
func (f *File) method(open, end, body int) bool {
	if open < 1 || f.said[open-1].Kind != lex.Word {
		return false
	}
	around := f.enclosing(open)
	return body == end+1 && around >= 0 && f.text(around) == "{" && f.Lang.Name != "go" ||
		slices.Contains([]string{"java", "csharp", "c", "dart"}, f.Lang.Name)
}

// bodyAfter is the bracket that opens a function's body behind its parameters; of languages
// that indent it, the colon. It is -1 for none.
func (f *File) bodyAfter(end int) int {
	for k := end + 1; k < len(f.said) && k < end+24; k++ {
		text := f.text(k)
		switch {
		case text == "{" || text == ":" && f.Lang.Indented:
			return k
		case text == ";" || text == "=" || text == ")" || text == ",":
			return -1
		case f.said[k].Pair > k:
			k = f.said[k].Pair
		case f.Lang.Name == "ruby" || f.Lang.Name == "elixir":
			return k
		}
	}
	return -1
}

// scopeOf is where a name that is declared at a token counts: up to the end of the block.
func (f *File) scopeOf(i int) scope {
	if f.Lang.Indented || f.Lang.Name == "ruby" || f.Lang.Name == "elixir" {
		indent := f.indent(i)
		if indent == 0 {
			return scope{0, len(f.said) - 1, i}
		}
		from := i
		for from > 0 && !f.tires() && (!f.startsLine(from) || f.indent(from) >= indent) {
			from--
		}
		return scope{from, f.indentedEnd(from), i}
	}
	for open := f.enclosing(i); open >= 0 && !f.tires(); open = f.enclosing(open) {
		if f.text(open) == "{" && !f.destructures(open) && !f.imports(open) {
			return scope{open, f.said[open].Pair, i}
		}
	}
	return scope{0, len(f.said) - 1, i}
}

// destructures tells whether curly brackets are names that are taken out of something.
func (f *File) destructures(open int) bool {
	return slices.Contains([]string{"const", "let", "var"}, f.text(open-1))
}

// indentedEnd is the last token of the block that a line opens.
func (f *File) indentedEnd(i int) int {
	indent := f.indent(i)
	for k := i + 1; k < len(f.said) && !f.tires(); k++ {
		if f.startsLine(k) && f.indent(k) <= indent && f.text(k) != ")" {
			return k - 1
		}
	}
	return len(f.said) - 1
}

// expressionEnd is the last token of an expression.
func (f *File) expressionEnd(i int) int {
	for k := i; k < len(f.said) && !f.tires(); k++ {
		text := f.text(k)
		switch {
		case f.said[k].Pair > k:
			k = f.said[k].Pair
			if text == "{" && k == f.said[i].Pair {
				return k
			}
		case text == "," || text == ";" || f.said[k].Pair >= 0:
			return k - 1
		}
	}
	return len(f.said) - 1
}
