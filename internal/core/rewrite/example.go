package rewrite

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"bellwether/internal/core/lex"
	"bellwether/internal/core/model"
)

// Problem is what is wrong with one of a rule's examples.
type Problem struct {
	Line  int
	Text  string
	Lines []string // what it becomes, and what it should
}

// WantsExample tells whether a rule has to carry an example: all that can be shown on a text.
func (r *Rule) WantsExample() bool {
	switch r.Body.(type) {
	case *Requirement, *Command:
		return false
	}
	return true
}

// Judge runs a rule's examples, and refuses it where it does not do what they say.
func (r *Rule) Judge(ctx context.Context) error {
	problems, err := r.CheckExamples(ctx)
	var fault *model.Fault
	switch {
	case errors.As(err, &fault):
		r.Refused = fault.Wrong
	case err != nil:
		return err
	case len(problems) > 0:
		file, _, _ := strings.Cut(r.Place, ":")
		r.Refused = fmt.Sprintf("%s (%s)", problems[0].Text, model.Site{File: file, Line: problems[0].Line})
	}
	return nil
}

// CheckExamples runs a rule's examples: each text before has to become the one after, and the
// one after has to stay as it is.
func (r *Rule) CheckExamples(ctx context.Context) (problems []Problem, err error) {
	if !r.WantsExample() {
		return nil, nil
	}
	if err := r.readable(); err != nil {
		return nil, err
	}
	changes := false
	for _, e := range r.Examples {
		if b, ok := r.Body.(*Move); ok && strings.ContainsAny(b.Delete, "*?[{") { // what git ignores goes, which no example tells
			if changes = true; !Matches([]string{b.Delete}, e.File) {
				problems = append(problems, Problem{Line: e.Line, Text: fmt.Sprintf("%s is not one of %s", e.File, b.Delete)})
			}
			continue
		}
		_, isToDo := r.Body.(*ToDo)
		got, left, err := r.try(ctx, e, e.Before)
		if err != nil {
			return nil, err
		}
		say := func(format string, args ...any) {
			problems = append(problems, Problem{Line: e.Line, Text: fmt.Sprintf(format, args...)})
		}
		reason := ""
		if len(left) > 0 {
			reason = "; it says: " + left[0].Reason
		}
		_, moves := r.Body.(*Move)
		changes = changes || e.Before != e.After || moves || isToDo && len(left) > 0
		switch {
		case isToDo:
			if e.After == "" && len(left) == 0 || e.After != "" && len(left) > 0 {
				say("the example is not what the rule is about")
			}
			continue
		case got != e.After && !r.in(e.File):
			say("the example is about %s, and the rule is not for files of this name", e.File)
			continue
		case got != e.After:
			say("the example does not become what it should%s", reason)
			problems[len(problems)-1].Lines = slices.Concat([]string{"it becomes:"}, indented(got), []string{"it should become:"}, indented(e.After))
			continue
		}
		again, _, err := r.try(ctx, e, got)
		if err != nil {
			return nil, err
		}
		if again != got {
			say("applied twice, the example changes once more")
			problems[len(problems)-1].Lines = append([]string{"it becomes:"}, indented(again)...)
		}
	}
	if !changes && len(r.Examples) > 0 {
		problems = append(problems, Problem{Line: r.Examples[0].Line, Text: "none of the examples is changed by the rule"})
	}
	return problems, nil
}

func indented(text string) (lines []string) {
	for line := range strings.SplitSeq(strings.TrimRight(text, "\n"), "\n") {
		lines = append(lines, "  "+line)
	}
	return lines
}

// readable fails for a pattern that no language reads of those that the examples have.
func (r *Rule) readable() error {
	shape := shapeOf(r)
	if shape == nil {
		return nil
	}
	langs := []*lex.Language{lex.Named("typescript")}
	for _, e := range r.Examples {
		if l := lex.Of(e.File); l != nil && lex.Named(l.Name) == l && !slices.Contains(langs, l) {
			langs = append(langs, l)
		}
	}
	if err := shape.prepare(langs); err != nil {
		return &model.Fault{Doing: "reading the rule " + r.ID, File: r.Place, Wrong: "the pattern: " + err.Error()}
	}
	return nil
}

// try applies the rule to one text; a file that goes away is empty.
func (r *Rule) try(ctx context.Context, e Example, text string) (string, []Left, error) {
	in := Input{Names: []string{e.File}, Read: func(name string) ([]byte, error) {
		if name != e.File {
			return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
		}
		return []byte(text), nil
	}}
	if text == "" {
		in.Names = nil
	}
	result, err := Run(ctx, []*Rule{r}, in)
	if err != nil {
		return "", nil, err
	}
	var left []Left
	for _, o := range result.Outcomes {
		left = append(left, o.Left...)
	}
	left = append(left, result.Skipped...)
	for _, edit := range result.Edits {
		if b, ok := r.Body.(*Move); edit.File == e.File || ok && (b.To == edit.File || b.Add == edit.File) {
			if edit.New != nil {
				return string(edit.New), left, nil
			}
			text = ""
		}
	}
	return text, left, nil
}
