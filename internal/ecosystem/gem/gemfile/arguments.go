package gemfile

import (
	"strings"

	"bellwether/internal/core/lex"
	"bellwether/internal/core/model"
)

// args are the arguments of a call.
type args struct {
	plain    []argument        // those without a name
	options  map[string]string // those with one
	computed bool              // one of those without a name is no literal text
	parts    []part            // all of them, in their order
}

// part is where an argument stands in its file.
type part struct {
	key        string // of one with a name
	start, end int
}

type argument struct {
	value string
	site  model.Site
}

func (a args) strings() (all []string) {
	for _, p := range a.plain {
		all = append(all, p.value)
	}
	return all
}

// arguments reads literal arguments; what is computed is noted as such.
func arguments(r *reader, from, to int) (a args) {
	a.options = map[string]string{}
	if r.text(from) == "(" && r.tokens[from].Pair > from {
		from, to = from+1, r.tokens[from].Pair
	}
	for i := from; i < to; {
		next := i
		for next < to && r.text(next) != "," {
			if p := r.tokens[next].Pair; p > next {
				next = p
			}
			next++
		}
		r.argument(&a, i, next)
		if next > i {
			a.parts = append(a.parts, part{r.optionName(i, next), r.tokens[i].Start, r.tokens[next-1].End})
		}
		i = next + 1
	}
	return a
}

// optionName is the name of an argument that has one: key: value, "key" => value, :key => value.
func (r *reader) optionName(from, to int) string {
	switch {
	case to > from+2 && r.text(from+1) == ":" && r.tokens[from].Kind == lex.Word:
		return r.text(from)
	case to > from+2 && r.text(from+1) == "=>":
		return unquoted(r.text(from))
	case to > from+3 && r.text(from) == ":" && r.text(from+2) == "=>":
		return r.text(from + 1)
	}
	return ""
}

// argument reads one argument.
func (r *reader) argument(a *args, from, to int) {
	if name := r.optionName(from, to); name != "" {
		value := from + 2
		if r.text(from) == ":" {
			value++
		}
		a.options[name] = r.literal(value, to)
		return
	}
	switch {
	case to == from+2 && r.text(from) == ":": // :symbol
		a.plain = append(a.plain, argument{value: r.text(from + 1)})
	case to == from+1 && r.plainString(from):
		a.plain = append(a.plain, argument{unquoted(r.text(from)), r.site(from)})
	case r.text(from) == "[" && r.tokens[from].Pair == to-1:
		for i := from + 1; i < to-1; i++ {
			switch {
			case r.plainString(i):
				a.plain = append(a.plain, argument{unquoted(r.text(i)), r.site(i)})
			case r.text(i) != ",":
				a.computed = true
			}
		}
	case to > from:
		if text := r.known(from, to); text != "" {
			a.plain = append(a.plain, argument{value: text})
		} else {
			a.computed = true
		}
	}
}

// known is the text that a computed argument stands for; empty where that is not known.
func (r *reader) known(from, to int) string {
	if r.others == nil {
		return ""
	}
	return r.value(from, to, maxSteps)
}

// literal is a value in words: a text without quotes, else what stands there.
func (r *reader) literal(from, to int) string {
	if to == from+1 {
		return unquoted(r.text(from))
	}
	if to == from+2 && r.text(from) == ":" {
		return r.text(from + 1)
	}
	if from >= to {
		return ""
	}
	return r.src[r.tokens[from].Start:r.tokens[to-1].End]
}

// plainString tells whether a token is a text with nothing computed in it.
func (r *reader) plainString(i int) bool {
	if i >= len(r.tokens) {
		return false
	}
	text := r.text(i)
	return r.tokens[i].Kind == lex.String && r.tokens[i].Pair < 0 && len(text) >= 2 && (text[0] == '"' || text[0] == '\'') &&
		!strings.Contains(text, `\`)
}

func unquoted(text string) string {
	if len(text) >= 2 && (text[0] == '"' || text[0] == '\'') && text[len(text)-1] == text[0] {
		return text[1 : len(text)-1]
	}
	return text
}
