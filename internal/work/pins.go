package work

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/pin"
)

// surveyPins groups what all files state by subject. Projects that state
// nothing but in their manifests get nothing: that stands with the components.
func (p *Project) surveyPins(ctx context.Context) ([]model.SurveyPins, error) {
	pins, err := pin.Read(p.fsys, func(dir string) bool { return slices.Contains(p.Settings.LeaveOut, dir) || dir == keepDir }, p.Settings.Pins)
	if err != nil || len(pins) == 0 {
		return nil, err
	}
	for _, part := range p.Components {
		pins = append(pins, part.Pins...)
	}
	kinds := []string{"runtime", "tool", "platform", "image"}
	slices.SortStableFunc(pins, func(a, b model.Pin) int {
		return cmp.Or(slices.Index(kinds, a.Subject.Kind)-slices.Index(kinds, b.Subject.Kind), strings.Compare(a.Subject.Name, b.Subject.Name))
	})
	var groups []model.SurveyPins
	for len(pins) > 0 {
		subject := pins[0].Subject
		n := slices.IndexFunc(pins, func(q model.Pin) bool { return q.Subject != subject })
		if n < 0 {
			n = len(pins)
		}
		g := model.SurveyPins{Subject: subject.String(), Installed: p.installedSubject(ctx, subject)}
		for _, q := range pins[:n] {
			g.Stated = append(g.Stated, model.SurveyPin{Range: q.Range, Place: q.Site.String(), Floating: q.Floating, Among: q.Among})
		}
		if subject.Kind != "image" {
			g.Disagree = disagreements(pins[:n], g.Installed)
		}
		groups, pins = append(groups, g), pins[n:]
	}
	return groups, nil
}

// installedSubject is the version of a runtime or tool that is installed, ""
// for none and for what cannot be.
func (p *Project) installedSubject(ctx context.Context, s model.Subject) string {
	if s.Kind != "runtime" && s.Kind != "tool" {
		return ""
	}
	for _, part := range p.Components {
		if slices.ContainsFunc(part.eco.Tools(), func(c []string) bool { return c[0] == s.Name }) {
			return p.installed(ctx, part, s.Name)
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
		case q.Floating || q.Among:
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
	if slices.ContainsFunc(exact, func(q model.Pin) bool { return version.CompareStated(exact[0].Range, q.Range) != 0 }) {
		all = append(all, "stated are "+gathered(exact))
	}
	for _, b := range bounds {
		outside := slices.DeleteFunc(slices.Clone(exact), func(q model.Pin) bool { return within(b, q.Range) })
		if len(outside) > 0 {
			all = append(all, fmt.Sprintf("%s asks for %s, which is not %s", b.Site, asked(b), gathered(outside)))
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

// gathered lists statements by what they state, each with its first place:
// "1.10 (ci.yml:13 and 2 more) and 1.12 (Dockerfile:1)".
func gathered(pins []model.Pin) string {
	var texts []string
	for i, q := range pins {
		same := func(o model.Pin) bool { return o.Range == q.Range }
		if slices.ContainsFunc(pins[:i], same) {
			continue
		}
		text := fmt.Sprintf("%s (%s", q.Range, q.Site)
		if more := len(slices.DeleteFunc(slices.Clone(pins), func(o model.Pin) bool { return !same(o) })) - 1; more > 0 {
			text += fmt.Sprintf(" and %d more", more)
		}
		texts = append(texts, text+")")
	}
	if n := len(texts) - 1; n > 0 {
		return strings.Join(texts[:n], ", ") + " and " + texts[n]
	}
	return texts[0]
}

func asked(b model.Pin) string {
	if b.AtLeast {
		return "at least " + b.Range
	}
	return b.Range
}

// within tells whether an exact statement, whose missing numbers are as high as
// can be, is in a range; what cannot be compared is.
func within(b model.Pin, exact string) bool {
	if b.AtLeast {
		return version.CompareStated(exact, b.Range) >= 0
	}
	rng, err := version.NPM{}.ParseRange(b.Range)
	if err != nil {
		return true
	}
	full := strings.TrimPrefix(exact, "v")
	for strings.Count(full, ".") < 2 {
		full += ".9999"
	}
	v, err := version.NPM{}.Parse(full)
	return err != nil || rng.Contains(v)
}
