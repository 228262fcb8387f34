package compat

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/keys"
	"bellwether/internal/core/lex"
	"bellwether/internal/core/pattern"
	"bellwether/internal/core/rewrite"
)

// adapt reads a rule that repairs.
func (p *parser) adapt(n *yaml.Node) {
	r := &rewrite.Rule{}
	p.now.Repair = r
	bodies := 0
	one := func(read func(n *yaml.Node) rewrite.Body) func(n *yaml.Node) {
		return func(n *yaml.Node) {
			if bodies++; bodies > 1 {
				p.wrong(n, "a rule repairs one thing, but here stand two", "make two rules of it")
			}
			r.Body = read(n)
			if b, ok := r.Body.(interface{ Check() error }); ok {
				if err := b.Check(); err != nil {
					p.wrong(n, err.Error(), "")
				}
			}
		}
	}
	p.mapping(n, "adapt", fields{
		"once":        p.once,
		"from":        func(n *yaml.Node) { p.conditions(n, &p.now.From) },
		"files":       func(n *yaml.Node) { r.Files = p.texts(n) },
		"except":      func(n *yaml.Node) { r.Except = p.texts(n) },
		"imports":     func(n *yaml.Node) { r.Imports = p.texts(n) },
		"languages":   func(n *yaml.Node) { r.Languages = p.languages(n) },
		"examples":    func(n *yaml.Node) { r.Examples = p.examples(n) },
		"rename":      one(p.renameBody),
		"pattern":     one(p.patternBody),
		"key":         one(p.keyBody),
		"value":       one(p.valueBody),
		"file":        one(p.fileBody),
		"line":        one(p.lineBody),
		"requirement": one(p.requirementBody),
		"command":     one(p.commandBody),
		"todo":        one(p.todoBody),
	})
	if bodies == 0 {
		p.wrong(n, "this rule repairs nothing", "give it one of rename, pattern, key, value, file, line, requirement, command, todo")
	}
	if bodies == 1 && r.WantsExample() && len(r.Examples) == 0 {
		p.wrong(n, "a rule that repairs carries an example", `write examples: [{file: a.js, before: "...", after: "..."}]`)
	}
	if k, ok := r.Body.(*rewrite.Key); ok && len(r.Files) == 0 && k != nil {
		p.wrong(n, "a rule for a key says which files it is in", `write files: ["config/*.yml"]`)
	}
}

// texts reads a list of texts, or one text.
func (p *parser) texts(n *yaml.Node) (all []string) {
	if n.Kind == yaml.ScalarNode {
		return []string{p.text(n)}
	}
	for _, item := range p.list(n) {
		all = append(all, p.text(plain(item)))
	}
	return all
}

func (p *parser) languages(n *yaml.Node) []string {
	all := p.texts(n)
	for _, name := range all {
		if lex.Named(name) == nil {
			p.wrong(n, fmt.Sprintf("there is no language %q", name), "the languages are "+strings.Join(lex.Languages(), ", "))
		}
	}
	return all
}

func (p *parser) examples(n *yaml.Node) (all []rewrite.Example) {
	for _, item := range p.list(n) {
		e := rewrite.Example{Line: item.Line}
		p.mapping(item, "an example", fields{
			"file":   func(n *yaml.Node) { e.File = p.text(n) },
			"before": func(n *yaml.Node) { e.Before = n.Value },
			"after":  func(n *yaml.Node) { e.After = n.Value },
		}, "file", "before")
		all = append(all, e)
	}
	return all
}

func (p *parser) flag(into *bool) func(n *yaml.Node) {
	return func(n *yaml.Node) {
		if n.Value != "true" && n.Value != "false" {
			p.wrong(n, fmt.Sprintf("true or false is wanted here, not %q", n.Value), "")
		}
		*into = n.Value == "true"
	}
}

func (p *parser) string(into *string) func(n *yaml.Node) {
	return func(n *yaml.Node) { *into = p.text(n) }
}

func (p *parser) expression(into **regexp.Regexp) func(n *yaml.Node) {
	return func(n *yaml.Node) {
		re, err := regexp.Compile(n.Value)
		if err != nil {
			p.wrong(n, "the regular expression: "+strings.TrimPrefix(err.Error(), "error parsing regexp: "), "it is one of Go's (RE2)")
			return
		}
		*into = re
	}
}

