package look

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/pin"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/tree"
)

// surveyPins groups what all files state by subject. Projects that state
// nothing but in their manifests get nothing: that stands with the components.
func surveyPins(ctx context.Context, d *desk.Desk, t *tree.Tree, places *tree.Places, s *output.Survey) {
	s.Unread = places.Unread
	manifests := 0
	for _, part := range t.Parts {
		manifests += len(part.Pins)
	}
	for _, pins := range places.Groups {
		manifests -= len(pins)
	}
	if manifests == 0 {
		return
	}
	for _, pins := range places.Groups {
		subject := pins[0].Subject
		g := output.SurveyPins{Subject: subject.String(), Installed: installedSubject(ctx, d, t, subject)}
		for _, q := range pins {
			g.Stated = append(g.Stated, output.SurveyPin{
				Range: q.Range, Place: q.Site.String(), Floating: q.Floating, Among: q.List != nil, Assumed: q.Assumed,
				Digest: q.Digest.Text != "", Unknown: q.Unknown,
			})
		}
		if subject.Kind != "image" {
			g.Disagree = disagreements(pins, g.Installed)
			g.Fix = bringTogether(pins)
		}
		s.Pins = append(s.Pins, g)
	}
}

// installedSubject is the version of a runtime or tool that is installed, ""
// for none and for what cannot be.
func installedSubject(ctx context.Context, d *desk.Desk, t *tree.Tree, s model.Subject) string {
	if s.Kind != "runtime" && s.Kind != "tool" {
		return ""
	}
	for _, part := range t.Parts {
		if slices.ContainsFunc(part.Eco.Tools(), func(c []string) bool { return c[0] == s.Name }) {
			return d.Installed(ctx, part, s.Name)
		}
	}
	return ""
}

// disagreements tells where statements about one subject cannot all hold: exact
// ones among each other, against what asks for at least something or a range,
// and those for this machine against what is installed. Lists, which are all tried,
// and what names whatever is newest disagree with nothing.
func disagreements(pins []model.Pin, installed string) []string {
	var exact, bounds []model.Pin
	for _, q := range pins {
		switch {
		case q.Floating || q.List != nil || q.Unknown != "" || q.Assumed:
		case q.AtLeast || strings.ContainsAny(q.Range, "<>=^~|* "):
			bounds = append(bounds, q)
		default:
			exact = append(exact, q)
		}
	}
	if len(exact) == 0 {
		return nil
	}
	var all []string
	stated, asking := distinct(exact), distinct(bounds)
	if slices.ContainsFunc(stated, func(q statement) bool { return version.CompareStated(stated[0].Range, q.Range) != 0 }) {
		all = append(all, "stated are "+told(stated))
	}
	if len(stated) > compared || len(asking) > compared {
		all = append(all, fmt.Sprintf("more than %d versions or ranges are stated, and only so many are compared with each other", compared))
	}
	some := stated[:min(len(stated), compared)]
	for _, b := range asking[:min(len(asking), compared)] {
		outside := slices.DeleteFunc(slices.Clone(some), func(q statement) bool { return liesIn(b.Pin, q.Range) })
		if len(outside) > 0 {
			all = append(all, fmt.Sprintf("%s asks for %s, which is not %s", b.Site, asked(b.Pin), told(outside)))
		}
	}
	here := slices.DeleteFunc(slices.Clone(exact), func(q model.Pin) bool {
		return !q.Here || installed == "" || version.CompareStated(q.Range, installed) == 0
	})
	if len(here) > 0 {
		all = append(all, fmt.Sprintf("%s is installed, which is not %s", installed, gathered(here)))
	}
	return all
}

// compared is how many different statements about one subject are compared with each other.
const compared = 100

// statement is what places state, by the first of them.
type statement struct {
	model.Pin
	more int // places that state the same
}

// distinct are the different statements of places, in their order.
func distinct(pins []model.Pin) (all []statement) {
	at := map[string]int{}
	for _, q := range pins {
		key := fmt.Sprint(q.AtLeast, " ", q.Range)
		if i, known := at[key]; known {
			all[i].more++
			continue
		}
		at[key] = len(all)
		all = append(all, statement{Pin: q})
	}
	return all
}

// bringTogether is the command that takes all places to the highest version that
// one of them states, "" if they all state the same.
func bringTogether(pins []model.Pin) string {
	var highest model.Pin
	apart := false
	for _, q := range pins {
		if !pin.Exact(q) || q.List != nil || q.Assumed {
			continue
		}
		if highest.Range == "" {
			highest = q
			continue
		}
		c := version.CompareStated(q.Range, highest.Range)
		apart = apart || c != 0
		if c > 0 || c == 0 && len(q.Range) > len(highest.Range) {
			highest = q
		}
	}
	if !apart {
		return ""
	}
	return fmt.Sprintf("bellwether route --to %s@%s", highest.Subject, strings.TrimPrefix(highest.Range, "v"))
}

// gathered lists what places state: "1.10 (ci.yml:13 and 2 more) and 1.12 (Dockerfile:1)".
func gathered(pins []model.Pin) string { return told(distinct(pins)) }

// told lists statements, each with its first place.
func told(all []statement) string {
	var texts []string
	for _, q := range all[:min(len(all), listed)] {
		text := fmt.Sprintf("%s (%s", q.Range, q.Site)
		if q.more > 0 {
			text += fmt.Sprintf(" and %d more", q.more)
		}
		texts = append(texts, text+")")
	}
	if left := len(all) - listed; left > 0 {
		return fmt.Sprintf("%s and %d others", strings.Join(texts, ", "), left)
	}
	if n := len(texts) - 1; n > 0 {
		return strings.Join(texts[:n], ", ") + " and " + texts[n]
	}
	return texts[0]
}

// listed is how many statements are told in one sentence.
const listed = 12

func asked(b model.Pin) string {
	if b.AtLeast {
		return "at least " + b.Range
	}
	return b.Range
}

// liesIn tells whether an exact statement, whose missing numbers are as high as
// can be, is in a range; what cannot be compared is.
func liesIn(b model.Pin, exact string) bool {
	if b.AtLeast {
		return version.CompareStated(exact, b.Range) >= 0
	}
	rng, err := version.Plain{}.ParseRange(b.Range)
	if err != nil {
		return true
	}
	v, err := version.Plain{}.Newest(strings.TrimPrefix(exact, "go"))
	return err != nil || rng.Contains(v)
}
