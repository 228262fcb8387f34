// Package hints tells what releases and rules say of what a leg broke.
package hints

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
	"bellwether/internal/work/adapt"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	worknotes "bellwether/internal/work/notes"
	"bellwether/internal/work/tree"
)

// mostHints bounds what is told of one failure.
const mostHints = 8

// Of tells what releases and rules say of the names that a leg's failures mention. What cannot
// be asked gives no hint; it is no error, since the failure is what is to be told.
func Of(ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store, leg *model.Leg, c *finding.Comparison) (hints []string) {
	names, places := mentioned(c), placesOf(c)
	if len(names)+len(places) == 0 {
		return nil
	}
	hints = foretold(leg, names, places)
	rules := map[string]model.RepairResult{} // by the names that they are about
	if p, err := adapt.Preview(ctx, d, t, k, adapt.Options{}); err == nil {
		hints = append(hints, ruled(p.Result.Rules, places)...)
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
	hints = append(hints, closed(c, leg)...)
	hints = append(hints, became(ctx, d, t, leg, places)...)
	said := map[string]bool{}
	all := worknotes.On(ctx, d, t, leg)
	for _, n := range echoed(textsOf(c), all) {
		if len(hints) < mostHints && len(about(n, names)) == 0 { // told by its names below
			hints = append(hints, "in similar words "+entry(n))
		}
	}
	for _, f := range all {
		for _, name := range about(f, names) {
			if said[name] || len(hints) >= mostHints {
				continue
			}
			said[name] = true
			hints = append(hints, hint(f, name)+repair(rules, name))
		}
	}
	for _, name := range names {
		if _, ok := rules[name]; ok && !said[name] && len(hints) < mostHints {
			hints = append(hints, fmt.Sprintf("`%s`", name)+repair(rules, name))
		}
	}
	for _, text := range nearby(ctx, d, t, k, all, places) {
		if len(hints) < mostHints && !slices.ContainsFunc(hints, func(o string) bool { return strings.HasPrefix(text, o) }) {
			hints = append(hints, text)
		}
	}
	if len(hints) == 0 {
		hints = gravest(all)
	}
	return hints
}

// gravest are the entries that weigh most where none names what failed.
func gravest(said []worknotes.Noted) (hints []string) {
	for _, n := range said {
		kind := notes.Kind(n.Shown.Kind)
		if heavy := kind == notes.Breaking || kind == notes.Removed || n.Shown.Major && kind == notes.Other; heavy && len(hints) < mostNearby {
			hints = append(hints, "not named in the failure, but a change of weight "+entry(n))
		}
	}
	return hints
}

// unexported is how runtimes and bundlers say that a package does not export what is imported of it.
var unexported = lazyregexp.New(
	`(?i)(?:subpath|path|specifier)?\s*['"]?(\./[^'"\s]+)['"]?\s+(?:is not (?:defined by "exports"|exported)|specifier)[^\n]*?` +
		`(?:node_modules/|(?:from|in) ['"]|from package ['"])((?:@[\w.-]+/)?[\w.-]+)`,
)

// closed tell of what is imported of a package that the leg moves, and that it exports no more.
func closed(c *finding.Comparison, leg *model.Leg) (hints []string) {
	for _, text := range textsOf(c) {
		for _, m := range unexported.FindAllStringSubmatch(text, -1) {
			for _, move := range leg.Moves {
				says := fmt.Sprintf("%s %s exports no %s; see the exports in its package.json, and those of %s", m[2], move.To, m[1], move.From)
				if move.Name == m[2] && !slices.Contains(hints, says) {
					hints = append(hints, says)
				}
			}
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

// about are those of some names that the entry is about.
func about(n worknotes.Noted, names []string) (about []string) {
	for _, name := range names {
		renamed := slices.ContainsFunc(n.Entry.Renames, func(x notes.Rename) bool { return x.Old == name })
		if renamed || slices.Contains(n.Entry.Names, name) {
			about = append(about, name)
		}
	}
	return about
}

func hint(n worknotes.Noted, name string) string {
	for _, x := range n.Entry.Renames {
		if x.Old == name {
			return fmt.Sprintf("`%s` goes on as `%s` (%s)", name, x.New, stands(n))
		}
	}
	return fmt.Sprintf("`%s` is told of %s", name, entry(n))
}

// stands says where an entry stands.
func stands(n worknotes.Noted) string {
	return fmt.Sprintf("%s %s, %s", n.Of, n.Shown.Version, n.Shown.Place)
}

// entry is an entry with where it stands, cut where it is long.
func entry(n worknotes.Noted) string {
	text := strings.TrimSuffix(n.Entry.Text, ".")
	if runes := []rune(text); len(runes) > 160 {
		text = string(runes[:160]) + "…"
	}
	return fmt.Sprintf("(%s): %s", stands(n), text)
}

var (
	quotedText = lazyregexp.New("[`'\"‘“](\\.{0,2}/?[A-Za-z_@$][\\w$@./:-]{1,80})['`\"’”]")
	// What tools say of a name that they do not find.
	notFound = lazyregexp.New(
		`([\w$.]+)(?:\(\.\.\.\))?\)? (?:is not (?:a function|a constructor|defined|exported)|undefined|is gone|was removed|does not exist)|` +
			`(?i:undefined:|undefined (?:local variable or )?method|cannot find (?:name|symbol|module|package)|no (?:exported ` +
			`)?(?:member|attribute|method|field|module) named|` +
			`unknown (?:option|key|property|argument|setting)|unrecognized (?:option|argument)|has no (?:attribute|member|method|` +
			`field)|symbol:\s+\w+)\s+["'\x60]?([\w$@./-]+)`,
	)
	nameShaped = lazyregexp.New(`[A-Za-z_$][\w$]*(?:\.[A-Za-z_$][\w$]*)+|[A-Za-z_$]*[a-z0-9][A-Z_][\w$]*`)
)

// textsOf are the texts of new failures.
func textsOf(c *finding.Comparison) (texts []string) {
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
	return texts
}

// mentioned are the names that new failures mention, those in quotes first.
func mentioned(c *finding.Comparison) (names []string) {
	texts := textsOf(c)
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
