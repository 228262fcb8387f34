package compat

import (
	"fmt"
	"strings"
)

// String says what a rule demands, after its place and name.
func (r *Rule) String() string {
	return fmt.Sprintf("%s (%s): %s, because %s", r.Place(), r.ID, r.Says(), strings.TrimSuffix(r.Because, "."))
}

// Says is what a rule demands, as a clause.
func (r *Rule) Says() string {
	var subjects []string
	for _, s := range r.Subjects {
		subjects = append(subjects, s.String())
	}
	switch r.Kind {
	case Needs:
		return joined(r.When, " with ") + " needs " + joined(r.Then, " and ")
	case Clashes:
		return joined(r.When, " does not work with ")
	case Together:
		return strings.Join(subjects, ", ") + " share their " + string(r.Share)
	case Branch:
		return fmt.Sprintf("what is not released yet of %s lies on its branch %s", subjects[0], r.Branch)
	case Stepwise:
		return strings.Join(subjects, ", ") + " must not skip a major"
	case Keys:
		return joined(r.When, " with ") + " knows certain keys in " + strings.Join(r.Keys.Files, ", ")
	case Adapt:
		if len(r.When) == 0 {
			return r.Repair.Says()
		}
		var ways []string
		for _, way := range r.Ways() {
			ways = append(ways, joined(way, " with "))
		}
		return "once " + strings.Join(ways, ", or ") + ", " + r.Repair.Says()
	case Replaced:
		return r.Old.String() + " goes on as " + r.New.String()
	case Restored:
		return fmt.Sprintf("%s is without %s, which %s gives back", joined(r.When, " with "), r.Feature, joined(r.Then, " and "))
	}
	return r.When[0].String() + " ends on " + r.On.Format("2006-01-02")
}

func joined(all []Condition, between string) string {
	texts := make([]string, len(all))
	for i, c := range all {
		texts[i] = c.String()
	}
	return strings.Join(texts, between)
}
