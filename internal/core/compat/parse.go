package compat

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
	"bellwether/internal/core/version"
	"bellwether/internal/core/yamldoc"
)

// Parse reads a book. What is wrong with it comes as faults with their lines, in
// their order; a book with faults holds the rules that have none.
func Parse(file string, src []byte, orders Orders) (*Book, []*model.Fault) {
	p := &parser{book: &Book{File: file}, orders: orders, ranges: map[string]version.Range{}, ids: map[string]int{}}
	doc, err := yamldoc.Parse(file, src)
	if err != nil {
		fault, _ := err.(*model.Fault)
		return p.book, []*model.Fault{fault}
	}
	p.doc = doc
	if len(doc.Roots) != 1 {
		return p.book, []*model.Fault{{Doing: doing, File: file, Line: 1, Wrong: "a book is one mapping with schema and rules"}}
	}
	p.mapping(doc.Roots[0], "a book", fields{
		"schema": func(n *yaml.Node) {
			if n.Value != Schema {
				p.wrong(n, fmt.Sprintf("the schema is %q, not %q", n.Value, Schema), "")
			}
		},
		"title":    func(n *yaml.Node) { p.book.Title = p.text(n) },
		"as-of":    func(n *yaml.Node) { p.book.AsOf = p.date(n) },
		"releases": p.releases,
		"rules": func(n *yaml.Node) {
			known := p.ruleFields()
			for _, item := range p.list(n) {
				p.rule(item, known)
			}
		},
	}, "schema", "rules")
	return p.book, p.faults
}

const doing = "reading a compat book"

type parser struct {
	doc    *yamldoc.Document
	book   *Book
	orders Orders
	ranges map[string]version.Range // by kind and text
	ids    map[string]int           // with their lines
	now    *Rule                    // that is being read
	faults []*model.Fault
}

// fields are the readers of a mapping's values by their keys.
type fields map[string]func(n *yaml.Node)

func (p *parser) wrong(n *yaml.Node, wrong, next string) {
	f := p.doc.Fault(doing, n, wrong)
	f.Next = next
	p.faults = append(p.faults, f)
}

// plain is the node that an alias stands for. A book's nodes are read a fixed
// number of levels deep, so that aliases of aliases cannot blow it up.
func plain(n *yaml.Node) *yaml.Node {
	if n.Kind == yaml.AliasNode {
		return n.Alias
	}
	return n
}

// mapping reads a mapping with known keys, of which some must be there.
func (p *parser) mapping(n *yaml.Node, what string, known fields, required ...string) {
	p.entries(n, what, func(key, value *yaml.Node) {
		read, ok := known[key.Value]
		if !ok {
			var names []string
			for name := range known {
				names = append(names, name)
			}
			slices.Sort(names)
			next := spelling.DidYouMean(key.Value, names)
			if next == "" {
				next = "the keys are " + strings.Join(names, ", ")
			}
			p.wrong(key, fmt.Sprintf("%s has no key %q", what, key.Value), next)
			return
		}
		read(value)
	})
	for _, name := range required {
		found := false
		for i := 0; i < len(plain(n).Content); i += 2 {
			found = found || plain(n).Content[i].Value == name
		}
		if !found && plain(n).Kind == yaml.MappingNode {
			p.wrong(n, fmt.Sprintf("%s has no %s", what, name), "")
		}
	}
}

// entries calls do with each key and value of a mapping, and refuses a key that
// stands twice.
func (p *parser) entries(n *yaml.Node, what string, do func(key, value *yaml.Node)) {
	n = plain(n)
	if n.Kind != yaml.MappingNode {
		p.wrong(n, what+" is a mapping", "")
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		for k := 0; k < i && i < 64; k += 2 {
			if n.Content[k].Value == n.Content[i].Value {
				p.wrong(n.Content[i], fmt.Sprintf("the key %q stands twice", n.Content[i].Value), "")
			}
		}
		do(n.Content[i], plain(n.Content[i+1]))
	}
}

func (p *parser) list(n *yaml.Node) []*yaml.Node {
	if n.Kind != yaml.SequenceNode {
		p.wrong(n, "a list is wanted here", "")
		return nil
	}
	return n.Content
}

func (p *parser) text(n *yaml.Node) string {
	if n.Kind != yaml.ScalarNode || n.Value == "" {
		p.wrong(n, "a text is wanted here", "")
	}
	return n.Value
}