func (p *parser) renameBody(n *yaml.Node) rewrite.Body {
	b := &rewrite.Rename{What: rewrite.NameOf}
	p.mapping(n, "rename", fields{
		"what": func(n *yaml.Node) {
			if b.What = n.Value; !slices.Contains(rewrite.Whats, b.What) {
				p.wrong(n, fmt.Sprintf("a name, a member or a module is renamed, not a %q", n.Value), "")
			}
		},
		"old": p.string(&b.Old), "new": p.string(&b.New), "of": p.string(&b.Of), "below": p.flag(&b.Below),
		"unless": func(n *yaml.Node) { b.Unless = p.texts(n) },
		"also": func(n *yaml.Node) {
			for _, text := range p.texts(n) {
				if !slices.Contains(rewrite.Elsewhere, text) {
					p.wrong(n, fmt.Sprintf("also is for strings, comments and text, not %q", text), "")
				}
				b.Also = append(b.Also, text)
			}
		},
	}, "old", "new")
	return b
}

func (p *parser) patternBody(n *yaml.Node) rewrite.Body {
	b := p.shape(n, true)
	return b
}

// shape reads a pattern; put tells whether a template belongs to it.
func (p *parser) shape(n *yaml.Node, put bool) *rewrite.Shape {
	b := &rewrite.Shape{Where: map[string]pattern.Condition{}, With: map[string]string{}, Without: map[string]string{}, Line: n.Line}
	known := fields{"find": p.string(&b.Find), "where": func(n *yaml.Node) { p.where(n, b) }}
	wanted := []string{"find"}
	if put {
		known["put"] = func(n *yaml.Node) { b.Put = n.Value }
		wanted = append(wanted, "put")
	}
	p.mapping(n, "pattern", known, wanted...)
	return b
}

func (p *parser) where(n *yaml.Node, b *rewrite.Shape) {
	p.entries(n, "where", func(key, value *yaml.Node) {
		var c pattern.Condition
		text := func(into map[string]string) func(n *yaml.Node) {
			return func(n *yaml.Node) { into[key.Value] = p.text(n) }
		}
		p.mapping(value, "a condition", fields{
			"matches": p.expression(&c.Matches), "not": p.expression(&c.Not), "with": text(b.With), "without": text(b.Without),
		})
		b.Where[key.Value] = c
	})
}

func (p *parser) keyBody(n *yaml.Node) rewrite.Body {
	b := &rewrite.Key{}
	p.mapping(n, "key", fields{
		"old": p.string(&b.Old), "new": p.string(&b.New), "to": p.string(&b.To), "from": p.string(&b.From),
		"remove": p.flag(&b.Remove), "keep": p.flag(&b.Keep), "list": p.flag(&b.List),
		"value": func(n *yaml.Node) { b.Set = p.value(n) },
		"values": func(n *yaml.Node) {
			b.Values = map[string]string{}
			p.entries(n, "values", func(key, value *yaml.Node) { b.Values[key.Value] = value.Value })
		},
		"split": func(n *yaml.Node) {
			b.Split = &rewrite.Split{}
			p.mapping(n, "split", fields{
				"by": func(n *yaml.Node) { b.Split.By = n.Value }, "into": func(n *yaml.Node) { b.Split.Into = p.texts(n) },
			}, "by", "into")
		},
		"join": func(n *yaml.Node) {
			b.Join = &rewrite.Join{}
			p.mapping(n, "join", fields{"of": func(n *yaml.Node) { b.Join.Of = p.texts(n) }, "with": p.string(&b.Join.With)}, "of", "with")
		},
	})
	return b
}

// value reads what a key is given.
func (p *parser) value(n *yaml.Node) *keys.Value {
	if n.Kind == yaml.SequenceNode {
		return &keys.Value{List: append([]string{}, p.texts(n)...)}
	}
	return &keys.Value{Text: n.Value, Plain: n.Kind == yaml.ScalarNode && (n.Tag == "!!int" || n.Tag == "!!bool" || n.Tag == "!!float")}
}

func (p *parser) valueBody(n *yaml.Node) rewrite.Body {
	b := &rewrite.Value{}
	p.mapping(n, "value", fields{
		"old": p.string(&b.Old), "new": p.string(&b.New), "below": p.flag(&b.Below), "key": p.string(&b.Key), "code": p.flag(&b.Code),
		"unless": func(n *yaml.Node) { b.Unless = p.texts(n) },
	}, "old", "new")
	return b
}

