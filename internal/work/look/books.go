package look

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/version"
	"bellwether/internal/host/within"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/shelf"
	"bellwether/internal/work/tree"
)

// Books tells which books there are, and which of their rules apply here.
func Books(ctx context.Context, d *desk.Desk, t *tree.Tree) (*output.BooksResult, error) {
	s, err := shelf.Read(ctx, d, t)
	if err != nil {
		return nil, err
	}
	places, err := t.Places()
	if err != nil {
		return nil, err
	}
	packages, err := d.Effective(ctx, t)
	if err != nil {
		return nil, err
	}
	result := &output.BooksResult{Notes: s.Notes}
	for _, b := range s.Books {
		row := output.BookResult{Book: b.File, Title: b.Title, Releases: len(b.Releases), Rules: []output.RuleResult{}}
		row.Ships = shelf.Ships(b)
		if !b.AsOf.IsZero() {
			row.AsOf = b.AsOf.Format(time.DateOnly)
		}
		for _, r := range b.Rules {
			status, why := applies(packages, places, r)
			row.Rules = append(
				row.Rules,
				output.RuleResult{
					ID: r.ID, Kind: string(r.Kind), Says: r.Says(), Because: r.Because, Source: r.Source, Place: r.Place(), Status: status,
					Why: why,
				},
			)
		}
		result.Books = append(result.Books, row)
	}
	return result, nil
}

// CheckBook reads one book and tells all that is wrong with it.
func CheckBook(ctx context.Context, name string) (*output.BookCheck, error) {
	src, err := within.Plain(name, shelf.MaxBook)
	if err != nil {
		var missing *fs.PathError
		if errors.As(err, &missing) {
			err = missing.Err
		}
		return nil, &model.Fault{Doing: "checking a compat book", File: name, Wrong: err.Error()}
	}
	b, faults := compat.Parse(filepath.ToSlash(name), src, tree.BuiltIn().Order)
	check := &output.BookCheck{Book: b.File, Title: b.Title, Rules: len(b.Rules), Remarks: []output.BookRemark{}}
	for _, f := range faults {
		check.Remarks = append(check.Remarks, output.BookRemark{Line: f.Line, Column: f.Col, Text: f.Wrong, Next: f.Next})
	}
	remarks, err := compat.Check(ctx, b, tree.BuiltIn().Order)
	if err != nil {
		return nil, err
	}
	for _, r := range remarks {
		check.Remarks = append(check.Remarks, output.BookRemark{Line: r.At(), Rule: r.Rule.ID, Text: r.Text, Proof: r.Proof, Lines: r.Lines})
	}
	slices.SortStableFunc(check.Remarks, func(a, b output.BookRemark) int { return a.Line - b.Line })
	return check, nil
}

// present are the conditions of a rule that are about what is here, the first ones for none.
func present(r *compat.Rule, here func(model.Subject) string) []compat.Condition {
	for _, way := range r.Ways() {
		if !slices.ContainsFunc(way, func(c compat.Condition) bool { return here(c.Subject) == "" }) {
			return way
		}
	}
	return r.When
}

// applies tells whether a rule applies to a state: "in force", "not yet", "not
// here" or "never", and why.
func applies(packages *tree.Packages, places *tree.Places, r *compat.Rule) (status, why string) {
	if r.Foreign != "" {
		return "never", fmt.Sprintf("%q is no ecosystem that is known here", r.Foreign)
	}
	here := func(subject model.Subject) string {
		if subject.IsPin() {
			if v := places.Stated(subject); v != nil {
				return v.String()
			}
			return ""
		}
		if all := packages.Of(subject); len(all) > 0 {
			return all[0].Version
		}
		return ""
	}
	when := r.When
	var subjects []model.Subject
	switch r.Kind {
	case compat.Together, compat.Stepwise, compat.Branch:
		subjects = r.Subjects
	case compat.Replaced:
		subjects = []model.Subject{r.Old}
	default:
		when = present(r, here)
		for _, c := range when {
			subjects = append(subjects, c.Subject)
		}
	}
	var found, missing []string
	for _, subject := range subjects {
		if v := here(subject); v != "" {
			found = append(found, subject.String()+" is at "+v)
		} else {
			missing = append(missing, subject.String())
		}
	}
	few := r.Kind == compat.Together && len(found) < 2 || r.Kind == compat.Stepwise && len(found) == 0
	some := r.Kind == compat.Together || r.Kind == compat.Stepwise
	if few || len(missing) > 0 && !some {
		return "not here", strings.Join(missing, " and ") + " is not in this project"
	}
	world := packages.World()
	for _, c := range when {
		if c.Subject.IsPin() {
			if v := places.Stated(c.Subject); v != nil {
				world[c.Subject] = []version.Version{v}
			}
		}
		if !world.Holds(c) {
			return "not yet", strings.Join(found, ", ")
		}
	}
	return "in force", strings.Join(found, ", ")
}
