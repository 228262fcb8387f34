package view

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/output"
	"bellwether/internal/core/spelling"
	"bellwether/internal/view/doc"
)

// longList is how many rows a list has that is summed up at its end: what matters would be out of sight.
const longList = 25

// inAll sums long lists of requirements up.
func inAll(d *doc.Document, s *output.Survey) {
	var all, majors, newer, bad, lost int
	for _, c := range s.Components {
		for _, r := range c.Requirements {
			all++
			switch {
			case r.Problem != "":
				lost++
			case r.Retracted || r.Deprecated != "" || r.Replaced != "":
				bad++
			case r.Majors > 0:
				majors++
			case r.Minor != "":
				newer++
			}
		}
	}
	if all < longList {
		return
	}
	line := doc.Line{doc.Strong("in all"), doc.Plain(": %s; %d are majors behind, %d are newer within their major",
		doc.Count(all, "requirement", "requirements"), majors, newer)}
	if bad > 0 {
		line = append(line, doc.Bad(fmt.Sprintf(", %d are deprecated, retracted or replaced", bad)))
	}
	if lost > 0 {
		line = append(line, doc.Bad(fmt.Sprintf(", %d could not be asked for", lost)))
	}
	d.Add(doc.Gap{}, line)
}

// Survey shows what is declared, locked and newer.
func (o Out) Survey(s *output.Survey) error {
	d := &doc.Document{}
	for i, c := range s.Components {
		if i > 0 {
			d.Add(doc.Gap{})
		}
		lock := ", no lock"
		switch {
		case c.Lock != "":
			lock = ", locked in " + c.Lock
		case c.Lockless:
			lock = ""
		}
		declared := doc.Count(len(c.Requirements), "requirement", "requirements")
		if c.Indirect > 0 {
			declared += fmt.Sprintf(" and %d indirect", c.Indirect)
		}
		d.Add(doc.Heading{Title: called(c.Dir, c.Name), Note: fmt.Sprintf("%s, %s%s", c.Ecosystem, declared, lock)})
		d.Add(surveyGrid(c))
		var rows doc.List
		for _, n := range c.Notes {
			rows = append(rows, doc.Line{doc.Faint(n)})
		}
		for _, r := range c.Runtimes {
			if len(s.Pins) > 0 {
				break // they stand with those of other files
			}
			text := fmt.Sprintf("%s %s (%s)", r.Subject, r.Range, r.Place)
			if r.Installed != "" {
				text += ", installed is " + r.Installed
			}
			rows = append(rows, doc.Line{doc.Faint(text)})
		}
		if len(rows) > 0 {
			d.Add(doc.Gap{}, rows)
		}
		if notes := surveyNotes(c); len(notes) > 0 {
			d.Add(doc.Gap{}, notes)
		}
	}
	inAll(d, s)
	if len(s.Pins) > 0 {
		if len(s.Components) > 0 {
			d.Add(doc.Gap{})
		}
		d.Add(doc.Heading{Title: "runtimes, tools and images", Note: "as all files of the project state them"}, pinGrid(s.Pins))
		var notes doc.List
		for _, p := range s.Pins {
			for _, text := range p.Disagree {
				notes = append(notes, doc.Line{doc.Bad(p.Subject), doc.Plain(": %s", text)})
			}
			if p.Fix != "" {
				notes = append(notes, doc.Line{doc.Bad(p.Subject), doc.Plain(": "), doc.Strong(p.Fix), doc.Plain(" brings them together")})
			}
		}
		if len(notes) > 0 {
			d.Add(doc.Gap{}, notes)
		}
	}
	if len(s.Remarks) > 0 {
		var notes doc.List
		for _, r := range s.Remarks {
			row := doc.Line{doc.Styled(r.Subject, remarkStyle(r)), doc.Plain(" %s", r.Text)}
			if r.Because != "" {
				row = append(row, doc.Plain(": %s", strings.TrimSuffix(r.Because, ".")))
			}
			if r.Place != "" {
				row = append(row, doc.Faint(" ("+r.Place+")"))
			}
			if r.Fix != "" {
				row = append(row, doc.Plain("; %s", r.Fix))
			}
			notes = append(notes, row)
		}
		d.Add(doc.Gap{}, doc.Heading{Title: "what does not fit, and what ends", Note: "by what packages state and compat books say"}, notes)
	}
	if len(s.Bridges) > 0 {
		d.Add(doc.Gap{}, doc.Heading{Title: "bridges", Note: "temporary measures that legs took"}, bridgeGrid(s.Bridges))
		if slices.ContainsFunc(s.Bridges, func(b output.SurveyBridge) bool { return b.Goes != "" }) {
			d.Add(doc.Line{doc.Plain("  "), doc.Strong("bellwether route --drop-bridges"), doc.Plain(" goes to where they are no longer needed")})
		}
	}
	if len(s.Advisories) > 0 {
		d.Add(
			doc.Gap{},
			doc.Heading{
				Title: "known vulnerabilities",
				Note:  doc.Count(len(s.Advisories), "record affects", "records affect") + " what is locked",
			},
			advisoryGrid(s.Advisories),
		)
	}
	if len(s.Unread) > 0 {
		var notes doc.List
		for _, text := range s.Unread {
			notes = append(notes, doc.Line{doc.Warn(text)})
		}
		d.Add(doc.Gap{}, notes)
	}
	return o.show("survey", s, d)
}