func (p *parser) fileBody(n *yaml.Node) rewrite.Body {
	b := &rewrite.Move{}
	p.mapping(n, "file", fields{
		"from": p.string(&b.From), "to": p.string(&b.To), "delete": p.string(&b.Delete), "add": p.string(&b.Add), "text": p.string(&b.Text),
	})
	return b
}

func (p *parser) lineBody(n *yaml.Node) rewrite.Body {
	b := &rewrite.Line{}
	p.mapping(n, "line", fields{
		"after": p.expression(&b.After), "before": p.expression(&b.Before), "insert": p.string(&b.Insert), "unless": p.string(&b.Unless),
	}, "insert")
	return b
}

func (p *parser) requirementBody(n *yaml.Node) rewrite.Body {
	b := &rewrite.Requirement{}
	p.mapping(n, "requirement", fields{"old": p.string(&b.Old), "new": p.string(&b.New), "range": p.string(&b.Range)})
	return b
}

func (p *parser) commandBody(n *yaml.Node) rewrite.Body {
	b := &rewrite.Command{Minutes: 10}
	p.mapping(n, "command", fields{
		"run": func(n *yaml.Node) { b.Run = p.texts(n) },
		"minutes": func(n *yaml.Node) {
			if err := n.Decode(&b.Minutes); err != nil || b.Minutes < 1 || b.Minutes > 24*60 {
				p.wrong(n, fmt.Sprintf("%q is no number of minutes", n.Value), "")
			}
		},
	}, "run")
	return b
}

func (p *parser) todoBody(n *yaml.Node) rewrite.Body {
	b := &rewrite.ToDo{}
	p.mapping(n, "todo", fields{
		"text": p.string(&b.Text), "key": p.string(&b.Key), "word": p.expression(&b.Word),
		"find": func(n *yaml.Node) {
			if n.Kind == yaml.ScalarNode {
				b.Find = &rewrite.Shape{Find: n.Value, Line: n.Line}
				return
			}
			b.Find = p.shape(n, false)
		},
		"name": func(n *yaml.Node) {
			b.Name = &rewrite.Rename{What: rewrite.NameOf, Old: p.text(n), New: p.text(n) + "_"}
		},
		"member": func(n *yaml.Node) {
			b.Name = &rewrite.Rename{What: rewrite.MemberOf, Old: p.text(n), New: p.text(n) + "_"}
		},
		"module": func(n *yaml.Node) {
			b.Name = &rewrite.Rename{What: rewrite.ModuleOf, Old: p.text(n), New: p.text(n) + "_", Below: true}
		},
	}, "text")
	return b
}

// once reads the conditions of a repair, or a list of them, any of which will do.
func (p *parser) once(n *yaml.Node) {
	if plain(n).Kind != yaml.SequenceNode {
		p.conditions(n, &p.now.When)
		return
	}
	var ways [][]Condition
	for _, item := range p.list(plain(n)) {
		var way []Condition
		p.conditions(item, &way)
		ways = append(ways, way)
	}
	if len(ways) == 0 {
		p.wrong(n, "there are no conditions here", "write some as {npm/quayside: \">=4\"}")
		return
	}
	p.now.When, p.now.Or = ways[0], ways[1:]
}

// Crosses tells whether a repair is for a move: its conditions hold once it is made, and did not
// before. What else is in effect is asked of the world.
func (r *Rule) Crosses(before, after World) bool {
	if r.Repair == nil || r.Foreign != "" || len(r.When) == 0 {
		return false
	}
	hold := func(w World, all []Condition) bool {
		return !slices.ContainsFunc(all, func(c Condition) bool { return !w.Holds(c) })
	}
	return hold(before, r.From) && slices.ContainsFunc(r.Ways(), func(way []Condition) bool { return hold(after, way) && !hold(before, way) })
}

// Ways are the conditions of a rule, and what may hold instead of them.
func (r *Rule) Ways() [][]Condition { return append([][]Condition{r.When}, r.Or...) }

// With is a world of its own, with other versions of some subjects.
func (w World) With(others World) World {
	next := World{}
	for _, from := range []World{w, others} {
		for s, versions := range from {
			next[s] = versions
		}
	}
	return next
}