func (p *parser) date(n *yaml.Node) time.Time {
	t, err := time.Parse(time.DateOnly, n.Value)
	if err != nil {
		p.wrong(n, fmt.Sprintf("%q is not a date like 2026-01-31", n.Value), "")
	}
	return t
}

// subject reads "npm/quayside"; order is nil where the kind is not known.
func (p *parser) subject(n *yaml.Node, r *Rule) (s model.Subject, order version.Order) {
	s, ok := model.ReadSubject(n.Value)
	if !ok {
		p.wrong(n, fmt.Sprintf("%q is not a subject like npm/quayside or runtime/node", n.Value), "")
		return s, nil
	}
	if order = p.orders(s.Kind); order == nil && r != nil {
		r.Foreign = s.Kind
	}
	return s, order
}

func (p *parser) rangeOf(n *yaml.Node, order version.Order, kind string) version.Range {
	if n.Kind != yaml.ScalarNode {
		p.wrong(n, "a range is wanted here, as a text", "")
		return nil
	}
	if order == nil {
		return nil
	}
	key := kind + " " + n.Value
	if r, known := p.ranges[key]; known {
		return r
	}
	r, err := order.ParseRange(n.Value)
	if kind == "maven" && err == nil && strings.ContainsAny(n.Value, "^~<>=*| ") && !strings.ContainsAny(n.Value, "[(") {
		err = fmt.Errorf("%q is not a range of Maven (want 1.2 or [1.2,2) or the like)", n.Value) // as a version, it would be a name
	}
	if err != nil {
		p.wrong(n, fmt.Sprintf("%s, for %s", err, kind), "")
		return nil
	}
	p.ranges[key] = r
	return r
}

// conditions reads a mapping of subjects to ranges.
func (p *parser) conditions(n *yaml.Node, into *[]Condition) {
	p.entries(n, "what holds", func(key, value *yaml.Node) {
		s, order := p.subject(key, p.now)
		*into = append(*into, Condition{s, value.Value, p.rangeOf(value, order, s.Kind)})
	})
	if len(*into) == 0 {
		p.wrong(n, "there is no subject here", "write one as npm/quayside: \">=4\"")
	}
}

func (p *parser) releases(n *yaml.Node) {
	p.entries(n, "releases", func(key, value *yaml.Node) {
		s, order := p.subject(key, nil)
		if order == nil {
			p.wrong(key, fmt.Sprintf("the versions of %s are not known here", s), "")
			return
		}
		for _, item := range p.list(value) {
			l := Line{Subject: s}
			p.mapping(item, "a release", fields{
				"version": func(n *yaml.Node) {
					l.Text = n.Value
					v, err := order.Parse(n.Value)
					if err != nil {
						p.wrong(n, err.Error(), "")
					}
					l.Version = v
				},
				"since": func(n *yaml.Node) { l.Since = p.date(n) },
				"ends":  func(n *yaml.Node) { l.Ends = p.date(n) },
			}, "version")
			if l.Version != nil {
				p.book.Releases = append(p.book.Releases, l)
			}
		}
	})
}

