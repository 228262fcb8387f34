package hints

import (
	"context"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/core/notes"
	"bellwether/internal/core/rewrite/source"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	worknotes "bellwether/internal/work/notes"
	"bellwether/internal/work/tree"
)

// placesOf are the project's own places that new failures name: "file:line".
func placesOf(c *finding.Comparison) (places []string) {
	add := func(place string) {
		if file, rest, ok := strings.Cut(place, ":"); ok {
			line, _, _ := strings.Cut(rest, ":")
			if place = file + ":" + line; !slices.Contains(places, place) {
				places = append(places, place)
			}
		}
	}
	for _, t := range c.NewlyFailing {
		add(t.Place)
	}
	for _, f := range c.NewFindings {
		if f.Kind == finding.Failure {
			add(f.Place)
		}
	}
	for _, s := range c.BrokenStages {
		if s.Crash != nil {
			add(s.Crash.Place)
		}
		for _, f := range s.Findings {
			add(f.Place)
		}
	}
	return places
}

// maxRead bounds a file whose imports are read, in bytes.
const maxRead = 2 << 20

// levels is how far imports are followed from a file that fails.
const levels = 2

// reached are the project's files that failing places lie in, and those that they import by their relative names: from each, how far
// away it is.
func reached(t *tree.Tree, places []string) map[string]int {
	far := map[string]int{}
	var next []string
	for _, place := range places {
		file, _, _ := strings.Cut(place, ":")
		if _, known := far[file]; !known {
			far[file] = 0
			next = append(next, file)
		}
	}
	for level := 1; level <= levels; level++ {
		var found []string
		for _, name := range next {
			for _, to := range imports(t, name) {
				if _, known := far[to]; !known {
					far[to] = level
					found = append(found, to)
				}
			}
		}
		next = found
	}
	return far
}

// endings are what an import may leave out of a file's name.
var endings = []string{
	"", ".js", ".ts", ".tsx", ".jsx", ".mjs", ".cjs", ".vue", "/index.js", "/index.ts", "/index.tsx", ".rb", ".py",
}

// imports are the project's files that a file imports by their relative names; of Go those of its package, of Java the one that a
// test is called after.
func imports(t *tree.Tree, name string) (all []string) {
	data, err := fs.ReadFile(t.Files.FS, name)
	if err != nil || len(data) > maxRead {
		return nil
	}
	f := source.NewFile(name, string(data))
	if f.Lang == nil {
		return nil
	}
	f.Split()
	dir := path.Dir(name)
	switch f.Lang.Name {
	case "go":
		for _, other := range t.Files.Files() {
			if path.Dir(other) == dir && strings.HasSuffix(other, ".go") && !strings.HasSuffix(other, "_test.go") {
				all = append(all, other)
			}
		}
		return all
	case "java", "kotlin":
		stem, ending, _ := strings.Cut(path.Base(name), ".")
		tested := strings.TrimSuffix(strings.TrimSuffix(stem, "Tests"), "Test") + "." + ending
		for _, other := range t.Files.Files() {
			if path.Base(other) == tested {
				all = append(all, other)
			}
		}
		return all
	}
	for i := range f.Said {
		if !f.ImportedString(i) {
			continue
		}
		to, _ := f.Content(i)
		if !strings.HasPrefix(to, ".") && f.Word(i-1) != "require_relative" {
			continue
		}
		for _, end := range endings {
			at := path.Join(dir, to+end)
			if info, err := fs.Stat(t.Files.FS, at); fs.ValidPath(at) && err == nil && info.Mode().IsRegular() {
				all = append(all, at)
				break
			}
		}
	}
	return all
}

// nearby are what releases say of names that are used where a failure was, or in what it imports: the nearest and gravest first.
func nearby(
	ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store, said []worknotes.Noted, places []string,
) (hints []string) {
	if len(places) == 0 || len(said) == 0 {
		return nil
	}
	far := reached(t, places)
	var names []string
	for _, n := range said {
		names = append(names, n.Entry.Names...)
	}
	found, err := worknotes.Search(ctx, d, t, k, names)
	if err != nil {
		return nil
	}
	type near struct {
		far  int
		text string
	}
	var all []near
	told := map[string]bool{}
	for _, n := range said { // the gravest first
		if told[n.Shown.Place+n.Of] || slices.Index(notes.Kinds, notes.Kind(n.Shown.Kind)) < 0 {
			continue
		}
		best := near{far: levels + 1}
		for _, name := range n.Entry.Names {
			if n.Part.Declares(name) {
				continue
			}
			for _, place := range found.Of(n.Part, name, n.Of).Places {
				file, _, _ := strings.Cut(place, ":")
				away, reaches := far[file]
				if slices.Contains(places, place) {
					away = -1 // the very line
				}
				if reaches && away < best.far {
					best = near{away, hint(n, name) + fmt.Sprintf("; %s, %s, uses it", place, within(away))}
				}
			}
		}
		if best.far <= levels {
			told[n.Shown.Place+n.Of] = true
			all = append(all, best)
		}
	}
	slices.SortStableFunc(all, func(a, b near) int { return a.far - b.far })
	for _, n := range all[:min(len(all), mostNearby)] {
		hints = append(hints, n.text)
	}
	return hints
}

// mostNearby is how many notes are told of that only lie near a failure.
const mostNearby = 3

// within says how a place hangs together with a failure.
func within(far int) string {
	switch {
	case far < 0:
		return "the line that fails"
	case far == 0:
		return "in the file that fails"
	}
	return "which the failing file imports"
}

// foretold are what the leg told before it was carried out, and that is of a place or a name which fails now.
func foretold(leg *model.Leg, names, places []string) (hints []string) {
	for _, note := range leg.Notes {
		words := strings.FieldsFunc(note, func(r rune) bool { return strings.ContainsRune(" ,;", r) })
		of := func(word string) bool {
			return slices.Contains(places, word) || slices.ContainsFunc(names, func(name string) bool {
				return strings.Contains(name, ".") && word == name || len(name) >= longName && strings.HasSuffix(word, "."+name)
			})
		}
		if slices.ContainsFunc(words, of) {
			hints = append(hints, "told before: "+note)
		}
	}
	return hints
}

// longName is from how many letters on the last part of a name is enough to know it by.
const longName = 6

// ruled are what rules say of the very lines that fail.
func ruled(rules []model.RepairResult, places []string) (hints []string) {
	for _, r := range rules {
		for _, l := range r.Left {
			if slices.Contains(places, l.Place) {
				hints = append(hints, fmt.Sprintf("rule %s is about %s: %s", r.Rule, l.Place, l.Reason))
			}
		}
		for _, place := range r.Places {
			if slices.Contains(places, place) {
				hints = append(hints, fmt.Sprintf(
					"rule %s would change %s: bellwether adapt --only %s --apply", r.Rule, place, r.Rule,
				))
			}
		}
	}
	return hints
}
