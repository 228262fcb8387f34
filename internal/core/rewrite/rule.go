// Package rewrite repairs source and configuration by rules: what a new release calls otherwise,
// writes otherwise, or reads no more. It works on texts, and never half changes one.
package rewrite

import (
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"bellwether/internal/core/rewrite/source"
	"bellwether/internal/core/splice"
)

// Rule is one repair.
type Rule struct {
	ID      string
	Because string
	Source  string // where that can be read; may be empty
	Place   string // of the rule, "file:line"
	// Files and Except are patterns of names, as doublestar has them: none for all files. A
	// pattern without a slash is one of the last name.
	Files, Except []string
	Languages     []string // none for all
	Imports       []string // what a file has to import: one of these; none for nothing
	Body          Body
	Examples      []Example
	// Within tells of a file that the rule is for, besides; nil for all.
	Within func(name string) bool
	// Refused says why the rule is not applied: its pattern cannot be read, or its own example fails. Empty for one that is sound.
	Refused string
}

// Example is a text before and after a rule. A file that comes or goes has an empty text.
type Example struct {
	File          string // a name, which tells the language
	Before, After string
	Line          int // where it stands
}

// Body is what a rule does.
type Body interface {
	// Kind is the word for it: "rename", "pattern" and so on.
	Kind() string
}

// inFile is a body that changes one file at a time.
type inFile interface {
	Body
	// words stand in every file that it changes; none for any.
	words() []string
	apply(r *Rule, f *source.File) (changed, error)
}

// inTree is a body that needs all files.
type inTree interface {
	Body
	applyAll(r *Rule, t *state, o *Outcome) error
}

// changed is what a body does to a file.
type changed struct {
	edits  []splice.Edit
	places []int  // where, in the text as it was
	left   []Left // what is about the rule and stays
}

// Left is a place that a rule is about and does not change.
type Left struct {
	File   string `json:"file"`
	Line   int    `json:"line,omitempty"`
	Reason string `json:"reason"`
}

// in tells whether a file is one of the rule's.
func (r *Rule) in(file string) bool {
	return (len(r.Files) == 0 || Matches(r.Files, file)) && !Matches(r.Except, file) && (r.Within == nil || r.Within(file))
}

// Matches tells whether a file is one of some patterns, as Rule.Files has them.
func Matches(patterns []string, file string) bool {
	return slices.ContainsFunc(patterns, func(pattern string) bool {
		name := file
		if !strings.Contains(pattern, "/") {
			name = path.Base(file)
		}
		return doublestar.MatchUnvalidated(strings.TrimPrefix(pattern, "./"), name)
	})
}

// speaks tells whether a language is one of the rule's.
func (r *Rule) speaks(f *source.File) bool {
	return len(r.Languages) == 0 || f.Lang != nil && slices.Contains(r.Languages, f.Lang.Name)
}
