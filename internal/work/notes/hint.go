package notes

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
	"bellwether/internal/core/notes"
	"bellwether/internal/core/spelling"
	"bellwether/internal/core/version"
	"bellwether/internal/work/adapt"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/tree"
)

// mostHints bounds what is told of one failure.
const mostHints = 8

// Hints tell what releases and rules say of the names that a leg's failures mention. What cannot
// be asked gives no hint; it is no error, since the failure is what is to be told.
func Hints(ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store, leg *model.Leg, c *finding.Comparison) (hints []string) {
	names := mentioned(c)
	if len(names) == 0 {
		return nil
	}
	rules := map[string]model.RepairResult{} // by the names that they are about
	if p, err := adapt.Preview(ctx, d, t, k, adapt.Options{}); err == nil {
		for _, r := range p.Result.Rules {
			if len(r.Places) == 0 {
				continue
			}
			for _, name := range names {
				if mentions(r.Says, name) {
					rules[name] = r
				}
			}
		}
	}
	said := map[string]bool{}
	for _, f := range entries(ctx, d, t, leg) {
		for _, name := range f.about(names) {
			if said[name] || len(hints) >= mostHints {
				continue
			}
			said[name] = true
			hints = append(hints, f.hint(name)+repair(rules, name))
		}
	}
	for _, name := range names {
		if _, ok := rules[name]; ok && !said[name] && len(hints) < mostHints {
			hints = append(hints, fmt.Sprintf("`%s`", name)+repair(rules, name))
		}
	}
	return hints
}

// repair is what a rule would do about a name, "" for none.
func repair(rules map[string]model.RepairResult, name string) string {
	r, ok := rules[name]
	if !ok {
		return ""
	}
	return fmt.Sprintf(
		"; rule %s would repair %s: bellwether adapt --only %s --apply",
		r.Rule,
		spelling.Count(len(r.Places), "place", "places"),
		r.Rule,
	)
}

// mentions tells whether a sentence has a name by itself.
func mentions(text, name string) bool {
	return slices.Contains(strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(" (),;:`'\"{}[]", r) }), name)
}

// noted is an entry of a release on the leg's way.
type noted struct {
	entry notes.Entry
	shown model.NoteEntry
	of    string
}

// entries are what the releases say that the leg moves over.
func entries(ctx context.Context, d *desk.Desk, t *tree.Tree, leg *model.Leg) (all []noted) {
	r := &reader{desk: d.Quiet(), tree: t, result: &model.NotesResult{}}
	part := t.Part(leg.Component)
	for _, m := range leg.Moves {
		if part == nil || m.Subject.IsPin() || m.From == "" || m.To == "" {
			continue
		}
		if err := r.read(ctx, target{part, m.Name, m.Key(), m.Subject, m.From, m.To}); err != nil {
			continue
		}
	}
	for _, f := range r.found {
		all = append(all, noted{f.entry, f.shown, r.result.Packages[f.pkg].Name})
	}
	slices.SortStableFunc(all, func(a, b noted) int { return kindRank(a.shown) - kindRank(b.shown) })
	return all
}

// about are those of some names that the entry is about.
func (n noted) about(names []string) (about []string) {
	for _, name := range names {
		renamed := slices.ContainsFunc(n.entry.Renames, func(x notes.Rename) bool { return x.Old == name })
		if renamed || slices.Contains(n.entry.Names, name) {
			about = append(about, name)
		}
	}
	return about
}

func (n noted) hint(name string) string {
	source := fmt.Sprintf("%s %s, %s", n.of, n.shown.Version, n.shown.Place)
	for _, x := range n.entry.Renames {
		if x.Old == name {
			return fmt.Sprintf("`%s` goes on as `%s` (%s)", name, x.New, source)
		}
	}
	text := n.entry.Text
	if runes := []rune(text); len(runes) > 160 {
		text = string(runes[:160]) + "…"
	}
	return fmt.Sprintf("`%s` is told of (%s): %s", name, source, text)
}

var (
	quotedText = lazyregexp.New("[`'\"‘“]([A-Za-z_@$][\\w$@./:-]{1,80})['`\"’”]")
	// What tools say of a name that they do not find.
	notFound = lazyregexp.New(
		`([\w$.]+)(?:\(\.\.\.\))? (?:is not (?:a function|a constructor|defined|exported)|undefined|is gone|was removed|does not exist)|` +
			`(?i:undefined:|undefined (?:local variable or )?method|cannot find (?:name|symbol|module|package)|no (?:exported ` +
			`)?(?:member|attribute|method|field|module) named|` +
			`unknown (?:option|key|property|argument|setting)|unrecognized (?:option|argument)|has no (?:attribute|member|method|` +
			`field)|symbol:\s+\w+)\s+["'\x60]?([\w$@./-]+)`,
	)
	nameShaped = lazyregexp.New(`[A-Za-z_$][\w$]*(?:\.[A-Za-z_$][\w$]*)+|[A-Za-z_$]*[a-z0-9][A-Z_][\w$]*`)
)

// mentioned are the names that new failures mention, those in quotes first.
func mentioned(c *finding.Comparison) (names []string) {
	var texts []string
	for _, f := range c.NewFindings {
		if f.Kind == finding.Failure {
			texts = append(texts, f.Text)
		}
	}
	for _, t := range c.NewlyFailing {
		texts = append(texts, t.Message)
	}
	for _, s := range c.BrokenStages {
		if s.Crash != nil {
			texts = append(texts, s.Crash.Text)
		}
		for _, f := range s.Findings {
			texts = append(texts, f.Text)
		}
	}
	add := func(name string) {
		name = strings.TrimRight(name, ".:")
		if !notes.Common(name) && !slices.Contains(names, name) && len(names) < 200 {
			names = append(names, name)
		}
		// "quayside.createBoard" may be told of as createBoard.
		if at := strings.LastIndexByte(name, '.'); at > 0 && !slices.Contains(names, name[at+1:]) && !notes.Common(name[at+1:]) {
			names = append(names, name[at+1:])
		}
	}
	for _, text := range texts {
		for _, m := range quotedText.FindAllStringSubmatch(text, -1) {
			add(m[1])
		}
	}
	for _, text := range texts {
		for _, m := range notFound.FindAllStringSubmatch(text, -1) {
			add(m[1] + m[2])
		}
	}
	for _, text := range texts {
		for _, name := range nameShaped.FindAllString(text, -1) {
			add(name)
		}
	}
	return names
}

// Needs are the runtimes and tools that the notes of legs' major moves ask for, and that no
// registry states. What cannot be read states nothing.
func Needs(ctx context.Context, d *desk.Desk, t *tree.Tree, legs []model.Leg) []model.NotedNeed {
	r := &reader{desk: d.Quiet(), tree: t, result: &model.NotesResult{}}
	for i := range legs {
		part := t.Part(legs[i].Component)
		for _, m := range legs[i].Moves {
			if part == nil || m.Subject.IsPin() || m.From == "" || m.To == "" {
				continue
			}
			from, err := part.Version(m.From)
			to, terr := part.Version(m.To)
			if err != nil || terr != nil || part.Eco.Order().Step(from, to) != version.Major {
				continue
			}
			if err := r.read(ctx, target{part, m.Name, m.Key(), m.Subject, m.From, m.To}); err != nil && ctx.Err() != nil {
				return nil
			}
		}
	}
	return r.result.Needs
}
