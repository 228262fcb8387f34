package view

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
)

// Out is where and how results are shown.
type Out struct {
	W      io.Writer
	Format Format
	Colour bool
}

func (o Out) show(schema string, v any, d *document) error {
	return show(o.W, o.Format, o.Colour, schema, v, d)
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// Survey shows what is declared, locked and newer.
func (o Out) Survey(s *model.Survey) error {
	d := &document{}
	for i, c := range s.Components {
		if i > 0 {
			d.add(gap{})
		}
		title := c.Dir
		if title == "." {
			title = cmpOr(c.Name, "this folder")
		}
		lock := "no lock"
		if c.Lock != "" {
			lock = "locked in " + c.Lock
		}
		declared := count(len(c.Requirements), "requirement", "requirements")
		if c.Indirect > 0 {
			declared += fmt.Sprintf(" and %d indirect", c.Indirect)
		}
		d.add(heading{title, fmt.Sprintf("%s, %s, %s", c.Ecosystem, declared, lock)})
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
		if slices.ContainsFunc(s.Bridges, func(b model.SurveyBridge) bool { return b.Goes != "" }) {
			d.add(line{plain("  "), span{"bellwether route --drop-bridges", strong}, plain(" goes to where they are no longer needed")})
		}
	}
	if len(s.Advisories) > 0 {
		d.add(gap{}, heading{"known vulnerabilities", count(len(s.Advisories), "record affects", "records affect") + " what is locked"}, advisoryGrid(s.Advisories))
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

func bridgeGrid(all []model.SurveyBridge) grid {
	g := grid{columns: []string{"package", "what", "at", "since", "it stays", "because"}}
	for _, b := range all {
		stays := span{b.Waits, faint}
		if b.Goes != "" {
			stays = span{"it can go now: " + b.Goes + " is released", good}
		}
		g.rows = append(g.rows, line{plain("%s", b.Name), plain("%s", b.Kind), plain("%s", b.At), span{b.Since, faint}, stays, span{b.Because, faint}})
	}
	return g
}

func advisoryGrid(all []model.SurveyAdvisory) grid {
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
		g.rows = append(g.rows, line{plain("%s", a.Name), span{a.Version, bad}, fixed, plain("%s", id), plain("%s", a.Summary), span{a.Place, faint}, span{strings.Join(a.Via, ", "), faint}})
	}
	return g
}

// remarkStyle is how urgent a remark is.
func remarkStyle(r model.SurveyRemark) style {
	if r.On != "" && r.Days > 0 {
		return warn
	}
	return bad
}

// pinGrid has a row for each place, and the subject in the first of its rows.
func pinGrid(all []model.SurveyPins) grid {
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

func surveyGrid(c model.SurveyComponent) grid {
	g := grid{columns: []string{"package", "stated", "locked", "newest fix", "within major", "newest", ""}}
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
			note = span{count(r.Majors, "major", "majors") + " behind", warn}
			if r.Unfit != "" {
				note.text += "; the newest needs " + r.Runtime
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
			note = span{"newer within its major", usual}
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
		g.rows = append(g.rows, line{plain("%s", name), span{cmpOr(r.Range, `""`), faint}, plain("%s", r.Locked), span{patch, good}, span{r.Minor, good}, span{r.Major, warn}, note})
	}
	return g
}

// surveyNotes are what does not fit into the table.
func surveyNotes(c model.SurveyComponent) list {
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
	for _, f := range c.Families {
		notes = append(notes, line{plain("released together, and moved in one leg: %s", strings.Join(f, ", "))})
	}
	return notes
}

func cmpOr(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// Explain shows why a package is where it is, or why it cannot be elsewhere.
func (o Out) Explain(all []model.Explanation) error {
	d := &document{}
	for i, e := range all {
		if i > 0 {
			d.add(gap{})
		}
		explainOne(d, e)
	}
	return o.show("explain", struct {
		Explanations []model.Explanation `json:"explanations"`
	}{all}, d)
}

// shownReleases is how many releases are listed.
const shownReleases = 8

func explainOne(d *document, e model.Explanation) {
	where := ""
	if e.Component != "." {
		where = "in " + e.Component
	}
	switch {
	case e.Version == "":
		d.add(heading{e.Name, where})
		for _, c := range e.Locked {
			d.add(line{plain("  is at "), span{c.Version, strong}, span{" in " + c.Where, faint}, plain(", because")})
			var askers list
			for _, a := range c.Askers {
				askers = append(askers, line{plain("  %s", a)})
			}
			d.add(askers)
		}
		if len(e.Locked) == 0 {
			d.add(line{plain("  is not locked")})
		}
		g := grid{columns: []string{"newest releases", "published", "states", ""}}
		for _, r := range e.Releases[:min(len(e.Releases), shownReleases)] {
			date := ""
			if !r.Published.IsZero() {
				date = r.Published.Format(time.DateOnly)
			}
			note := span{}
			if r.Deprecated != "" {
				note = span{"deprecated: " + r.Deprecated, bad}
			} else if slices.ContainsFunc(e.Locked, func(c model.LockedCopy) bool { return c.Version == r.Version }) {
				note = span{"locked", good}
			}
			g.rows = append(g.rows, line{plain("%s", r.Version), span{date, faint}, plain("%s", r.Runtime), note})
		}
		d.add(gap{}, g)
	case e.Possible && len(e.Moves) == 0:
		d.add(line{plain("%s@%s is what is there already.", e.Name, e.Version)})
	case e.Possible:
		d.add(heading{fmt.Sprintf("%s@%s is possible", e.Name, e.Version), where}, line{plain("These would move:")}, moveGrid(e.Moves))
	default:
		d.add(heading{fmt.Sprintf("%s@%s is not possible", e.Name, e.Version), where}, proofList(e.Proof))
	}
}

func proofList(lines []string) list {
	var l list
	for i, text := range lines {
		s := usual
		if i == len(lines)-1 {
			s = bad
		}
		l = append(l, line{span{text, s}})
	}
	return l
}

func moveGrid(moves []model.MoveSummary) grid {
	g := grid{columns: []string{"package", "from", "to", "because"}}
	if slices.ContainsFunc(moves, isPin) {
		g.columns[0] = "what"
	}
	for _, m := range moves {
		to := span{m.To, good}
		if m.To == "" {
			to = span{"goes away", faint}
		}
		from := m.From
		if from == "" {
			from = "new"
		}
		because := m.Because
		if m.Becomes != "" {
			because += ", as " + m.Becomes
		}
		g.rows = append(g.rows, line{plain("%s", m.Name), span{from, faint}, to, span{because, faint}})
	}
	return g
}

// isPin tells whether a move is of a runtime, tool, platform or image.
func isPin(m model.MoveSummary) bool {
	s, ok := model.ReadSubject(m.Name)
	return ok && s.IsPin()
}

// placesOf are the places of runtimes, tools and images that move, a line each;
// of a package it is the manifest.
func placesOf(moves []model.MoveSummary) list {
	var all list
	for _, m := range moves {
		if !isPin(m) || len(m.Places) == 0 {
			continue
		}
		var files []string
		for _, place := range m.Places {
			file, number, _ := strings.Cut(place, ":")
			switch at := slices.IndexFunc(files, func(f string) bool { return strings.HasPrefix(f, file+":") }); {
			case at < 0:
				files = append(files, place)
			case !slices.Contains(strings.Split(files[at], ":"), number):
				files[at] += ":" + number
			}
		}
		slices.Sort(files)
		for i, f := range files {
			file, numbers, _ := strings.Cut(f, ":")
			lines := strings.Split(numbers, ":")
			slices.SortFunc(lines, func(a, b string) int { return cmp.Or(len(a)-len(b), strings.Compare(a, b)) })
			files[i] = file + ":" + strings.Join(lines, ",")
		}
		all = append(all, line{span{"in " + strings.Join(files, ", "), faint}})
	}
	return all
}

// Route shows the legs of a computed route.
func (o Out) Route(r *model.RouteResult) error {
	d := &document{}
	if len(r.Legs) == 0 {
		d.add(line{span{"Nothing to do: ", good}, plain("the project is where it was asked to go.")})
	} else {
		d.add(heading{count(len(r.Legs), "leg", "legs") + " to " + strings.Join(r.Destination, ", "), "kept in " + r.File})
	}
	components := map[string]bool{}
	for _, l := range r.Legs {
		if l.Component != "" {
			components[l.Component] = true
		}
	}
	for _, l := range r.Legs {
		d.add(gap{}, legHeading(l, len(components) > 1))
		for _, s := range l.Steps {
			d.add(list{{plain("%s", s.Text)}, {span{"because " + s.Because, faint}}})
		}
		if len(l.Moves) > 0 {
			d.add(moveGrid(l.Moves), placesOf(l.Moves))
		}
		if n := len(l.Carried); n > 0 {
			d.add(line{span{"  and " + count(n, "package", "packages") + " in the lock: " + carriedNames(l.Carried), faint}})
		}
		for _, n := range l.Notes {
			d.add(line{span{"  " + n, warn}})
		}
	}
	if len(r.Notices) > 0 {
		d.add(gap{}, heading{"To know", ""})
		var notes list
		for _, n := range r.Notices {
			notes = append(notes, line{span{n, warn}})
		}
		d.add(notes)
	}
	if len(r.Legs) > 0 {
		d.add(gap{}, line{plain("next: "), span{"bellwether advance", strong}, plain(" carries out the first leg, "), span{"--all", strong}, plain(" all of them")})
	}
	return o.show("route", r, d)
}

func legHeading(l model.LegResult, several bool) heading {
	note := ""
	if several && l.Component != "" {
		note = "in " + l.Component
	}
	return heading{"leg " + l.ID + ": " + l.Title, note}
}

// carriedShown is how many carried packages are named.
const carriedShown = 6

func carriedNames(moves []model.MoveSummary) string {
	var names []string
	for _, m := range moves[:min(len(moves), carriedShown)] {
		switch {
		case m.From == "":
			names = append(names, m.Name+" "+m.To+" (new)")
		case m.To == "":
			names = append(names, m.Name+" (gone)")
		default:
			names = append(names, m.Name+" "+m.To)
		}
	}
	if n := len(moves) - len(names); n > 0 {
		names = append(names, fmt.Sprintf("and %d more", n))
	}
	return strings.Join(names, ", ")
}

// Leg shows what came of carrying out a leg.
func (o Out) Leg(r *finding.LegResult) error {
	d := &document{}
	d.add(legHeading(r.Leg, r.Leg.Component != "."), moveGrid(r.Leg.Moves), placesOf(r.Leg.Moves))
	for _, n := range r.Leg.Notes {
		d.add(line{span{"  " + n, warn}})
	}
	if n := len(r.Leg.Carried); n > 0 {
		d.add(line{span{"  and " + count(n, "package", "packages") + " in the lock: " + carriedNames(r.Leg.Carried), faint}})
	}
	d.add(gap{})
	verification(d, r.Verification)
	comparison(d, &r.Comparison)
	switch {
	case r.Done && r.Commit != "":
		d.add(line{span{"done", good}, plain(", %s, committed as %.10s; %s to go", tests(r.Verification), r.Commit, count(r.Left, "leg", "legs"))})
	case r.Done:
		d.add(line{span{"done", good}, plain(", %s; %s to go", tests(r.Verification), count(r.Left, "leg", "legs"))})
	default:
		d.add(line{span{"not done", bad}, plain(": the leg's changes are in the working tree, nothing is committed")},
			line{plain("next: repair what fails and run "), span{"bellwether advance", strong}, plain(" again, or take the leg back with "), span{"bellwether undo", strong}})
	}
	return o.show("leg", r, d)
}

// tests sums a verification up that is good enough.
func tests(v *finding.Verification) string {
	passed, failed := v.Count()
	switch {
	case len(v.Stages) == 0:
		return "nothing was verified, since there is no stage here"
	case passed+failed == 0 && !v.Green():
		return "nothing worse than before"
	case passed+failed == 0:
		return "all stages passed"
	case failed == 0:
		return count(passed, "test", "tests") + " passed"
	}
	return fmt.Sprintf("%s passed, %d failed as before", count(passed, "test", "tests"), failed)
}

// Verify shows a verification.
func (o Out) Verify(r *finding.Result) error {
	d := &document{}
	verification(d, r.Verification)
	if r.Comparison != nil {
		comparison(d, r.Comparison)
	} else {
		comparison(d, failuresOf(r.Verification))
	}
	passed, failed := r.Count()
	switch {
	case r.Green():
		d.add(line{span{"green", good}, plain(": %s", tests(r.Verification))})
	case passed+failed > 0:
		d.add(line{span{"not green", bad}, plain(": %s passed, %d failed", count(passed, "test", "tests"), failed)})
	default:
		d.add(line{span{"not green", bad}})
	}
	if r.IsBaseline {
		d.add(line{span{"kept as the baseline that legs are compared with", faint}})
	}
	return o.show("verify", r, d)
}

// failuresOf tells the failures of a verification that nothing is compared to.
func failuresOf(v *finding.Verification) *finding.Comparison {
	c := finding.Compare(&finding.Verification{}, v)
	c.StillFailing, c.NewlyFailing = c.NewlyFailing, nil
	return &c
}

var statusStyle = map[finding.Status]style{
	finding.Passed: good, finding.Failed: bad, finding.TimedOut: bad, finding.Skipped: faint, finding.NotRun: faint,
}

func verification(d *document, v *finding.Verification) {
	g := grid{columns: []string{"component", "stage", "", "took", "tests", ""}}
	several := slices.ContainsFunc(v.Stages, func(s finding.Stage) bool { return s.Component != "." })
	for _, s := range v.Stages {
		one := finding.Verification{Stages: []finding.Stage{s}}
		passed, failed := one.Count()
		count := ""
		if passed+failed > 0 {
			count = fmt.Sprintf("%d passed, %d failed", passed, failed)
		}
		component, took := "", ""
		if several {
			component = s.Component
		}
		if s.Duration > 0 {
			took = fmt.Sprintf("%.1f s", s.Duration.Seconds())
		}
		why := s.Why
		if s.Optional && s.Status != finding.Passed {
			why += " (optional)"
		}
		if s.Status == finding.Failed && s.Log != "" {
			why += ", log: " + s.Log
		}
		g.rows = append(g.rows, line{plain("%s", component), plain("%s", s.Name), span{string(s.Status), statusStyle[s.Status]}, span{took, faint}, plain("%s", count), span{why, faint}})
	}
	d.add(g, gap{})
}

func comparison(d *document, c *finding.Comparison) {
	part := func(title string, s style, rows []line) {
		if len(rows) == 0 {
			return
		}
		d.add(line{span{title, s}}, list(rows), gap{})
	}
	failing := func(tests []finding.Test) (rows []line) {
		for _, t := range tests {
			row := line{plain("%s", t.Name)}
			if t.Message != "" {
				row = append(row, plain(": %s", t.Message))
			}
			if t.Place != "" {
				row = append(row, span{" (" + t.Place + ")", faint})
			}
			rows = append(rows, row)
		}
		return rows
	}
	names := func(list []string) (rows []line) {
		for _, n := range list {
			rows = append(rows, line{plain("%s", n)})
		}
		return rows
	}
	part("fails, and did not before:", bad, failing(c.NewlyFailing))
	part("no longer runs:", bad, names(c.Vanished))
	part("fails:", warn, failing(c.StillFailing))
	part("passes, and did not before:", good, names(c.NewlyPassing))
	var said list
	for _, f := range c.NewFindings {
		said = append(said, line{span{f.Text, warn}, plain(" (%s)", f.Place)})
	}
	part("is said of the sources now, and was not before:", warn, said)
	for _, s := range c.BrokenStages {
		d.add(line{span{fmt.Sprintf("%s %s", s.Name, s.Status), bad}, plain(": %s", strings.Join(s.Command, " "))}, code(s.Tail), gap{})
	}
}

// Status shows where a project is on its route.
func (o Out) Status(s *model.StatusResult) error {
	d := &document{}
	if len(s.Destination) > 0 {
		note := ""
		if s.Branch != "" {
			note = "on branch " + s.Branch
		}
		d.add(heading{"on the way to " + strings.Join(s.Destination, ", "), note})
		g := grid{columns: []string{"leg", "moves", "", ""}}
		styles := map[string]style{"done": good, "repair": bad, "next": strong, "waiting": faint}
		for _, l := range s.Legs {
			commit := ""
			if l.Commit != "" {
				commit = fmt.Sprintf("%.10s", l.Commit)
			}
			g.rows = append(g.rows, line{plain("%s", l.ID), plain("%s", l.Title), span{l.Status, styles[l.Status]}, span{commit, faint}})
		}
		d.add(g, gap{})
	}
	d.add(line{plain("next: %s", s.Next)})
	return o.show("status", s, d)
}

// Conflict shows the proof that a destination cannot be reached.
// ways are what would do instead.
func (o Out) Conflict(title string, proof []model.ProofStep, ways []model.WayOut) error {
	d := &document{}
	lines := make([]string, len(proof))
	for i, s := range proof {
		lines[i] = s.Line
	}
	d.add(heading{title, ""}, proofList(lines))
	if len(ways) > 0 {
		var rows list
		for i, w := range ways {
			row := line{plain("%d. %s: ", i+1, w.Text), span{w.Option, strong}}
			var more []string
			switch n := len(w.Moves); {
			case n > 3:
				more = append(more, fmt.Sprintf("moves %s and %d more besides", strings.Join(w.Moves[:2], ", "), n-2))
			case n > 0:
				more = append(more, "moves "+strings.Join(w.Moves, ", ")+" besides")
			}
			if w.Risk != "" {
				more = append(more, w.Risk)
			}
			if len(more) > 0 {
				row = append(row, span{" (" + strings.Join(more, "; ") + ")", faint})
			}
			rows = append(rows, row)
		}
		d.add(gap{}, line{plain("What would do instead, each tried; "), span{"--take NUMBER", strong}, plain(" goes that way:")}, rows)
	}
	return o.show("conflict", struct {
		Title string            `json:"title"`
		Proof []string          `json:"proof"`
		Steps []model.ProofStep `json:"steps"`
		Ways  []model.WayOut    `json:"ways,omitempty"`
	}{title, lines, proof, ways}, d)
}
