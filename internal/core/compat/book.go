// Package compat reads compat books: files of compatibility constraints that no
// registry states. It checks them, and turns them into a problem for the
// solver, together with what packages themselves state that they need.
package compat

import (
	"slices"
	"time"

	"bellwether/internal/core/model"
	"bellwether/internal/core/rewrite"
	"bellwether/internal/core/version"
)

// Schema names the form of a book.
const Schema = "bellwether/book/1"

// Kind is what a rule says.
type Kind string

// The kinds of rules, which are also their keys in a book.
const (
	Needs    Kind = "needs"    // subjects in ranges need others in ranges
	Together Kind = "together" // a family, and what of its versions it shares
	Stepwise Kind = "stepwise" // subjects that skip no major
	Clashes  Kind = "clashes"  // what installs side by side, but does not work
	Replaced Kind = "replaced" // a package goes on under another name
	Restored Kind = "restored" // a feature was taken out, and a package gives it back
	Branch   Kind = "branch"   // what is not released yet lies on a branch of the source
	Ends     Kind = "ends"     // the end of life, or a deadline
	Adapt    Kind = "adapt"    // source and configuration are repaired
	Keys     Kind = "keys"     // the keys of configuration that a version knows
)

var kinds = []Kind{Needs, Together, Stepwise, Clashes, Replaced, Restored, Branch, Ends, Adapt, Keys}

// Share is what the versions of a family have in common.
type Share string

// The shares, from all to the least.
const (
	ShareVersion Share = "version"
	ShareMinor   Share = "minor"
	ShareMajor   Share = "major"
)

// Shares are all of them.
var Shares = []Share{ShareVersion, ShareMinor, ShareMajor}

// Reach is the largest step that may lie between two members of a family.
func (s Share) Reach() version.Reach {
	return map[Share]version.Reach{ShareVersion: version.Stay, ShareMinor: version.Patch, ShareMajor: version.Minor}[s]
}

// Book is a file of constraints.
type Book struct {
	File     string // as it is to be named to people
	Title    string
	AsOf     time.Time // when what it says was looked up; zero if it does not tell
	Releases []Line
	Rules    []*Rule
}

// Line is a released line of a subject that no registry lists.
type Line struct {
	Subject model.Subject
	Text    string // "20", "3.12"
	Version version.Version
	Since   time.Time // zero if it is not told
	Ends    time.Time // the end of its support; zero if it is not told
}

// Rule is one constraint.
type Rule struct {
	ID      string
	Because string
	Source  string // where that can be read; may be empty
	File    string // the book's
	Line    int
	Kind    Kind
	// When has the conditions that must all hold for needs and restored to
	// apply, the parts of clashes, and what ends.
	When []Condition
	// Then has what is needed, or what restores.
	Then       []Condition
	Subjects   []model.Subject // of together and stepwise; the one that a branch is of
	Branch     string          // of branch: its name
	Repository string          // of branch: the address of the repository, where the registry does not give branches; empty if not stated
	Share      Share           // of together
	Feature    string          // of restored
	Old, New   model.Subject   // of replaced
	Versions   []Mapping       // of replaced
	On         time.Time       // of ends
	Repair     *rewrite.Rule   // of adapt: once When holds
	Or         [][]Condition   // of adapt: what may hold instead of When, each of them all
	From       []Condition     // of adapt: what has to hold before
	Keys       *KeyList        // of keys
	// Foreign is a kind of subject that it names and that is not known here:
	// such a rule never applies.
	Foreign string
}

// Place is "file:line".
func (r *Rule) Place() string { return model.Site{File: r.File, Line: r.Line}.String() }

// Condition says that a subject is in a range.
type Condition struct {
	Subject model.Subject
	Text    string // the range as written
	Range   version.Range
}

// String is "npm/quayside >=4".
func (c Condition) String() string { return c.Subject.String() + " " + c.Text }

// Mapping says which versions of an old package go on as which of the new one.
type Mapping struct {
	From, To  string
	fromRange version.Range
}

// Becomes is the range of the new package for a version of the old one, "" if
// the rule has none.
func (r *Rule) Becomes(v version.Version) string {
	for _, m := range r.Versions {
		if m.fromRange != nil && m.fromRange.Contains(v) {
			return m.To
		}
	}
	return ""
}

// Mentions are the subjects that a rule is about, each once.
func (r *Rule) Mentions() []model.Subject {
	all := slices.Clone(r.Subjects)
	for _, c := range slices.Concat(slices.Concat(r.Or...), r.When, r.Then) {
		all = append(all, c.Subject)
	}
	if r.Kind == Replaced {
		all = append(all, r.Old, r.New)
	}
	slices.SortFunc(all, model.Subject.Compare)
	return slices.Compact(all)
}

// Orders gives the version order of a kind of subjects; nil for a kind that is
// not known.
type Orders func(kind string) version.Order