// ruleFields are the readers of a rule's keys. They fill the rule that is being
// read, so that one table serves all rules.
func (p *parser) ruleFields() fields {
	when := func(n *yaml.Node) { p.conditions(n, &p.now.When) }
	then := func(n *yaml.Node) { p.conditions(n, &p.now.Then) }
	subjects := func(n *yaml.Node) {
		for _, item := range p.list(n) {
			s, _ := p.subject(plain(item), p.now)
			p.now.Subjects = append(p.now.Subjects, s)
		}
	}
	needs := fields{"when": when, "then": then}
	together := fields{"subjects": subjects, "share": func(n *yaml.Node) {
		if p.now.Share = Share(n.Value); !slices.Contains(Shares, p.now.Share) {
			p.wrong(n, fmt.Sprintf("a family shares its version, minor or major, not %q", n.Value), "")
		}
	}}
	restored := fields{"when": when, "by": then, "feature": func(n *yaml.Node) { p.now.Feature = p.text(n) }}
	all := fields{
		"id":      func(n *yaml.Node) { p.now.ID = p.text(n) },
		"because": func(n *yaml.Node) { p.now.Because = p.text(n) },
		"source":  func(n *yaml.Node) { p.now.Source = p.text(n) },
	}
	for kind, read := range map[Kind]func(n *yaml.Node){
		Needs:    func(n *yaml.Node) { p.mapping(n, "needs", needs, "when", "then") },
		Stepwise: subjects,
		Replaced: p.replaced,
		Restored: func(n *yaml.Node) { p.mapping(n, "restored", restored, "when", "feature", "by") },
		Branch: func(n *yaml.Node) {
			p.mapping(n, "branch", fields{
				"of": func(n *yaml.Node) {
					s, _ := p.subject(n, p.now)
					p.now.Subjects = []model.Subject{s}
				},
				"name":       func(n *yaml.Node) { p.now.Branch = p.text(n) },
				"repository": func(n *yaml.Node) { p.now.Repository = p.text(n) },
			}, "of", "name")
		},
		Ends:  p.ends,
		Adapt: p.adapt,
		Keys:  p.keyList,
		Clashes: func(n *yaml.Node) {
			when(n)
			if len(p.now.When) == 1 {
				p.wrong(n, "it takes two to clash", "name another subject, or write ends or needs")
			}
		},
		Together: func(n *yaml.Node) {
			p.mapping(n, "together", together, "subjects", "share")
			if len(p.now.Subjects) == 1 {
				p.wrong(n, "a family has more than one member", "")
			}
			for _, s := range p.now.Subjects {
				if first := p.now.Subjects[0]; s.Kind != first.Kind && !(s.IsPin() && first.IsPin()) {
					p.wrong(n, fmt.Sprintf("the versions of %s and %s cannot be compared", first, s), "make a family of members of one ecosystem")
					return
				}
			}
		},
	} {
		all[string(kind)] = func(n *yaml.Node) {
			if p.now.Kind != "" {
				p.wrong(n, fmt.Sprintf("a rule says one thing, but this one has %s and %s", p.now.Kind, kind), "make two rules of it")
				return
			}
			p.now.Kind = kind
			read(n)
		}
	}
	return all
}

func (p *parser) rule(n *yaml.Node, known fields) {
	n = plain(n)
	r := &Rule{File: p.book.File, Line: n.Line}
	p.now = r
	before := len(p.faults)
	p.mapping(n, "a rule", known, "id", "because")
	if line, twice := p.ids[r.ID]; twice && r.ID != "" {
		p.wrong(n, fmt.Sprintf("there is a rule %s already, in line %d", r.ID, line), "")
	}
	p.ids[r.ID] = r.Line
	if r.Kind == "" && len(p.faults) == before {
		words := make([]string, len(kinds))
		for i, k := range kinds {
			words[i] = string(k)
		}
		p.wrong(n, fmt.Sprintf("the rule %s says nothing", r.ID), "give it one of "+strings.Join(words, ", "))
	}
	if r.Repair != nil {
		r.Repair.ID, r.Repair.Because, r.Repair.Source, r.Repair.Place = r.ID, r.Because, r.Source, r.Place()
	}
	if len(p.faults) == before {
		p.book.Rules = append(p.book.Rules, r)
	}
}

func (p *parser) replaced(n *yaml.Node) {
	r := p.now
	p.mapping(n, "replaced", fields{
		"old": func(n *yaml.Node) { r.Old, _ = p.subject(n, r) },
		"new": func(n *yaml.Node) { r.New, _ = p.subject(n, r) },
		"versions": func(n *yaml.Node) {
			p.entries(n, "versions", func(key, value *yaml.Node) {
				r.Versions = append(r.Versions, Mapping{From: key.Value, To: value.Value})
			})
		},
	}, "old", "new", "versions")
	for i := range r.Versions {
		m := &r.Versions[i]
		for text, subject := range map[string]model.Subject{m.From: r.Old, m.To: r.New} {
			order := p.orders(subject.Kind)
			if order == nil {
				continue
			}
			rng, err := order.ParseRange(text)
			if err != nil {
				p.wrong(n, fmt.Sprintf("%s, for %s", err, subject.Kind), "")
			} else if text == m.From {
				m.fromRange = rng
			}
		}
	}
}

func (p *parser) ends(n *yaml.Node) {
	r := p.now
	var c Condition
	var at *yaml.Node
	var order version.Order
	p.mapping(n, "ends", fields{
		"subject": func(n *yaml.Node) { c.Subject, order = p.subject(n, r) },
		"range":   func(n *yaml.Node) { c.Text, at = n.Value, n },
		"on":      func(n *yaml.Node) { r.On = p.date(n) },
	}, "subject", "on")
	if at == nil {
		c.Text = "*" // all of it: a deadline
	} else {
		c.Range = p.rangeOf(at, order, c.Subject.Kind)
	}
	r.When = []Condition{c}
}
