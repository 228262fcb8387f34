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
	"bellwether/internal/core/spelling"
	"bellwether/internal/work/settings"
)

// maxSubject is how long the first line of a commit message may be, in letters.
const maxSubject = 71

// subjectLine is the first line of a leg's commit message, short enough for lists of commits.
func subjectLine(l model.LegResult) string {
	whole := []rune(subject(l))
	if len(whole) <= maxSubject {
		return string(whole)
	}
	return strings.TrimSpace(string(whole[:maxSubject-1])) + "…"
}

func subject(l model.LegResult) string {
	if !strings.Contains(l.Title, " to ") || l.Title == "" {
		first, size := utf8.DecodeRuneInString(l.Title)
		return string(unicode.ToUpper(first)) + l.Title[size:]
	}
	switch n := len(l.Moves) - 1; {
	case n > 1:
		return fmt.Sprintf("Move %s, with %d companions", l.Title, n)
	case n == 1:
		return fmt.Sprintf("Move %s, with 1 companion", l.Title)
	}
	return "Move " + l.Title
}

// message is the commit's: what moved and why, and what was verified.
func (a *advance) message(r *finding.LegResult) string {
	var b strings.Builder
	b.WriteString(subjectLine(r.Leg) + "\n\n")
	for _, m := range r.Leg.Moves {
		fmt.Fprintf(&b, "- %s %s to %s", m.Name, cmp.Or(m.From, "(new)"), m.To)
		if m.Because != "" {
			b.WriteString(": " + m.Because)
		}
		b.WriteString("\n")
	}
	for i, note := range r.Leg.Notes {
		if i == 0 {
			b.WriteString("\nTo know:\n")
		}
		fmt.Fprintf(&b, "- %s\n", note)
	}
	b.WriteString(repairs(r.Leg.Repairs))
	for i, k := range r.Leg.Keys {
		if i == 0 {
			b.WriteString("\nKeys of configuration:\n")
		}
		fmt.Fprintf(&b, "- %s\n", k)
	}
	if n := len(r.Leg.Carried); n > 0 {
		fmt.Fprintf(&b, "\nOther packages that move along: %d.\n", n)
	}
	var stages []string
	for _, s := range r.Verification.Stages {
		if s.Status == finding.Passed && s.Kept == "" && s.Name != settings.StageClean && !slices.Contains(stages, s.Name) {
			stages = append(stages, s.Name)
		}
	}
	fmt.Fprintf(&b, "\nVerified from clean: %s", strings.Join(stages, ", "))
	if passed, failed := r.Verification.Count(); passed+failed > 0 {
		fmt.Fprintf(&b, "; %s passed", spelling.Count(passed, "test", "tests"))
		if failed > 0 {
			fmt.Fprintf(&b, ", %d failed as before", failed)
		}
	}
	var told []string
	for _, s := range r.Verification.Stages {
		if s.Kept != "" && !slices.Contains(told, s.Component) {
			told = append(told, s.Component)
			fmt.Fprintf(&b, "; in %s nothing that it reads has changed since %s", s.Component, s.Kept)
		}
	}
	fmt.Fprintf(&b, ".\n\nLeg %s of the route to %s.\n", r.Leg.ID, strings.Join(a.file.Destination, ", "))
	b.WriteString(trailers(r, a.file.Destination))
	return harmless.Text(b.String())
}

// trailers are for machines, as git reads them (git-interpret-trailers).
func trailers(r *finding.LegResult, destination []string) string {
	passed, failed := r.Verification.Count()
	return fmt.Sprintf("\nRoute: %s\nRoute-Leg: %s\nVerified-Tests: %d passed, %d failed\n",
		harmless.Line(strings.Join(destination, ", ")), harmless.Line(r.Leg.ID), passed, failed)
}

// repairs are what rules changed for the leg, and what they left.
func repairs(all []model.RepairResult) string {
	var done, left strings.Builder
	for _, r := range all {
		if len(r.Files) > 0 {
			fmt.Fprintf(
				&done,
				"- %s: %s (%s in %s)\n",
				r.Rule,
				r.Says,
				spelling.Count(len(r.Places), "place", "places"),
				spelling.Count(len(r.Files), "file", "files"),
			)
		}
		for _, l := range r.Left {
			fmt.Fprintf(&left, "- %s: %s\n", l.Place, l.Reason)
		}
	}
	text := ""
	if done.Len() > 0 {
		text += "\nRepaired by rules:\n" + done.String()
	}
	if left.Len() > 0 {
		text += "\nLeft to be done:\n" + left.String()
	}
	return text
}
