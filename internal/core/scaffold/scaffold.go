// Package scaffold compares a project with what a fresh one of an older and of a newer framework looks like: what only the
// template changed can be taken over, what only the project changed stays, what both changed is merged or is a conflict.
package scaffold

import (
	"bytes"
	"cmp"
	"slices"
	"strings"
	"unicode/utf8"

	"bellwether/internal/core/keys"
	"bellwether/internal/core/merge"
)

// Tree is a template: its files by their slash-separated paths.
type Tree map[string][]byte

// State says how a file of the project stands to the template.
type State string

// The states of files.
const (
	Takes     State = "takes over"    // only the template changed it
	Merges    State = "merges"        // both changed it, in different places
	Conflicts State = "conflicts"     // both changed it, differently in the same place
	Alike     State = "done already"  // the project has what the template has now
	New       State = "new"           // the template has it only now
	Gone      State = "gone"          // the template has it no more, and the project has it as it was
	GoneHere  State = "gone, changed" // the template has it no more, and the project changed it
	Removed   State = "removed here"  // the project has it no more, and the template changed it
	Declined  State = "declined"      // of a hunk: the person said that it is not wanted
)

// File is one that the template changed.
type File struct {
	Path  string `json:"path"`          // in the project
	Old   string `json:"old,omitempty"` // what the template called it before, where that is another name
	New   string `json:"new,omitempty"` // and what it calls it now, where the project's name is another one
	State State  `json:"state"`
	Keys  []Key  `json:"keys,omitempty"`  // of a file of configuration: what of it the template changed
	Hunks []Hunk `json:"hunks,omitempty"` // the places of a text

	Before, After []byte `json:"-"` // of the project, and what it becomes; nil where there is none
	format        keys.Format
	occupied      bool // the project has something else under the new name
}

// Binary tells whether a file is no text.
func Binary(data []byte) bool { return bytes.IndexByte(data, 0) >= 0 || !utf8.Valid(data) }

// Hunk is a place of a text that the template changed.
type Hunk struct {
	Number int    `json:"number"` // counted from 1
	Line   int    `json:"line"`   // in the project's file
	State  State  `json:"state"`  // Takes, Alike or Conflicts
	Base   string `json:"base"`
	Ours   string `json:"ours"`
	Theirs string `json:"theirs"`
}

// Key is a setting that the template changed.
type Key struct {
	Name  string `json:"name"`
	State State  `json:"state"` // Takes, Alike, Conflicts, New, Gone
	Old   string `json:"old,omitempty"`
	New   string `json:"new,omitempty"`
	Mine  string `json:"mine,omitempty"`
}

// Comparison is what a template's change means for a project.
type Comparison struct {
	Files     []File `json:"files"`
	Unchanged int    `json:"unchanged"` // files that the template did not change
}

// Count is how many files are in a state.
func (c *Comparison) Count(s State) (n int) {
	for _, f := range c.Files {
		if f.State == s {
			n++
		}
	}
	return n
}

