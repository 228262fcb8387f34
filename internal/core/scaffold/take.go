package scaffold

import (
	"slices"
	"strings"

	"bellwether/internal/core/merge"
)

// Edit gives a file of the project other bytes; nil are none.
type Edit struct {
	Path          string
	Before, After []byte
}

// Wanted is what a person wants of a file, besides what applies cleanly: places by their numbers, and settings by their names.
type Wanted struct {
	Whole  bool // all that applies cleanly; of a file that goes, or that is not there any more, that it goes or comes
	Places []int
	Keys   []string
	Marked bool // conflicts are written with the usual markers
}

// moves tells whether a file gets the template's new name when it is taken over.
func (f *File) moves() bool { return f.New != "" && f.New != f.Path && f.Old == "" && !f.occupied }

// put are the edits that give a file new bytes, under its new name if it has one.
func (f *File) put(after []byte) []Edit {
	if !f.moves() {
		return []Edit{{f.Path, f.Before, after}}
	}
	return []Edit{{f.Path, f.Before, nil}, {f.New, nil, after}}
}

// Clean are the edits of a file that applies cleanly. Old and fresh are what the templates have for it.
func (f *File) Clean(old, fresh string) []Edit {
	switch f.State {
	case Takes, Merges, New, Gone:
	default:
		return nil
	}
	if slices.ContainsFunc(f.Hunks, func(h Hunk) bool { return h.State == Declined }) {
		return f.put([]byte(f.Take(old, fresh, func(h Hunk) bool {
			return h.State != Conflicts && f.Hunks[h.Number-1].State != Declined
		})))
	}
	return f.put(f.After)
}

// Taken are the edits of a file of which a person wants something. What conflicts is taken only where it is named by its number or
// its name: the rest of the person's file stays.
func (f *File) Taken(old, fresh string, w Wanted) []Edit {
	switch {
	case w.Whole && w.Marked && f.State == Conflicts && !f.occupied:
		return f.put([]byte(f.Marked(old, fresh)))
	case w.Whole && (f.State == GoneHere || f.State == Gone):
		return []Edit{{f.Path, f.Before, nil}}
	case w.Whole && f.State == Removed:
		return []Edit{{f.Path, nil, []byte(fresh)}}
	case w.Whole && f.State != Conflicts && len(w.Keys) == 0:
		return f.put(f.After)
	}
	text := string(f.Before)
	if len(f.Keys) > 0 {
		// Settings one by one: lines would bring the neighbours along.
		named := func(k Key) bool { return slices.Contains(w.Keys, k.Name) || w.Whole && k.State != Conflicts }
		if taken, ok := f.takeKeys(text, fresh, named); ok {
			text = taken
		}
	}
	if len(w.Places) > 0 || w.Whole && len(f.Keys) == 0 {
		text = f.Take(old, fresh, func(h Hunk) bool {
			return slices.Contains(w.Places, h.Number) || w.Whole && h.State != Conflicts && f.Hunks[h.Number-1].State != Declined
		})
	}
	if text == string(f.Before) {
		return nil
	}
	return f.put([]byte(text))
}

// Left are the places and settings of a file in conflict that a person has to name to take them.
func (f *File) Left() (names []string) {
	for _, k := range f.Keys {
		if k.State == Conflicts {
			names = append(names, k.Name)
		}
	}
	return names
}

// Crosses tells whether a place of a file of settings holds what somebody else changed, too: taking its lines would bring the
// template's neighbours along.
func (f *File) Crosses(place int) bool {
	return len(f.Keys) > 0 && place > 0 && place <= len(f.Hunks) && f.Hunks[place-1].State == Conflicts
}

// Take is the project's file with some hunks of the template taken over; of the others, our side stays.
func (f *File) Take(old, fresh string, wanted func(h Hunk) bool) string {
	pieces := merge.Three(merge.Lines(old), merge.Lines(string(f.Before)), merge.Lines(fresh))
	n := 0
	for i, p := range pieces {
		if p.Side != merge.Theirs && p.Side != merge.Alike && p.Side != merge.Conflict {
			continue
		}
		n++
		if p.Side == merge.Alike {
			continue
		}
		if wanted(Hunk{Number: n, State: map[merge.Side]State{merge.Theirs: Takes, merge.Conflict: Conflicts}[p.Side]}) {
			pieces[i].Side = merge.Theirs
		} else {
			pieces[i].Side = merge.Ours
		}
	}
	return merge.Text(pieces, nil)
}

// Marked is the project's file with conflicts between the usual markers.
func (f *File) Marked(old, fresh string) string {
	pieces := merge.Three(merge.Lines(old), merge.Lines(string(f.Before)), merge.Lines(fresh))
	return merge.Text(pieces, &[2]string{"the project's", "the template's"})
}

// withheld are names under which archives of packages carry files that would mean something there, by what they become.
var withheld = map[string]string{
	"gitignore": ".gitignore", "gitattributes": ".gitattributes", "npmrc": ".npmrc", "npmignore": ".npmignore", "nvmrc": ".nvmrc",
	"env": ".env", "editorconfig": ".editorconfig", "dockerignore": ".dockerignore", "github": ".github", "prettierrc": ".prettierrc",
	"prettierignore": ".prettierignore", "eslintignore": ".eslintignore", "eslintrc": ".eslintrc", "babelrc": ".babelrc", "vscode": ".vscode",
	"ruby-version": ".ruby-version", "node-version": ".node-version", "yarnrc": ".yarnrc", "browserslistrc": ".browserslistrc",
}

// endings are those of templates, behind the ending that the file gets.
var endings = []string{".tmpl", ".tpl", ".template", ".tt", ".j2", ".jinja", ".ejs", ".hbs", ".mustache"}

// Becomes is the name that a file of a template has in a project: "_gitignore", "gitignore" and "dot-gitignore" are ".gitignore",
// "_package.json" is package.json, "package.json.tmpl" is, too. All other names stay.
func Becomes(name string) string {
	parts := strings.Split(name, "/")
	for i, part := range parts {
		last := i == len(parts)-1
		bare, marked := part, false
		for _, sign := range []string{"_dot_", "dot-", "dot_", "_"} {
			if rest, ok := strings.CutPrefix(part, sign); ok {
				bare, marked = rest, true
				break
			}
		}
		stem, ending, _ := strings.Cut(bare, ".")
		if to, known := withheld[stem]; known && (marked || stem == "gitignore" && ending == "") {
			parts[i] = to
			if ending != "" {
				parts[i] += "." + ending
			}
		} else if last && marked && (bare == "package.json" || bare == "package-lock.json") {
			parts[i] = bare
		}
		if !last {
			continue
		}
		for _, end := range endings {
			if rest, ok := strings.CutSuffix(parts[i], end); ok && strings.Contains(strings.TrimPrefix(rest, "."), ".") {
				parts[i] = rest
				break
			}
		}
	}
	return strings.Join(parts, "/")
}