func bridgeGrid(all []output.SurveyBridge) doc.Grid {
	g := doc.Grid{Columns: []string{"package", "what", "at", "since", "it stays", "because"}}
	for _, b := range all {
		stays := doc.Faint(b.Waits)
		if b.Goes != "" {
			stays = doc.Good("it can go now: " + b.Goes)
		}
		g.Row(doc.Usual(b.Name), doc.Usual(b.Kind), doc.Usual(b.At), doc.Faint(b.Since), stays, doc.Faint(b.Because))
	}
	return g
}

func advisoryGrid(all []output.SurveyAdvisory) doc.Grid {
	g := doc.Grid{Columns: []string{"package", "locked", "fixed in", "record", "", "asked for", "by way of"}}
	for _, a := range all {
		fixed := doc.Good(a.Fixed)
		if a.Fixed == "" {
			fixed = doc.Bad("not known")
		}
		id := a.ID
		if a.Rating != "" {
			id += " (" + doc.Clipped(a.Rating) + ")"
		}
		g.Row(
			doc.Usual(a.Name), doc.Bad(a.Version), fixed, doc.Usual(id), doc.Usual(a.Summary), doc.Faint(a.Place),
			doc.Faint(strings.Join(a.Via, ", ")),
		)
	}
	return g
}

// remarkStyle is how urgent a remark is.
func remarkStyle(r output.SurveyRemark) doc.Style {
	if r.On != "" && r.Days > 0 {
		return doc.StyleWarn
	}
	return doc.StyleBad
}

// pinGrid has a row for each place, and the subject in the first of its rows.
func pinGrid(all []output.SurveyPins) doc.Grid {
	g := doc.Grid{Columns: []string{"subject", "stated", "where", "installed"}}
	for _, p := range all {
		subject, installed := p.Subject, p.Installed
		for _, s := range p.Stated {
			stated := doc.Styled(s.Range, doc.StyleUsual)
			if s.Floating {
				stated = doc.Faint(s.Range + " (whatever is newest)")
			}
			switch {
			case s.Unknown != "":
				stated = doc.Warn(s.Range + " (not known: " + s.Unknown + ")")
			case s.Among:
				stated.Text += " (one of several)"
			case s.Assumed:
				stated.Text += " (assumed when resolving)"
			case s.Digest:
				stated.Text += " (with a digest)"
			}
			g.Row(doc.Usual(subject), stated, doc.Faint(s.Place), doc.Usual(installed))
			subject, installed = "", ""
		}
	}
	return g
}

// memberOf is the folder of the member whose requirement it is, "" for the component's own.
func memberOf(c output.SurveyComponent, r output.SurveyRequirement) string {
	file, _, _ := strings.Cut(r.Place, ":")
	dir := path.Dir(file)
	if dir == c.Dir || file == "" {
		return ""
	}
	return strings.TrimPrefix(dir, c.Dir+"/")
}

// age is how much newer the newest is, behind a word; "" below two months, or where it is
// not known.
func age(r output.SurveyRequirement, word string) string {
	const month = 30 * 24 * time.Hour
	apart := r.NewestPublished.Sub(r.Published)
	switch months := int(apart / month); {
	case r.Published.IsZero() || r.NewestPublished.IsZero() || months < 2:
		return ""
	case months < 24:
		return word + fmt.Sprintf("%d months", months)
	default:
		return word + fmt.Sprintf("%d years", int((apart/(24*time.Hour)+182)/365))
	}
}

