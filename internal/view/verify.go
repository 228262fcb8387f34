package view

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/finding"
	"bellwether/internal/view/doc"
)

// tests sums a verification up that is good enough.
func tests(v *finding.Verification) string {
	passed, failed := v.Count()
	switch {
	case passed+failed == 0 && v.Green() && v.Untried() != "":
		return v.Untried()
	case passed+failed == 0 && !v.Green():
		return "nothing worse than before"
	case passed+failed == 0 && !ran(v, "test"):
		return "all stages passed, and nothing was tested"
	case passed+failed == 0:
		return "all stages passed, and no test was seen in what they said"
	case failed == 0:
		return doc.Count(passed, "test", "tests") + " passed"
	}
	return fmt.Sprintf("%s passed, %d failed as before", doc.Count(passed, "test", "tests"), failed)
}

// ran tells whether a stage of a name ran in some component.
func ran(v *finding.Verification, name string) bool {
	return slices.ContainsFunc(v.Stages, func(s finding.Stage) bool {
		return s.Name == name && s.Status != finding.Skipped && s.Status != finding.NotRun
	})
}

// Verify shows a verification.
func (o Out) Verify(r *finding.Result) error {
	d := &doc.Document{}
	verification(d, r.Verification)
	c := r.Comparison
	if c == nil {
		c = failuresOf(r.Verification)
	}
	comparison(d, c)
	if r.Deprecations != nil {
		deprecations(d, r.Deprecations)
	} else if r.Comparison == nil {
		said(d, r.Findings())
	}
	passed, failed := r.Count()
	switch {
	case r.Green():
		d.Add(doc.Line{doc.Good("green"), doc.Plain(": %s", tests(r.Verification))})
	case passed+failed > 0:
		d.Add(doc.Line{doc.Bad("not green"), doc.Plain(": %s passed, %d failed", doc.Count(passed, "test", "tests"), failed)})
	default:
		d.Add(doc.Line{doc.Bad("not green")})
	}
	if r.OverLimit() {
		n := finding.OwnCount(r.Findings(), finding.Deprecation)
		d.Add(
			doc.Line{
				doc.Bad("over the limit"),
				doc.Plain(": own code uses %s, and bellwether.yaml allows %d", doc.Count(n, "deprecated thing", "deprecated things"), *r.Limit),
			},
		)
	}
	if r.IsBaseline {
		d.Add(doc.Line{doc.Faint("kept as the baseline that legs are compared with")})
	}
	return o.show("verify", r, d)
}

// said counts the warnings and deprecations of a verification that is compared to
// nothing.
func said(d *doc.Document, all []finding.Finding) {
	var parts []string
	for _, kind := range []struct {
		of        finding.Kind
		one, many string
	}{{finding.Warning, "warning", "warnings"}, {finding.Deprecation, "deprecation", "deprecations"}} {
		causes := finding.Causes(all, kind.of)
		own := 0
		for _, c := range causes {
			if c.Own() {
				own++
			}
		}
		switch n := len(causes); {
		case n == 0:
		case own == n:
			parts = append(parts, doc.Count(n, kind.one, kind.many)+" in own code")
		case own == 0:
			parts = append(parts, doc.Count(n, kind.one, kind.many)+" from packages")
		default:
			parts = append(parts, fmt.Sprintf("%s, %d of them in own code", doc.Count(n, kind.one, kind.many), own))
		}
	}
	if len(parts) > 0 {
		d.Add(doc.Line{doc.Faint("said besides: " + strings.Join(parts, "; "))})
	}
}

// deprecations lists what is deprecated, by cause.
func deprecations(d *doc.Document, causes []finding.Cause) {
	if len(causes) == 0 {
		d.Add(doc.Line{doc.Plain("nothing is said to be deprecated")}, doc.Gap{})
		return
	}
	own := slices.IndexFunc(causes, func(c finding.Cause) bool { return !c.Own() })
	if own < 0 {
		own = len(causes)
	}
	part := func(title, note string, list []finding.Cause, third string) {
		if len(list) == 0 {
			return
		}
		g := doc.Grid{Columns: []string{"times", "what", third, ""}}
		for _, c := range list {
			text := c.Text
			if c.Code != "" {
				text += " [" + c.Code + "]"
			}
			where, more := c.Place, ""
			if !c.Own() {
				where = strings.TrimSpace(c.Package + " " + c.Version)
				if more = "no release without it is known"; c.Cure != "" {
					more = "newer: " + c.Cure
				}
				if c.Through != "" {
					more += ", by way of " + c.Through
				}
			} else if c.Places > 1 {
				more = fmt.Sprintf("and in %s", doc.Count(c.Places-1, "more file", "more files"))
			}
			g.Row(doc.Plain("%d", c.Count), doc.Warn(doc.Clipped(text)), doc.Usual(where), doc.Faint(more))
		}
		d.Add(doc.Heading{Title: title, Note: note}, g, doc.Gap{})
	}
	part("deprecated, in own code", doc.Count(own, "cause", "causes"), causes[:own], "first at")
	part("deprecated, in packages", doc.Count(len(causes)-own, "cause", "causes"), causes[own:], "package")
}

