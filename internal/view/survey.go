package view

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/output"
)

// Survey shows what is declared, locked and newer.
func (o Out) Survey(s *output.Survey) error {
	d := &document{}
	for i, c := range s.Components {
		if i > 0 {
			d.add(gap{})
		}
		title := c.Dir
		if title == "." {
			title = cmpOr(c.Name, "this folder")
		}
		lock := ", no lock"
		switch {
		case c.Lock != "":
			lock = ", locked in " + c.Lock
		case c.Lockless:
			lock = ""
		}
		declared := count(len(c.Requirements), "requirement", "requirements")
		if c.Indirect > 0 {
			declared += fmt.Sprintf(" and %d indirect", c.Indirect)
		}
		d.add(heading{title, fmt.Sprintf("%s, %s%s", c.Ecosystem, declared, lock)})
		d.add(surveyGrid(c))
		var rows list
		for _, n := range c.Notes {
			rows = append(rows, line{span{n, faint}})
		}
		for _, r := range c.Runtimes {
			if len(s.Pins) > 0 {
				break // they stand with those of other files
			}
			text := fmt.Sprintf("%s %s (%s)", r.Subject, r.Range, r.Place)
			if r.Installed != "" {
				text += ", installed is " + r.Installed
			}
			rows = append(rows, line{span{text, faint}})
		}
		if len(rows) > 0 {
			d.add(gap{}, rows)
		}
		if notes := surveyNotes(c); len(notes) > 0 {
			d.add(gap{}, notes)
		}
	}
	if len(s.Pins) > 0 {
		if len(s.Components) > 0 {
			d.add(gap{})
		}
		d.add(heading{"runtimes, tools and images", "as all files of the project state them"}, pinGrid(s.Pins))
		var notes list
		for _, p := range s.Pins {
			for _, text := range p.Disagree {
				notes = append(notes, line{span{p.Subject, bad}, plain(": %s", text)})
			}
			if p.Fix != "" {
				notes = append(notes, line{span{p.Subject, bad}, plain(": "), span{p.Fix, strong}, plain(" brings them together")})
			}
		}
		if len(notes) > 0 {
			d.add(gap{}, notes)
		}
	}
	if len(s.Remarks) > 0 {
		var notes list
		for _, r := range s.Remarks {
			row := line{span{r.Subject, remarkStyle(r)}, plain(" %s", r.Text)}
			if r.Because != "" {
				row = append(row, plain(": %s", strings.TrimSuffix(r.Because, ".")))
			}
			if r.Place != "" {
				row = append(row, span{" (" + r.Place + ")", faint})
			}
			if r.Fix != "" {
				row = append(row, plain("; %s", r.Fix))
			}
			notes = append(notes, row)
		}
		d.add(gap{}, heading{"what does not fit, and what ends", "by what packages state and compat books say"}, notes)
	}
	if len(s.Bridges) > 0 {
		d.add(gap{}, heading{"bridges", "temporary measures that legs took"}, bridgeGrid(s.Bridges))
		if slices.ContainsFunc(s.Bridges, func(b output.SurveyBridge) bool { return b.Goes != "" }) {
			d.add(line{plain("  "), span{"bellwether route --drop-bridges", strong}, plain(" goes to where they are no longer needed")})
		}
	}
	if len(s.Advisories) > 0 {
		d.add(
			gap{}, heading{"known vulnerabilities", count(len(s.Advisories), "record affects", "records affect") + " what is locked"},
			advisoryGrid(s.Advisories),
		)
	}
	if len(s.Unread) > 0 {
		var notes list
		for _, text := range s.Unread {
			notes = append(notes, line{span{text, warn}})
		}
		d.add(gap{}, notes)
	}
	return o.show("survey", s, d)
}

func bridgeGrid(all []output.SurveyBridge) grid {
	g := grid{columns: []string{"package", "what", "at", "since", "it stays", "because"}}
	for _, b := range all {
		stays := span{b.Waits, faint}
		if b.Goes != "" {
			stays = span{"it can go now: " + b.Goes, good}
		}
		g.rows = append(
			g.rows, line{plain("%s", b.Name), plain("%s", b.Kind), plain("%s", b.At), span{b.Since, faint}, stays, span{b.Because, faint}},
		)
	}
	return g
}

func advisoryGrid(all []output.SurveyAdvisory) grid {
	g := grid{columns: []string{"package", "locked", "fixed in", "record", "", "asked for", "by way of"}}
	for _, a := range all {
		fixed := span{a.Fixed, good}
		if a.Fixed == "" {
			fixed = span{"not known", bad}
		}
		id := a.ID
		if a.Severity != "" && len(a.Severity) < 12 {
			id += " (" + strings.ToLower(a.Severity) + ")"
		}
		g.rows = append(
			g.rows,
			line{
				plain("%s", a.Name), span{a.Version, bad}, fixed, plain("%s", id), plain("%s", a.Summary), span{a.Place, faint},
				span{strings.Join(a.Via, ", "), faint},
			},
		)
	}
	return g
}

