package condition

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
)

// deepest bounds how deep brackets may lie in each other.
const deepest = 100

// Parse reads a condition:
//
//	or   = and { "or" and }
//	and  = not { "and" not }
//	not  = "not" not | "(" or ")" | term
//	term = word [ ("==" | "!=" | "<" | "<=" | ">" | ">=") (word | string) ]
//
// Words are letters, digits and ". - _ + / : *"; strings have double or single quotes, and "\" before what is meant as it is.
// A text of blanks is nil, which always holds.
func Parse(text string) (Expr, error) {
	p := &parser{text: text}
	p.next()
	if p.kind == end {
		return nil, p.err
	}
	x := p.or(0)
	if p.err == nil && p.kind != end {
		p.fail("%q is not expected here", p.token)
	}
	if p.err != nil {
		return nil, fmt.Errorf("the condition %q: %w", text, p.err)
	}
	return x, nil
}

type kind int

const (
	end kind = iota
	word
	str
	mark
)

type parser struct {
	text  string
	at    int
	kind  kind
	token string
	err   error
}

func (p *parser) fail(form string, args ...any) {
	if p.err == nil {
		p.err = fmt.Errorf(form, args...)
	}
	p.kind = end
}

func inWord(r rune) bool {
	return unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune(".-_+/:*", r)
}

func reserved(word string) bool { return word == "and" || word == "or" || word == "not" }

// next reads a token.
func (p *parser) next() {
	if p.err != nil {
		return
	}
	rest := strings.TrimLeft(p.text[p.at:], " \t\r\n")
	p.at = len(p.text) - len(rest)
	n := strings.IndexFunc(rest, func(r rune) bool { return !inWord(r) })
	switch {
	case rest == "":
		p.kind, p.token = end, ""
		return
	case n != 0:
		if n < 0 {
			n = len(rest)
		}
		p.kind = word
	case rest[0] == '"' || rest[0] == '\'':
		p.string(rest)
		return
	case strings.HasPrefix(rest, "==") || strings.HasPrefix(rest, "!=") || strings.HasPrefix(rest, "<=") || strings.HasPrefix(rest, ">="):
		p.kind, n = mark, 2
	case strings.ContainsRune("<>()", rune(rest[0])):
		p.kind, n = mark, 1
	default:
		p.fail("%q is not expected here", rest[:1])
		return
	}
	p.token = rest[:n]
	p.at += n
}

// string reads a string in quotes.
func (p *parser) string(rest string) {
	var b strings.Builder
	for i := 1; i < len(rest); i++ {
		switch c := rest[i]; {
		case c == rest[0]:
			p.kind, p.token = str, b.String()
			p.at += i + 1
			return
		case c == '\\' && i+1 < len(rest):
			i++
			b.WriteByte(rest[i])
		default:
			b.WriteByte(c)
		}
	}
	p.fail("the string %s has no end", rest)
}

func (p *parser) or(deep int) Expr {
	x := p.and(deep)
	for p.kind == word && p.token == "or" {
		p.next()
		x = Or{x, p.and(deep)}
	}
	return x
}

func (p *parser) and(deep int) Expr {
	x := p.not(deep)
	for p.kind == word && p.token == "and" {
		p.next()
		x = And{x, p.not(deep)}
	}
	return x
}

func (p *parser) not(deep int) Expr {
	switch {
	case deep > deepest:
		p.fail("more than %d brackets lie in each other", deepest)
	case p.kind == word && p.token == "not":
		p.next()
		return Not{p.not(deep + 1)}
	case p.kind == mark && p.token == "(":
		p.next()
		x := p.or(deep + 1)
		if p.kind != mark || p.token != ")" {
			p.fail("a bracket is not closed")
		}
		p.next()
		return x
	case p.kind == word && !reserved(p.token):
		return p.term()
	default:
		p.fail("%q is no key", p.token)
	}
	return Term{}
}

func (p *parser) term() Expr {
	t := Term{Key: p.token}
	p.next()
	if p.kind != mark || p.token == "(" || p.token == ")" {
		return t
	}
	t.Op = Op(p.token)
	p.next()
	if p.kind != str && (p.kind != word || reserved(p.token)) {
		p.fail("a value is missing behind %q", t.Op)
		return t
	}
	t.Value = p.token
	p.next()
	return t
}

// keysOf are the keys of a condition with the values that it names, in order.
func keysOf(x Expr, compare func(key string) func(a, b string) int) (keys []key) {
	add := func(t Term) {
		i := slices.IndexFunc(keys, func(k key) bool { return k.name == t.Key })
		if i < 0 {
			i = len(keys)
			k := key{name: t.Key}
			if compare != nil {
				k.compare = compare(t.Key)
			}
			keys = append(keys, k)
		}
		if t.Op != Set && keys[i].index(t.Value) < 0 {
			keys[i].values = append(keys[i].values, t.Value)
		}
	}
	x.Eval(func(t Term) Truth {
		add(t)
		return Unknown
	})
	for _, k := range keys {
		if k.compare != nil {
			slices.SortFunc(k.values, k.compare)
		}
	}
	return keys
}