// failuresOf tells the failures of a verification that nothing is compared to.
func failuresOf(v *finding.Verification) *finding.Comparison {
	c := finding.Compare(&finding.Verification{}, v)
	c.StillFailing, c.NewlyFailing, c.NewFindings = c.NewlyFailing, nil, nil
	return &c
}

var statusStyle = map[finding.Status]doc.Style{
	finding.Passed: doc.StyleGood, finding.Failed: doc.StyleBad, finding.TimedOut: doc.StyleBad,
	finding.Skipped: doc.StyleFaint, finding.NotRun: doc.StyleFaint,
}

// namesOf are the names of stages, in their order.
func namesOf(stages []finding.Stage) string {
	names := make([]string, len(stages))
	for i, s := range stages {
		names[i] = s.Name
	}
	return strings.Join(names, ", ")
}

// verification shows the stages in a table.
func verification(d *doc.Document, v *finding.Verification) {
	g := doc.Grid{Columns: []string{"component", "stage", "", "took", "tests", ""}}
	several := slices.ContainsFunc(v.Stages, func(s finding.Stage) bool { return s.Component != "." })
	var notes doc.List
	for i := 0; i < len(v.Stages); i++ {
		s := v.Stages[i]
		component, took := "", ""
		if several {
			component = s.Component
		}
		if s.Kept != "" {
			same := i
			for same+1 < len(v.Stages) && v.Stages[same+1].Component == s.Component && v.Stages[same+1].Kept == s.Kept {
				same++
			}
			g.Row(
				doc.Usual(component), doc.Usual(namesOf(v.Stages[i:same+1])), doc.Faint("not run again"), doc.Plain(""),
				doc.Usual(testCount(v.Stages[i:same+1])), doc.Faint("nothing that it reads has changed since "+s.Kept),
			)
			i = same
			continue
		}
		tests := testCount(v.Stages[i : i+1])
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
		g.Row(
			doc.Usual(component), doc.Usual(s.Name), doc.Styled(string(s.Status), statusStyle[s.Status]), doc.Faint(took),
			doc.Usual(tests), doc.Faint(why),
		)
		if len(s.Touched) > 0 {
			notes = append(
				notes,
				doc.Line{doc.Warn(fmt.Sprintf("the stage %s changed files that are under version control: %s", s.Name, strings.Join(s.Touched, ", ")))},
			)
		}
		for _, n := range s.Notes {
			notes = append(notes, doc.Line{doc.Warn(n)})
		}
		if s.More > 0 {
			notes = append(notes, doc.Line{doc.Faint(fmt.Sprintf("the stage %s said %d more things than are kept", s.Name, s.More))})
		}
	}
	d.Add(g)
	for _, r := range v.Runtimes {
		text := fmt.Sprintf("%s %s ran%s", r.Name, r.Version, map[bool]string{true: " in " + r.Component}[several])
		if r.Where != "" {
			notes = append(notes, doc.Line{doc.Faint(text + ", from " + r.Where)})
		} else if len(r.Other) > 0 {
			notes = append(notes, doc.Line{doc.Warn(text + ", and files state another one: " + strings.Join(r.Other, ", "))})
		}
	}
	if len(notes) > 0 {
		d.Add(notes)
	}
	d.Add(doc.Gap{})
}

// testCount says how many tests of some stages passed and failed, "" where there are none.
func testCount(stages []finding.Stage) string {
	v := finding.Verification{Stages: stages}
	passed, failed := v.Count()
	if passed+failed == 0 {
		return ""
	}
	return fmt.Sprintf("%d passed, %d failed", passed, failed)
}

// maxShown is how many findings of one sort are shown; JSON has all.
const maxShown = 12

// comparison shows what is worse, what is better, and what is said now.
func comparison(d *doc.Document, c *finding.Comparison) {
	part := func(title string, s doc.Style, rows []doc.Line) {
		if len(rows) > 0 {
			d.Add(doc.Line{doc.Styled(title, s)}, doc.List(rows), doc.Gap{})
		}
	}
	part("fails, and did not before:", doc.StyleBad, testLines(c.NewlyFailing))
	part("no longer runs:", doc.StyleBad, nameLines(c.Vanished))
	var apart []doc.Line
	for _, difference := range c.Differences {
		apart = append(apart, doc.Line{doc.Usual(difference.String())})
	}
	part("is not at the version that the legs lead to:", doc.StyleBad, apart)
	part("fails:", doc.StyleWarn, testLines(c.StillFailing))
	part("failed, and passed when run once more:", doc.StyleWarn, testLines(c.Unstable))
	part("passes, and did not before:", doc.StyleGood, nameLines(c.NewlyPassing))
	for _, s := range c.BrokenStages {
		broken(d, s)
	}
	for _, kind := range finding.Kinds {
		title := map[finding.Kind]string{finding.Failure: "is said to be wrong now, and was not " +
			"before:", finding.Warning: "new warnings:", finding.Deprecation: "new deprecations:"}[kind]
		part(title, doc.StyleWarn, findingLines(finding.Of(c.NewFindings, kind)))
	}
	if n := len(c.GoneFindings); n > 0 && len(c.NewFindings)+n > 0 {
		d.Add(doc.Line{doc.Faint(doc.Count(n, "thing is", "things are") + " no longer said")})
	}
	slower(d, c.Times)
}

