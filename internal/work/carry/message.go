package carry

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/harmless"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/spelling"
	"bellwether/internal/work/settings"
)

// maxSubject is how long the first line of a commit message may be, in letters.
const maxSubject = 71

// subjectLine is the first line of a leg's commit message, short enough for lists of commits.
func subjectLine(l output.LegResult) string {
	whole := []rune(subject(l))
	if len(whole) <= maxSubject {
		return string(whole)
	}
	return strings.TrimSpace(string(whole[:maxSubject-1])) + "…"
}

// subject tells what a leg does, and where, if that is not the project's own folder: legs of several components do the same.
func subject(l output.LegResult) string {
	text := deed(l)
	if l.Component != "" && l.Component != "." {
		text += " in " + l.Component
	}
	return text
}

func deed(l output.LegResult) string {
	if !strings.Contains(l.Title, " to ") || l.Title == "" {
		if slices.ContainsFunc(l.Moves, func(m output.MoveSummary) bool { return m.Name != "" && strings.HasPrefix(l.Title, m.Name+" ") }) {
			return l.Title // a name stays as it is written
		}
		first, size := utf8.DecodeRuneInString(l.Title)
		return string(unicode.ToUpper(first)) + l.Title[size:]
	}
	switch n := len(l.Moves) - 1; {
	case strings.Contains(l.Title, ": "): // it names what it moves
	case n > 1:
		return fmt.Sprintf("Move %s, with %d companions", l.Title, n)
	case n == 1:
		return fmt.Sprintf("Move %s, with 1 companion", l.Title)
	}
	return "Move " + l.Title
}

// lines is a text made line by line: what somebody else wrote begins no line of its own.
type lines struct{ strings.Builder }

func (l *lines) add(format string, args ...any) {
	l.WriteString(harmless.Line(fmt.Sprintf(format, args...)) + "\n")
}

// list adds a list with its heading; an empty one adds nothing.
func (l *lines) list(heading string, items []string) {
	for i, item := range items {
		if i == 0 {
			l.add("")
			l.add("%s:", heading)
		}
		l.add("- %s", item)
	}
}

// mostListed bounds how many packages a commit lists that only the lock has.
const mostListed = 40

// message is the commit's: what moved and why, and what was verified.
func (a *advance) message(r *finding.LegResult) string {
	b := &lines{}
	b.add("%s", subjectLine(r.Leg))
	b.add("")
	for _, m := range r.Leg.Moves {
		text := fmt.Sprintf("- %s %s to %s", m.Spoken(), cmp.Or(m.From, "(new)"), m.To)
		if m.Because != "" {
			text += ": " + m.Because
		}
		b.add("%s", text)
	}
	b.list("Notes", r.Leg.Notes)
	repairs(b, r.Leg.Repairs)
	var keys []string
	for _, k := range r.Leg.Keys {
		keys = append(keys, k.String())
	}
	b.list("Keys of configuration", keys)
	if n := len(r.Leg.Carried); n > 0 && len(r.Leg.Moves) == 0 {
		for _, m := range r.Leg.Carried[:min(n, mostListed)] {
			b.add("- %s %s to %s", m.Spoken(), cmp.Or(m.From, "(new)"), cmp.Or(m.To, "(gone)"))
		}
		if n > mostListed {
			b.add("- and %d more", n-mostListed)
		}
	} else if n > 0 {
		b.add("")
		b.add("Other packages that move along: %d.", n)
	}
	b.add("")
	b.add("%s", verified(r))
	b.add("")
	b.add("Leg %s of the route to %s.", r.Leg.ID, strings.Join(a.file.Destination, ", "))
	b.trailers(r, a.file.Destination)
	return b.String()
}

// verified says what was run for the leg, and what came of the tests.
func verified(r *finding.LegResult) string {
	var stages, told []string
	for _, s := range r.Verification.Stages {
		if s.Status == finding.Passed && s.Kept == "" && s.Name != settings.StageClean && !slices.Contains(stages, s.Name) {
			stages = append(stages, s.Name)
		}
	}
	text := "Nothing was run"
	if len(r.Leg.Unverified) > 0 {
		text = "Not verified: " + strings.Join(r.Leg.Unverified, "; ")
		if len(stages) > 0 {
			text += ". What ran from clean: " + strings.Join(stages, ", ")
		}
	} else if len(stages) > 0 {
		text = "Verified from clean: " + strings.Join(stages, ", ")
	}
	if passed, failed := r.Verification.Count(); passed+failed > 0 {
		text += fmt.Sprintf("; %s passed", spelling.Count(passed, "test", "tests"))
		if failed > 0 {
			text += fmt.Sprintf(", %d failed as before", failed)
		}
	}
	for _, s := range r.Verification.Stages {
		if s.Kept != "" && !slices.Contains(told, s.Component) {
			told = append(told, s.Component)
			where := s.Component
			if where == "." || where == "" {
				where = "the root folder"
			}
			text += fmt.Sprintf("; in %s nothing that it reads has changed since %s", where, s.Kept)
		}
	}
	return text + "."
}

// trailers are for machines, as git reads them (git-interpret-trailers).
func (l *lines) trailers(r *finding.LegResult, destination []string) {
	passed, failed := r.Verification.Count()
	l.add("")
	l.add("Route: %s", strings.Join(destination, ", "))
	l.add("Route-Leg: %s", r.Leg.ID)
	l.add("Verified-Tests: %d passed, %d failed", passed, failed)
	for _, why := range r.Leg.Unverified {
		l.add("Not-Verified: %s", why)
	}
}

// repairs are what rules changed for the leg, and what they left.
func repairs(b *lines, all []model.RepairResult) {
	var done, left []string
	for _, r := range all {
		if len(r.Files) > 0 {
			places, files := spelling.Count(len(r.Places), "place", "places"), spelling.Count(len(r.Files), "file", "files")
			done = append(done, fmt.Sprintf("%s: %s (%s in %s)", r.Rule, r.Says, places, files))
		}
		for _, l := range r.Left {
			left = append(left, l.Place+": "+l.Reason)
		}
	}
	b.list("Repaired by rules", done)
	b.list("Left to be done", left)
}
