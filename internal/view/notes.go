package view

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/notes"
	"bellwether/internal/core/spelling"
	"bellwether/internal/view/doc"
)

// The bounds of what is shown where not all is asked for.
const (
	shownEntry  = 240 // characters of an entry
	shownOthers = 6   // entries of a package that do not concern the project
)

// Notes shows what releases on the way say. All shows everything.
func (o Out) Notes(r *model.NotesResult, all bool) error {
	d := &doc.Document{}
	if len(r.Packages) == 0 {
		d.Add(doc.Line{doc.Plain("no package moves on this route")})
	}
	// What concerns the project comes first, and what says nothing is only named.
	packages := slices.Clone(r.Packages)
	slices.SortStableFunc(packages, func(a, b model.PackageNotes) int { return silence(a) - silence(b) })
	var silent []string
	for _, p := range packages {
		if silence(p) == 2 && len(r.Packages) > 1 && len(p.Unread) == 0 && len(p.Whole) == 0 {
			silent = append(silent, p.Name)
			continue
		}
		packageNotes(d, p, all)
	}
	if len(silent) > 0 {
		d.Add(doc.Line{doc.Faint("no notes were found of " + spelling.Few(silent, 12))}, doc.Gap{})
	}
	unconfirmed(d, r.Needs)
	proposed(d, r)
	return o.show("notes", r, d)
}

// unconfirmed are needs that only notes tell of.
func unconfirmed(d *doc.Document, needs []model.NotedNeed) {
	if len(needs) == 0 {
		return
	}
	d.Add(doc.Heading{Title: "unconfirmed needs", Note: "release notes say so, and no registry states it"})
	var rows doc.List
	for _, n := range needs {
		rows = append(rows, doc.Line{doc.Warn(n.Name + " " + n.Range), doc.Plain(" for %s", n.By), doc.Faint(" (" + n.Source + ")")})
		if len(n.Unmet) > 0 {
			rows = append(rows, doc.Line{doc.Warn("  not met: " + strings.Join(n.Unmet, ", "))})
		}
	}
	d.Add(rows, doc.Gap{})
}

// silence is how little the notes of a package say: 0 for some that concern the project, 2 for
// none.
func silence(p model.PackageNotes) int {
	switch {
	case len(p.Entries) == 0:
		return 2
	case len(p.Entries[0].Uses) == 0:
		return 1
	}
	return 0
}

func packageNotes(d *doc.Document, p model.PackageNotes, all bool) {
	where := ""
	if p.Component != "." {
		where = p.Component + ": "
	}
	d.Add(doc.Heading{Title: fmt.Sprintf("%s%s %s to %s", where, p.Name, cmp.Or(p.From, "(new)"), p.To), Note: summary(p)})
	for _, text := range p.Unread {
		d.Add(doc.Line{doc.Warn("  " + text)})
	}
	for _, text := range p.Gaps {
		d.Add(doc.Line{doc.Warn("  " + text)})
	}
	if len(p.Entries) == 0 {
		text := "  no notes were found"
		if len(p.Looked) > 0 {
			text += fmt.Sprintf(" in %s of %s", doc.Count(len(p.Looked), "archive", "archives"), strings.Join(p.Looked, ", "))
		}
		if len(p.Whole) > 0 {
			text = "  no part for a version on the way was found in " + strings.Join(p.Whole, ", ")
		}
		d.Add(doc.Line{doc.Faint(text)}, doc.Gap{})
		return
	}
	ours := slices.IndexFunc(p.Entries, func(e model.NoteEntry) bool { return len(e.Uses) == 0 })
	if ours < 0 {
		ours = len(p.Entries)
	}
	if ours > 0 {
		d.Add(doc.Line{doc.Strong("  concerns this project")})
		d.Add(noteRows(p.Entries[:ours], all))
	}
	rest := p.Entries[ours:]
	shown := len(rest)
	if !all {
		shown = 0
		for shown < len(rest) && shown < shownOthers && grave(rest[shown]) {
			shown++
		}
	}
	if shown > 0 {
		if ours > 0 {
			d.Add(doc.Line{doc.Strong("  also on the way")})
		}
		d.Add(noteRows(rest[:shown], all))
	}
	if more := len(rest) - shown; more > 0 {
		text := doc.Count(more, "entry that names nothing here", "entries that name nothing here")
		d.Add(doc.Line{doc.Faint("  and " + text + ": --all shows them")})
	}
	d.Add(doc.Gap{})
}

// summary says where notes were found.
func summary(p model.PackageNotes) string {
	text := doc.Count(p.Releases, "release", "releases") + " on the way"
	if len(p.Found) > 0 {
		text += "; " + strings.Join(p.Found[:min(3, len(p.Found))], ", ")
		if more := len(p.Found) - 3; more > 0 {
			text += fmt.Sprintf(" and %d more", more)
		}
	}
	return text
}

// grave tells whether a person has to know an entry in any case.
func grave(e model.NoteEntry) bool {
	kind := notes.Kind(e.Kind)
	return slices.Index(notes.Kinds, kind) <= slices.Index(notes.Kinds, notes.Renamed) || kind == notes.Other && e.Major
}

var noteStyles = map[notes.Kind]doc.Style{
	notes.Breaking: doc.StyleBad, notes.Removed: doc.StyleBad, notes.Needs: doc.StyleWarn, notes.Renamed: doc.StyleWarn,
	notes.Deprecated: doc.StyleWarn, notes.Security: doc.StyleGood,
}

func noteRows(entries []model.NoteEntry, all bool) (rows doc.List) {
	for _, e := range entries {
		text := e.Text
		if runes := []rune(text); len(runes) > shownEntry && !all {
			text = string(runes[:shownEntry]) + "…"
		}
		rows = append(rows, doc.Line{
			doc.Styled(fmt.Sprintf("%-10s ", e.Kind), noteStyles[notes.Kind(e.Kind)]), doc.Strong(e.Version + "  "), doc.Usual(text),
			doc.Faint(" (" + e.Place + ")"),
		})
		for _, u := range e.Uses {
			places := strings.Join(u.Places, ", ")
			if more := u.Count - len(u.Places); more > 0 {
				places += fmt.Sprintf(" and %d more", more)
			}
			used := doc.Plain("             %s is used in %s: ", u.Name, doc.Count(u.Count, "place", "places"))
			rows = append(rows, doc.Line{used, doc.Strong(places)})
		}
	}
	return rows
}

// proposed are the rules that follow from what is plainly stated.
func proposed(d *doc.Document, r *model.NotesResult) {
	if len(r.Rules) > 0 {
		d.Add(doc.Heading{Title: "proposed rules", Note: "from what is plainly stated; nothing is applied"})
		g := doc.Grid{Columns: []string{"rule", "uses", "what it does", "says"}}
		for _, p := range r.Rules {
			g.Row(doc.Strong(p.ID), doc.Plain("%d", p.Used), doc.Usual(p.Says), doc.Faint(p.Source))
		}
		d.Add(g, doc.Gap{})
		if r.Saved == "" {
			d.Add(doc.Line{doc.Plain("next: "), doc.Strong("bellwether notes --rules FILE"), doc.Plain(" saves them; read them, and see "),
				doc.Strong("bellwether adapt --rules FILE")})
		}
	}
	if r.Saved != "" {
		d.Add(doc.Line{doc.Good("saved"), doc.Plain(": %s in %s; next: ", doc.Count(len(r.Rules), "rule", "rules"), r.Saved),
			doc.Strong("bellwether adapt --rules " + r.Saved), doc.Plain(" shows what they would do")})
	}
}
