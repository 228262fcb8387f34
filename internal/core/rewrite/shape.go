package rewrite

import (
	"errors"
	"fmt"

	"bellwether/internal/core/lex"
	"bellwether/internal/core/pattern"
	"bellwether/internal/core/rewrite/source"
)

// Shape changes the shape of code by a pattern and a template.
type Shape struct {
	Find, Put string
	Where     map[string]pattern.Condition
	// With and Without are conditions in code, which are read for each language.
	With, Without map[string]string
	Line          int // of the pattern, for its mistakes; 0 for none

	read map[*lex.Language]*shaped
}

// shaped is a pattern read for one language.
type shaped struct {
	find, put *pattern.Code
	where     map[string]pattern.Condition
	err       error
}

// Kind is "pattern".
func (*Shape) Kind() string { return "pattern" }

// words are those of the pattern as code that most languages share.
func (b *Shape) words() []string {
	if s := b.of(lex.Named("typescript")); s.err == nil {
		return s.find.Words()
	}
	return nil
}

// of is the pattern, read for a language.
func (b *Shape) of(lang *lex.Language) *shaped {
	if s, ok := b.read[lang]; ok {
		return s
	}
	s := &shaped{where: map[string]pattern.Condition{}}
	if s.find, s.err = pattern.Parse(lang, b.Find); s.err == nil {
		s.put, s.err = s.find.Template(b.Put)
	}
	for name, c := range b.Where {
		s.where[name] = c
	}
	for name, code := range b.With {
		c := s.where[name]
		c.With = pattern.Tokens(lang, code)
		s.where[name] = c
	}
	for name, code := range b.Without {
		c := s.where[name]
		c.Without = pattern.Tokens(lang, code)
		s.where[name] = c
	}
	if s.err == nil {
		for name := range s.where {
			if !s.find.Has(name) {
				s.err = &pattern.Mistake{Line: 1, Column: 1, Wrong: fmt.Sprintf("the pattern has no hole %q, which a condition names", name)}
			}
		}
	}
	return s
}

// prepare reads the pattern for the languages of a rule, so that it can be used by several at
// once. Its error is the first mistake.
func (b *Shape) prepare(langs []*lex.Language) error {
	read := map[*lex.Language]*shaped{}
	var first error
	ok := false
	for _, lang := range langs {
		s := b.of(lang)
		read[lang] = s
		if s.err == nil {
			ok = true
		} else if first == nil {
			first = s.err
		}
	}
	b.read = read
	if ok {
		return nil
	}
	return first
}

func (b *Shape) apply(_ *Rule, f *source.File) (c changed, err error) {
	if f.Lang == nil {
		return c, nil
	}
	s := b.of(f.Lang)
	if s.err != nil {
		return c, nil // it is a pattern of another language
	}
	found, err := s.find.Find(f.Patterns(), s.where)
	if err != nil || len(found) == 0 {
		return c, err
	}
	for _, m := range found {
		c.places = append(c.places, m.Start)
	}
	next, n, err := pattern.Rewrite(s.find, s.put, s.where, f.Text)
	switch {
	case errors.Is(err, pattern.ErrLoop):
		return changed{left: []Left{{f.Name, f.Line(found[0].Start), err.Error()}}}, nil
	case err != nil || n == 0:
		return changed{}, err
	}
	c.edits = difference(f.Text, next)
	return c, nil
}
