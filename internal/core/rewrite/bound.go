package rewrite

import (
	"slices"

	"bellwether/internal/core/lex"
	"bellwether/internal/core/rewrite/source"
)

// bound renames what one module exports, wherever the file knows the module by: a name of its own, a name that is imported of it, its
// path. What is called the same and comes from elsewhere stays.
func (b *Rename) bound(f *source.File, c *changed) {
	is := f.Bind(b.Of)
	var names []string
	for _, l := range is.Whole {
		if !slices.Contains(names, l.Name) {
			names = append(names, l.Name)
			b.behindName(f, is, l.Name, c)
		}
	}
	for _, at := range is.Behind {
		if f.Word(at+2) == b.Old {
			c.put(f, f.Said[at+2].Start, f.Said[at+2].End, b.New)
		}
	}
	plain := false
	for _, n := range is.Named {
		if f.Word(n.Token) != b.Old {
			continue
		}
		t := f.Said[n.Token]
		if !n.Other {
			if plain = true; source.IsMember(f.Word(n.Token - 1)) { // the end of a path
				c.put(f, t.Start, t.End, b.New)
			}
			continue
		}
		text := b.New
		if next := f.Word(n.Token + 1); next != "as" && next != ":" && next != "=>" { // what is exported on keeps its name
			text += " as " + b.Old
		}
		c.put(f, t.Start, t.End, text)
	}
	if plain {
		b.names(f, c)
	}
	if is.All {
		for i, t := range f.Said {
			if t.Kind == lex.Word && f.Word(i) == b.Old && !source.IsMember(f.Word(i-1)) {
				c.leave(f, t.Start, "all that %s exports is imported here, so that nobody can tell whether this %s is its own", b.Of, b.Old)
			}
		}
	}
	for _, at := range is.Mocks {
		is := func(t lex.Token) bool { return t.Kind == lex.Word && t.Of(f.Text) == b.Old }
		if slices.ContainsFunc(f.Said[at:max(at, f.Said[at-1].Pair)], is) {
			c.leave(f, f.Said[at].Start, "a stand-in for %s has %s, which is %s now", b.Of, b.Old, b.New)
		}
	}
	if f.Lang.Name != "go" && !slices.Contains(names, b.Of) {
		b.behindPath(f, c)
	}
}

// behindName renames the member behind a name that stands for the module.
func (b *Rename) behindName(f *source.File, is *source.Bound, name string, c *changed) {
	f.Looked = 0
	hidden := slices.DeleteFunc(f.Declared(name), func(s source.Scope) bool {
		return slices.ContainsFunc(is.Whole, func(l source.Local) bool { return l.Token == s.Name })
	})
	if f.Tired() {
		c.left = append(c.left, Left{f.Name, 0, "where " + name + " counts cannot be told: it is nested too deep"})
		return
	}
	scopes := source.Covered(hidden)
	for i, t := range f.Said {
		if t.Kind != lex.Word || f.Word(i) != name || f.Word(i+2) != b.Old || !source.IsMember(f.Word(i+1)) || source.IsMember(f.Word(i-1)) {
			continue
		}
		if slices.ContainsFunc(is.Named, func(n source.Named) bool { return n.Token == i+2 }) {
			continue
		}
		if at := scopes.At(i); at >= 0 {
			c.leave(f, t.Start, "%s may be what line %d declares, and not %s", name, f.Line(f.Said[hidden[at].Name].Start), b.Of)
			continue
		}
		member := f.Said[i+2]
		c.put(f, member.Start, member.End, b.New)
	}
}

// behindPath renames the member behind the module's whole path.
func (b *Rename) behindPath(f *source.File, c *changed) {
	names := source.SplitPath(b.Of)
	for i := range f.Said {
		if f.Word(i) != names[0] || source.IsMember(f.Word(i-1)) || f.InImport(i) {
			continue
		}
		if end, ok := f.Sequence(i, names); ok && source.IsMember(f.Word(end)) && f.Word(end+1) == b.Old {
			c.put(f, f.Said[end+1].Start, f.Said[end+1].End, b.New)
		}
	}
}