func testLines(tests []finding.Test) (rows []doc.Line) {
	for _, t := range tests {
		row := doc.Line{doc.Usual(t.Name)}
		cause := strings.Split(t.Message, "\n")
		if cause[0] != "" {
			row = append(row, doc.Plain(": %s", cause[0]))
		}
		if t.Place != "" {
			row = append(row, doc.Faint(" ("+t.Place+")"))
		}
		rows = append(rows, row)
		for _, more := range cause[1:] {
			rows = append(rows, doc.Line{doc.Faint("    " + more)})
		}
	}
	return rows
}

func nameLines(names []string) (rows []doc.Line) {
	for _, n := range names {
		rows = append(rows, doc.Line{doc.Usual(n)})
	}
	return rows
}

// findingLines are the causes of findings, with where each is said and whose it is.
func findingLines(all []finding.Finding) (rows []doc.Line) {
	if len(all) == 0 {
		return nil
	}
	causes := finding.Causes(all, all[0].Kind)
	for _, c := range causes[:min(len(causes), maxShown)] {
		text := c.Text
		if c.Code != "" {
			text += " [" + c.Code + "]"
		}
		row := doc.Line{doc.Warn(text)}
		if about := aboutFinding(c); about != "" {
			row = append(row, doc.Faint(" ("+about+")"))
		}
		rows = append(rows, row)
	}
	if n := len(causes) - maxShown; n > 0 {
		rows = append(rows, doc.Line{doc.Faint(fmt.Sprintf("and %d more; --format json has all", n))})
	}
	return rows
}

// aboutFinding says where a finding is, in which package, and how often.
func aboutFinding(c finding.Cause) string {
	var parts []string
	if c.Place != "" {
		parts = append(parts, c.Place)
	}
	if !c.Own() {
		parts = append(parts, "in "+inPackage(c.Package, c.Version, c.Through))
	}
	if c.Count > 1 {
		parts = append(parts, fmt.Sprintf("%d times", c.Count))
	}
	return strings.Join(parts, ", ")
}

func inPackage(name, version, through string) string {
	text := strings.TrimSpace(name + " " + version)
	if through != "" {
		text += ", by way of " + through
	}
	return text
}

// broken shows a stage that fails as a whole: the first cause, what is said to be
// wrong, and the end of what it printed.
func broken(d *doc.Document, s finding.Stage) {
	what := strings.Join(s.Command, " ")
	if s.Status == finding.Skipped { // by hand, and not done
		what = s.Why
	}
	d.Add(doc.Line{doc.Bad(fmt.Sprintf("%s %s", s.Name, s.Status)), doc.Plain(": %s", what)})
	if s.Crash != nil {
		cause := doc.Line{doc.Plain("first cause: "), doc.Bad(s.Crash.Text)}
		where := s.Crash.Place
		if s.Crash.Package != "" {
			where = strings.TrimPrefix(where+", in "+inPackage(s.Crash.Package, s.Crash.Version, s.Crash.Through), ", ")
		}
		if where != "" {
			cause = append(cause, doc.Faint(" ("+where+")"))
		}
		d.Add(doc.List{cause})
	}
	failures := slices.DeleteFunc(
		finding.Of(s.Findings, finding.Failure), func(f finding.Finding) bool { return s.Crash != nil && f.Text == s.Crash.Text },
	)
	if rows := findingLines(failures); len(rows) > 0 {
		d.Add(doc.List(rows))
	}
	d.Add(doc.Code(s.Tail), doc.Gap{})
}

const (
	// A stage that takes this much longer is worth a word: by factor, and at least
	// by so much.
	slowFactor = 1.5
	slowLeast  = 2 * time.Second
)

// slower tells of stages that take much longer than before.
func slower(d *doc.Document, times []finding.StageTime) {
	slowest := func(a, b finding.StageTime) int { return cmp.Compare(b.After-b.Before, a.After-a.Before) }
	for _, t := range slices.SortedFunc(slices.Values(times), slowest) {
		if t.After-t.Before >= slowLeast && float64(t.After) >= slowFactor*float64(t.Before) {
			d.Add(doc.Line{doc.Warn(fmt.Sprintf("the stage %s took %.1f s, and %.1f s before", t.Name, t.After.Seconds(), t.Before.Seconds()))})
		}
	}
}