// remarkStyle is how urgent a remark is.
func remarkStyle(r output.SurveyRemark) style {
	if r.On != "" && r.Days > 0 {
		return warn
	}
	return bad
}

// pinGrid has a row for each place, and the subject in the first of its rows.
func pinGrid(all []output.SurveyPins) grid {
	g := grid{columns: []string{"subject", "stated", "where", "installed"}}
	for _, p := range all {
		subject, installed := p.Subject, p.Installed
		for _, s := range p.Stated {
			stated := span{s.Range, usual}
			if s.Floating {
				stated = span{s.Range + " (whatever is newest)", faint}
			}
			switch {
			case s.Unknown != "":
				stated = span{s.Range + " (not known: " + s.Unknown + ")", warn}
			case s.Among:
				stated.text += " (one of several)"
			case s.Assumed:
				stated.text += " (assumed when resolving)"
			case s.Digest:
				stated.text += " (with a digest)"
			}
			g.rows = append(g.rows, line{plain("%s", subject), stated, span{s.Place, faint}, plain("%s", installed)})
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

// clipped is a text as far as a table has room for it.
func clipped(text string) string {
	const most = 60
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most]) + "…"
	}
	return text
}

func surveyGrid(c output.SurveyComponent) grid {
	g := grid{columns: []string{"package", "member", "stated", "locked", "newest fix", "within major", "newest", ""}}
	for _, r := range c.Requirements {
		note := span{}
		switch {
		case r.Problem != "":
			note = span{"cannot be asked for", bad}
		case r.Fixed != "":
			note = span{r.Fixed, faint}
		case r.Replaced != "":
			note = span{"replaced by " + r.Replaced, bad}
		case r.Retracted:
			note = span{"retracted", bad}
		case r.Deprecated != "":
			note = span{"deprecated", bad}
		case r.Majors > 0:
			note = span{count(r.Majors, "major", "majors") + age(r, ", ") + " behind", warn}
			switch {
			case r.Unfit != "" && r.Runtime != "":
				note.text += "; the newest needs " + r.Runtime
			case r.Unfit != "":
				note.text += "; the newest " + r.Unfit
			}
			if r.As != "" {
				note.text += ", as " + r.As
			}
			if r.Needs != "" {
				note.text += "; the newest needs " + r.Needs
			}
		case r.Minor != "" && r.Unfit != "":
			note = span{"the newest " + r.Unfit, warn}
		case r.Minor != "" && r.Needs != "":
			note = span{"the newest needs " + r.Needs, warn}
		case r.Minor != "":
			note = span{"newer within its major" + age(r, ", by "), usual}
		case r.Shunned != "":
			note = span{r.Shunned + " is newer, but " + r.Against, warn}
		case r.Preview != "":
			note = span{"only a pre-release is newer: " + r.Preview, faint}
		case r.Locked != "":
			note = span{"up to date", good}
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
			name += " (if " + r.When + ")"
		}
		locked := plain("%s", r.Locked)
		if r.Locked == "" && r.Installs != "" {
			locked = span{r.Installs + " now", faint}
		}
		g.rows = append(
			g.rows,
			line{
				plain("%s", name), span{memberOf(c, r), faint}, span{clipped(cmpOr(r.Range, "any")), faint}, locked, span{patch, good},
				span{r.Minor, good}, span{r.Major, warn}, note,
			},
		)
	}
	return g
}

// surveyNotes are what does not fit into the table.
func surveyNotes(c output.SurveyComponent) list {
	var notes list
	for _, r := range c.Requirements {
		switch {
		case r.Problem != "":
			notes = append(notes, line{span{r.Name, bad}, plain(" (%s): %s", r.Place, r.Problem)})
		case r.Retracted:
			text := " is retracted"
			if r.Because != "" {
				text += ": " + r.Because
			}
			notes = append(notes, line{span{r.Name + " " + r.Locked, bad}, plain("%s", text)})
		case r.Deprecated != "":
			notes = append(notes, line{span{r.Name + " " + r.Locked, bad}, plain(" is deprecated: %s", r.Deprecated)})
		}
	}
	for _, f := range c.Companions {
		notes = append(notes, line{plain("usually moved together, as their numbers and days show: %s", strings.Join(f, ", "))})
	}
	for _, f := range c.Families {
		notes = append(notes, line{plain("released together, and moved in one leg: %s", strings.Join(f, ", "))})
	}
	return notes
}
