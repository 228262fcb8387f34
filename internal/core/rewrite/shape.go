package rewrite

import (
	"errors"
	"fmt"
	"slices"

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
		if s.put, s.err = s.find.Template(b.Put); s.err != nil {
			s.err = fmt.Errorf("in put: %w", s.err)
		}
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

func (b *Shape) apply(r *Rule, f *source.File) (c changed, err error) {
	if f.Lang == nil {
		return c, nil
	}
	if c, err = b.inCode(f); err == nil && r.aboutCommands() {
		b.commandLines(f, &c)
	}
	return c, err
}

// aboutCommands tells whether a rule is about command lines: one of its examples is a shell's.
func (r *Rule) aboutCommands() bool {
	return slices.Contains(r.Languages, "shell") || slices.ContainsFunc(r.Examples, func(e Example) bool {
		l := lex.Of(e.File)
		return l != nil && l.Name == "shell"
	})
}

// standing are the places of a pattern in a file, those in command lines too.
func (b *Shape) standing(r *Rule, f *source.File) (places []int, err error) {
	if f.Lang == nil {
		return nil, nil
	}
	if s := b.of(f.Lang); s.err == nil {
		found, err := s.find.Find(f.Patterns(), s.where)
		if err != nil {
			return nil, err
		}
		for _, m := range found {
			places = append(places, m.Start)
		}
	}
	if shell := b.of(lex.Named("shell")); shell.err == nil && r.aboutCommands() {
		for _, command := range f.Commands() {
			if edit, err := command.Put(command.Line); err == nil && shell.matches(command.Line) {
				places = append(places, edit.Start)
			}
		}
	}
	slices.Sort(places)
	return slices.Compact(places), nil
}

// commandLines changes command lines that are texts within a file of another format.
func (b *Shape) commandLines(f *source.File, c *changed) {
	shell := b.of(lex.Named("shell"))
	if shell.err != nil {
		return
	}
	for _, command := range f.Commands() {
		next, n, err := pattern.Rewrite(shell.find, shell.put, shell.where, command.Line)
		if err != nil || n == 0 {
			continue
		}
		edit, err := command.Put(next)
		c.try(f, edit.Start, err, edit)
	}
}

// inCode changes the shape of a file's own code.
func (b *Shape) inCode(f *source.File) (c changed, err error) {
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
