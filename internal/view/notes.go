package view

import (
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/notes"
	"bellwether/internal/core/spelling"
)

// The bounds of what is shown where not all is asked for.
const (
	shownEntry  = 240 // characters of an entry
	shownOthers = 6   // entries of a package that do not concern the project
)

// Notes shows what releases on the way say. All shows everything.
func (o Out) Notes(r *model.NotesResult, all bool) error {
	d := &document{}
	if len(r.Packages) == 0 {
		d.add(line{plain("no package moves on this route")})
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
		d.add(line{span{"no notes were found of " + spelling.Few(silent, 12), faint}}, gap{})
	}
	unconfirmed(d, r.Needs)
	proposed(d, r)
	return o.show("notes", r, d)
}

// unconfirmed are needs that only notes tell of.
func unconfirmed(d *document, needs []model.NotedNeed) {
	if len(needs) == 0 {
		return
	}
	d.add(heading{"unconfirmed needs", "release notes say so, and no registry states it"})
	var rows list
	for _, n := range needs {
		rows = append(rows, line{span{n.Name + " " + n.Range, warn}, plain(" for %s", n.By), span{" (" + n.Source + ")", faint}})
	}
	d.add(rows, gap{})
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

func packageNotes(d *document, p model.PackageNotes, all bool) {
	where := ""
	if p.Component != "." {
		where = p.Component + ": "
	}
	d.add(heading{fmt.Sprintf("%s%s %s to %s", where, p.Name, cmpOr(p.From, "(new)"), p.To), summary(p)})
	for _, text := range p.Unread {
		d.add(line{span{"  " + text, warn}})
	}
	if len(p.Entries) == 0 {
		text := "  no notes were found"
		if len(p.Whole) > 0 {
			text = "  no part for a version on the way was found in " + strings.Join(p.Whole, ", ")
		}
		d.add(line{span{text, faint}}, gap{})
		return
	}
	ours := slices.IndexFunc(p.Entries, func(e model.NoteEntry) bool { return len(e.Uses) == 0 })
	if ours < 0 {
		ours = len(p.Entries)
	}
	if ours > 0 {
		d.add(line{span{"  concerns this project", strong}})
		d.add(noteRows(p.Entries[:ours], all))
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
			d.add(line{span{"  also on the way", strong}})
		}
		d.add(noteRows(rest[:shown], all))
	}
	if more := len(rest) - shown; more > 0 {
		d.add(line{span{fmt.Sprintf("  and %s that %s nothing here: --all shows them", count(more, "entry", "entries"), verb(more)), faint}})
	}
	d.add(gap{})
}

func verb(n int) string {
	if n == 1 {
		return "names"
	}
	return "name"
}

// summary says where notes were found.
func summary(p model.PackageNotes) string {
	text := count(p.Releases, "release", "releases") + " on the way"
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
	return slices.Index(notes.Kinds, notes.Kind(e.Kind)) <= slices.Index(notes.Kinds, notes.Renamed)
}

var noteStyles = map[notes.Kind]style{
	notes.Breaking: bad, notes.Removed: bad, notes.Needs: warn, notes.Renamed: warn, notes.Deprecated: warn, notes.Security: good,
}

func noteRows(entries []model.NoteEntry, all bool) (rows list) {
	for _, e := range entries {
		text := e.Text
		if runes := []rune(text); len(runes) > shownEntry && !all {
			text = string(runes[:shownEntry]) + "…"
		}
		rows = append(rows, line{
			span{fmt.Sprintf("%-10s ", e.Kind), noteStyles[notes.Kind(e.Kind)]}, span{e.Version + "  ", strong}, plain("%s", text),
			span{" (" + e.Place + ")", faint},
		})
		for _, u := range e.Uses {
			places := strings.Join(u.Places, ", ")
			if more := u.Count - len(u.Places); more > 0 {
				places += fmt.Sprintf(" and %d more", more)
			}
			rows = append(rows, line{plain("             %s is used in %s: ", u.Name, count(u.Count, "place", "places")), span{places, strong}})
		}
	}
	return rows
}

// proposed are the rules that follow from what is plainly stated.
func proposed(d *document, r *model.NotesResult) {
	if len(r.Rules) > 0 {
		d.add(heading{"proposed rules", "from what is plainly stated; nothing is applied"})
		g := grid{columns: []string{"rule", "uses", "what it does", "says"}}
		for _, p := range r.Rules {
			g.rows = append(g.rows, line{span{p.ID, strong}, plain("%d", p.Used), plain("%s", p.Says), span{p.Source, faint}})
		}
		d.add(g, gap{})
		if r.Saved == "" {
			d.add(line{plain("next: "), span{"bellwether notes --rules FILE", strong}, plain(" saves them; read them, and see "),
				span{"bellwether adapt --rules FILE", strong}})
		}
	}
	if r.Saved != "" {
		d.add(line{span{"saved", good}, plain(": %s in %s; next: ", count(len(r.Rules), "rule", "rules"), r.Saved),
			span{"bellwether adapt --rules " + r.Saved, strong}, plain(" shows what they would do")})
	}
}
