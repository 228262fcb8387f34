package view

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/view/doc"
)

// Explain shows why a package is where it is, or why it cannot be elsewhere.
func (o Out) Explain(all []output.Explanation) error {
	d := &doc.Document{}
	for i, e := range all {
		if i > 0 {
			d.Add(doc.Gap{})
		}
		explainOne(d, e)
	}
	return o.show("explain", explanations{all}, d)
}

// InEffect shows all packages in effect, each below what brings it.
func (o Out) InEffect(all *output.InEffect) error {
	d := &doc.Document{}
	for i, c := range all.Components {
		if i > 0 {
			d.Add(doc.Gap{})
		}
		required := 0
		var rows doc.List
		for _, p := range c.Packages {
			if p.Depth == 0 && !p.Indirect {
				required++
			}
			line := doc.Line{doc.Plain("%s%s ", strings.Repeat("  ", p.Depth), p.Name), doc.Faint(p.Version)}
			if p.Development && p.Depth == 0 {
				line = append(line, doc.Faint(", for development"))
			}
			if p.Indirect {
				line = append(line, doc.Faint(", indirect"))
			}
			rows = append(rows, line)
		}
		d.Add(doc.Heading{Title: called(c.Dir, c.Name), Note: fmt.Sprintf("%s, %s in effect, %d of them required", c.Ecosystem,
			doc.Count(len(c.Packages), "package", "packages"), required)}, rows)
	}
	return o.show("in-effect", all, d)
}

// explanations and conflict are what JSON has of results that are no objects of their own.
type (
	explanations struct {
		Explanations []output.Explanation `json:"explanations"`
	}
	conflict struct {
		Title string             `json:"title"`
		Proof []string           `json:"proof"`
		Steps []output.ProofStep `json:"steps"`
		Ways  []output.WayOut    `json:"ways,omitempty"`
		// Beyond is a second dead end behind the first.
		Beyond *output.DeadEnd `json:"beyond,omitempty"`
	}
)

// shownReleases is how many releases are listed.
const shownReleases = 8

// newestReleases are the newest few, and before them the newest pre-release if that is
// newer still.
func newestReleases(all []output.ReleaseLine) (shown []output.ReleaseLine) {
	for i, r := range all {
		if len(shown) == shownReleases {
			break
		}
		if !r.Preview || i == 0 || previews(all) == len(all) {
			shown = append(shown, r)
		}
	}
	return shown
}

// previews counts the pre-releases.
func previews(all []output.ReleaseLine) (n int) {
	for _, r := range all {
		if r.Preview {
			n++
		}
	}
	return n
}

func explainOne(d *doc.Document, e output.Explanation) {
	where := ""
	if e.Component != "." {
		where = "in " + e.Component
	}
	switch {
	case e.Version == "":
		d.Add(doc.Heading{Title: e.Name, Note: where})
		for _, c := range e.Locked {
			where := " in " + c.Where
			if c.Scope != "" {
				where += ", scope " + c.Scope
			}
			d.Add(doc.Line{doc.Plain("  is at "), doc.Strong(c.Version), doc.Faint(where), doc.Plain(", because")})
			var askers doc.List
			for _, a := range c.Askers {
				askers = append(askers, doc.Line{doc.Plain("  %s", a)})
			}
			d.Add(askers)
		}
		if len(e.Locked) == 0 {
			d.Add(doc.Line{doc.Plain("  is not locked")})
		}
		g := doc.Grid{Columns: []string{"newest releases", "published", "states", ""}}
		shown := newestReleases(e.Releases)
		for _, r := range shown {
			date := ""
			if !r.Published.IsZero() {
				date = r.Published.Format(time.DateOnly)
			}
			note := doc.Span{}
			if r.Deprecated != "" {
				note = doc.Bad("deprecated: " + r.Deprecated)
			} else if r.Retracted != "" {
				note = doc.Bad(r.Retracted)
			} else if slices.ContainsFunc(e.Locked, func(c model.LockedCopy) bool { return c.Version == r.Version }) {
				note = doc.Good("locked")
			}
			g.Row(doc.Usual(r.Version), doc.Faint(date), doc.Usual(r.Runtime), note)
		}
		d.Add(doc.Gap{}, g)
		if more := len(e.Releases) - len(shown); more > 0 {
			d.Add(
				doc.Line{
					doc.Span{
						Text: fmt.Sprintf(
							"  and %s, %d of them pre-releases; --format json lists them", doc.Count(more, "more", "more"),
							previews(e.Releases)-previews(shown),
						),
						Style: doc.StyleFaint,
					},
				},
			)
		}
	case e.Possible && len(e.Moves) == 0:
		d.Add(doc.Line{doc.Plain("%s@%s is what is there already.", e.Name, e.Version)})
	case e.Possible:
		title := fmt.Sprintf("%s@%s is possible", e.Name, e.Version)
		d.Add(doc.Heading{Title: title, Note: where}, doc.Line{doc.Plain("These would move:")}, moveGrid(e.Moves))
	default:
		d.Add(doc.Heading{Title: fmt.Sprintf("%s@%s is not possible", e.Name, e.Version), Note: where}, proofList(e.Proof))
	}
}