func surveyGrid(c output.SurveyComponent) doc.Grid {
	g := doc.Grid{Columns: []string{"package", "member", "stated", "locked", "newest fix", "within major", "newest", ""}}
	for _, r := range c.Requirements {
		note := doc.Span{}
		switch {
		case r.Problem != "":
			note = doc.Bad("cannot be asked for")
		case r.Fixed != "":
			note = doc.Faint(r.Fixed)
		case r.Replaced != "":
			note = doc.Bad("replaced by " + r.Replaced)
		case r.Retracted:
			note = doc.Bad("retracted")
		case r.Deprecated != "":
			note = doc.Bad("deprecated")
		case r.Majors > 0:
			note = doc.Warn(doc.Count(r.Majors, "major", "majors") + age(r, ", ") + " behind")
			switch {
			case r.Unfit != "" && r.Runtime != "":
				note.Text += "; the newest needs " + r.Runtime
			case r.Unfit != "":
				note.Text += "; the newest " + r.Unfit
			}
			if r.As != "" {
				note.Text += ", as " + r.As
			}
			if r.Needs != "" {
				note.Text += "; the newest needs " + r.Needs
			}
		case r.Unfit != "":
			note = doc.Warn("the newest " + r.Unfit)
		case r.Minor != "" && r.Needs != "":
			note = doc.Warn("the newest needs " + r.Needs)
		case r.Minor != "":
			note = doc.Styled("newer within its major"+age(r, ", by "), doc.StyleUsual)
		case r.Shunned != "":
			note = doc.Warn(r.Shunned + " is newer, but " + r.Against)
		case r.Preview != "":
			note = doc.Faint("only a pre-release is newer: " + r.Preview)
		case r.Locked != "":
			note = doc.Good("up to date")
		}
		patch := r.Patch
		if patch == r.Minor {
			patch = ""
		}
		name := r.Name
		switch r.Group {
		case "devDependencies":
			name += " (dev)"
		case "optionalDependencies":
			name += " (optional)"
		case "peerDependencies":
			name += " (peer)"
		case "indirect":
			name += " (indirect)"
		}
		if r.When != "" {
			name += " (if " + doc.Clipped(r.When) + ")"
		}
		locked := doc.Usual(r.Locked)
		if r.Locked == "" && r.Installs != "" {
			locked = doc.Faint(r.Installs + " now")
		}
		g.Row(
			doc.Usual(name), doc.Faint(memberOf(c, r)), doc.Faint(doc.Clipped(cmp.Or(r.Range, "any"))), locked, doc.Good(patch),
			doc.Good(r.Minor), doc.Warn(r.Major), note,
		)
	}
	return g
}

// called is what a component is called: its folder, or in the root what its manifest says.
func called(dir, name string) string {
	if dir == "." {
		return cmp.Or(name, "this folder")
	}
	return dir
}

// surveyNotes are what does not fit into the table.
func surveyNotes(c output.SurveyComponent) doc.List {
	var notes doc.List
	problems := map[string][]string{} // what is wrong, with what it is said of
	for _, r := range c.Requirements {
		if r.Problem != "" {
			problems[r.Problem] = append(problems[r.Problem], fmt.Sprintf("%s (%s)", r.Name, r.Place))
		}
	}
	for _, wrong := range slices.Sorted(maps.Keys(problems)) {
		notes = append(notes, doc.Line{doc.Bad(spelling.Few(problems[wrong], 3)), doc.Plain(": %s", wrong)})
	}
	for _, r := range c.Requirements {
		switch {
		case r.Retracted:
			text := " is retracted"
			if r.Because != "" {
				text += ": " + r.Because
			}
			notes = append(notes, doc.Line{doc.Bad(r.Name + " " + r.Locked), doc.Usual(text)})
		case r.Deprecated != "":
			notes = append(notes, doc.Line{doc.Bad(r.Name + " " + r.Locked), doc.Plain(" is deprecated: %s", r.Deprecated)})
		}
	}
	for _, f := range c.Companions {
		notes = append(notes, doc.Line{doc.Plain("usually moved together, as their numbers and days show: %s", strings.Join(f, ", "))})
	}
	for _, f := range c.Families {
		notes = append(notes, doc.Line{doc.Plain("released together, and moved in one leg: %s", strings.Join(f, ", "))})
	}
	return notes
}
