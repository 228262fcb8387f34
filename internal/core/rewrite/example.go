package rewrite

import (
	"context"
	"fmt"
	"io/fs"
	"slices"
	"strings"
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

// CheckExamples runs a rule's examples: each text before has to become the one after, and the
// one after has to stay as it is.
func (r *Rule) CheckExamples(ctx context.Context) (problems []Problem, err error) {
	if !r.WantsExample() {
		return nil, nil
	}
	changes := false
	for _, e := range r.Examples {
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