// Compare compares. Mine gives a file of the project, Names all of them.
func Compare(old, fresh Tree, mine func(name string) ([]byte, bool), names []string) *Comparison {
	c := &Comparison{}
	renamed := renames(old, fresh)
	where := locate(old, mine, names)
	done := map[string]bool{}
	used := map[string]bool{} // names of the project that a file of the template has, or gets
	for _, name := range sorted(old) {
		to, is := name, fresh[name] != nil
		if !is {
			to, is = renamed[name], renamed[name] != ""
		}
		before, after := old[name], fresh[to]
		if done[to] = is; is && to == name && bytes.Equal(before, after) {
			c.Unchanged++
			continue
		}
		f := File{Path: name}
		data, there := mine(name)
		if !there {
			if at := where.files[name]; at != "" {
				f.Path, f.Old = at, name
				data, there = mine(at)
			}
		}
		if !is {
			to = ""
		}
		if to != name && to != "" {
			f.New = to
			other, already := mine(to)
			switch {
			case already && !there:
				f.Path, data, there = to, other, true
			case already && f.Old == "":
				f.occupied = true
			}
		}
		f = compared(f, before, after, data, is, there)
		f.occupied = f.occupied || used[f.Path] || f.moves() && used[f.New]
		if used[f.Path] = true; f.moves() {
			used[f.New] = true
		}
		switch {
		case f.occupied && f.State != GoneHere:
			f.State, f.After, f.Hunks, f.Keys = Conflicts, f.Before, nil, nil
		case f.moves() && f.State == Alike:
			f.State, f.After = Takes, data // only its name is another one
		}
		c.Files = append(c.Files, f)
	}
	for _, name := range sorted(fresh) {
		if old[name] != nil || done[name] {
			continue
		}
		f := File{Path: name, After: fresh[name]}
		if at := where.folder(name); at != "" && !used[at] {
			f.Path, f.Old = at, name
		}
		data, there := mine(f.Path)
		switch {
		case used[f.Path]: // another file of the template is it
			f.State, f.Before, f.After = Conflicts, data, data
		case !there:
			f.State = New
		case bytes.Equal(data, fresh[name]):
			f.State, f.Before = Alike, data
		default:
			f = compared(f, nil, fresh[name], data, true, true)
		}
		used[f.Path] = true
		c.Files = append(c.Files, f)
	}
	slices.SortFunc(c.Files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	return c
}

func sorted(t Tree) (names []string) {
	for n := range t {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

// compared says how one file stands.
func compared(f File, old, fresh, mine []byte, has, there bool) File {
	f.Before = mine
	switch {
	case !there && !has:
		f.State = Alike
	case !there:
		f.State, f.Before = Removed, nil
	case !has && bytes.Equal(mine, old):
		f.State = Gone
	case !has:
		f.State, f.After = GoneHere, mine
	case bytes.Equal(mine, fresh):
		f.State, f.After = Alike, mine
	case bytes.Equal(mine, old):
		f.State, f.After = Takes, fresh
		f.Hunks = hunks(merge.Three(merge.Lines(string(old)), merge.Lines(string(mine)), merge.Lines(string(fresh))))
		if Binary(fresh) || Binary(old) {
			f.Hunks = nil
		}
	case Binary(old) || Binary(fresh) || Binary(mine):
		f.State, f.After = Conflicts, mine
	default:
		f.merge(string(old), string(fresh), string(mine))
	}
	if f.format == "" {
		f.byKey(string(old), string(fresh), string(mine))
	}
	return f
}

// merge merges texts line by line, and where that conflicts in a file of configuration, key by key.
func (f *File) merge(old, fresh, mine string) {
	pieces := merge.Three(merge.Lines(old), merge.Lines(mine), merge.Lines(fresh))
	f.Hunks = hunks(pieces)
	f.State, f.After = Merges, []byte(merge.Text(pieces, nil))
	if !slices.ContainsFunc(f.Hunks, func(h Hunk) bool { return h.State != Alike }) {
		f.State = Alike
	}
	if merge.Clean(pieces) {
		return
	}
	f.State = Conflicts
	if f.byKey(old, fresh, mine); len(f.Keys) > 0 && !slices.ContainsFunc(f.Keys, func(k Key) bool { return k.State == Conflicts }) {
		if text, ok := f.takeKeys(mine, fresh, func(k Key) bool { return k.State != Conflicts }); ok {
			f.State, f.After, f.Hunks = Merges, []byte(text), nil
		}
	}
}

// hunks are the pieces that the template changed.
func hunks(pieces []merge.Piece) (all []Hunk) {
	line := 1
	for _, p := range pieces {
		states := map[merge.Side]State{merge.Theirs: Takes, merge.Alike: Alike, merge.Conflict: Conflicts}
		if s, is := states[p.Side]; is {
			all = append(all, Hunk{
				len(all) + 1, line, s, strings.Join(p.Base, ""), strings.Join(p.Ours, ""), strings.Join(p.Theirs, ""),
			})
		}
		line += len(p.Ours)
	}
	return all
}

// byKey finds what of a file of configuration the template changed.
func (f *File) byKey(old, fresh, mine string) {
	format, ok := keys.FormatOf(f.Path)
	if !ok || f.State == Gone || f.State == GoneHere || f.State == Removed || f.State == Alike {
		return
	}
	f.format = format
	values := func(text string) map[string]string {
		all := map[string]string{}
		if text == "" {
			return all
		}
		doc, err := keys.Read(format, text)
		if err != nil {
			return nil
		}
		for _, e := range doc.Entries {
			if e.Scalar {
				all[e.Name()] = e.Text
			}
		}
		return all
	}
	was, is, own := values(old), values(fresh), values(mine)
	if was == nil || is == nil || own == nil {
		return
	}
	f.Keys = nil
	for name := range union(was, is) {
		before, hadBefore := was[name]
		after, hasNow := is[name]
		here, hasHere := own[name]
		if hadBefore == hasNow && before == after {
			continue
		}
		k := Key{Name: name, Old: before, New: after, Mine: here}
		switch {
		case hasHere == hasNow && here == after:
			k.State = Alike
		case !hadBefore && !hasHere:
			k.State = New
		case !hasNow && hasHere && here == before:
			k.State = Gone
		case hasHere == hadBefore && here == before:
			k.State = Takes
		default:
			k.State = Conflicts
		}
		f.Keys = append(f.Keys, k)
	}
	slices.SortFunc(f.Keys, func(a, b Key) int {
		return cmp.Or(strings.Compare(string(a.State), string(b.State)), strings.Compare(a.Name, b.Name))
	})
}

func union(a, b map[string]string) map[string]bool {
	all := map[string]bool{}
	for k := range a {
		all[k] = true
	}
	for k := range b {
		all[k] = true
	}
	return all
}

// takeKeys gives the project's file the settings that are wanted; ok is false where one cannot be written.
func (f *File) takeKeys(mine, fresh string, wanted func(k Key) bool) (text string, ok bool) {
	text = mine
	template, err := keys.Read(f.format, fresh)
	if err != nil {
		return "", false
	}
	for _, k := range f.Keys {
		if k.State == Alike || !wanted(k) {
			continue
		}
		doc, err := keys.Read(f.format, text)
		if err != nil {
			return "", false
		}
		var edit keys.Edit
		named := func(e *keys.Entry) bool { return e.Name() == k.Name }
		at := slices.IndexFunc(doc.Entries, named)
		from := slices.IndexFunc(template.Entries, named)
		switch {
		case from < 0 && at >= 0: // the template has it no more
			edit, err = doc.Remove(doc.Entries[at])
		case from < 0:
			continue
		case at >= 0:
			edit, err = doc.Set(doc.Entries[at], template.ValueOf(template.Entries[from]))
		default:
			edit, err = doc.Add(template.Entries[from].Path, template.ValueOf(template.Entries[from]))
		}
		if err != nil {
			return "", false
		}
		text = text[:edit.Start] + edit.New + text[edit.End:]
	}
	return text, true
}

// alike is how much of two texts has to be the same for one to be the other under a new name.
const alike = 0.6
