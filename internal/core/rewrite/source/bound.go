package source

import (
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/lex"
)

// Bound is what a file knows a module by.
type Bound struct {
	Whole  []Local // names that stand for the module itself
	Behind []int   // tokens behind which a member of the module stands, where it has no name: "require('quay')"
	Named  []Named // what is imported of it by name
	All    bool    // all that it exports is there by its own name
	Mocks  []int   // tokens of strings that name the module where a stand-in is made for it
}

// Local is a name of the file's own.
type Local struct {
	Name  string
	Token int // where it is given; -1 where that is not written
}

// Named is something that is imported of a module by name.
type Named struct {
	Token int  // the name that the module exports it under
	Other bool // it has another name in the file
}

// Bind finds what a file knows a module by, from its imports. Languages that import by paths of names know it by its path, too,
// which is not among what is found.
func (f *File) Bind(module string) *Bound {
	f.Split()
	b := &Bound{}
	if f.Lang == nil {
		return b
	}
	if f.Lang.Name == "go" || slices.Contains(braced, f.Lang.Name) {
		for i, t := range f.Said {
			if t.Kind != lex.String || t.Pair > i || !f.ImportedString(i) {
				continue
			}
			if text, _ := f.Content(i); text != module {
				continue
			}
			if f.Lang.Name == "go" {
				f.bindGo(b, i, module)
			} else {
				f.bindScript(b, i)
			}
		}
		return b
	}
	names := SplitPath(module)
	for i, t := range f.Said {
		if t.Kind != lex.Word || t.Of(f.Text) != names[0] || IsMember(f.Word(i-1)) || !f.InImport(i) {
			continue
		}
		if end, ok := f.Sequence(i, names); ok {
			f.bindPath(b, i, end, names)
		} else if end, ok := f.Sequence(i, names[:len(names)-1]); ok && len(names) > 1 && f.Word(i-1) == "from" {
			f.eachName(end, func(at, local int, _ bool) { // from a import b
				if f.Word(at) == names[len(names)-1] {
					b.Whole = append(b.Whole, Local{f.Word(local), local})
				}
			})
		}
	}
	return b
}

// bindGo binds a package of Go, whose own name is guessed from its path where the import gives it none.
func (f *File) bindGo(b *Bound, i int, module string) {
	switch before := f.Word(i - 1); {
	case before == "." && f.Said[i-1].End < f.Said[i].Start:
		b.All = true
	case f.Said[i-1].Kind == lex.Word && before != "import" && f.Line(f.Said[i-1].Start) == f.Line(f.Said[i].Start):
		b.Whole = append(b.Whole, Local{before, i - 1})
	default:
		name := path.Base(module)
		if isMajor(name) {
			name = path.Base(path.Dir(module))
		}
		name, _, _ = strings.Cut(name, ".")
		b.Whole = append(b.Whole, Local{name, -1})
		for _, other := range []string{strings.TrimPrefix(name, "go-"), strings.TrimSuffix(name, "-go")} {
			if other != name {
				b.Whole = append(b.Whole, Local{other, -1})
			}
		}
	}
}

// isMajor tells of the last part of a path that is the major of a module.
func isMajor(name string) bool {
	return len(name) > 1 && name[0] == 'v' && strings.Trim(name[1:], "0123456789") == ""
}

// bindScript binds a module of JavaScript or TypeScript that a string names.
func (f *File) bindScript(b *Bound, i int) {
	if f.Word(i-1) == "from" {
		f.bindFrom(b, i)
		return
	}
	if f.Word(i-1) != "(" {
		return
	}
	called := i - 2
	switch f.Word(called) {
	case "mock":
		b.Mocks = append(b.Mocks, i)
		return
	case "require", "import":
	default:
		return
	}
	end := f.Said[i-1].Pair
	first := called
	if f.Word(first-1) == "await" {
		first--
	}
	if f.Word(first-1) == "(" && f.Said[first-1].Pair == end+1 { // (await import('m')).x
		end, first = end+1, first-1
	}
	if IsMember(f.Word(end + 1)) {
		b.Behind = append(b.Behind, end)
		return
	}
	if f.Word(first-1) != "=" || first < 2 {
		return
	}
	if f.Word(first-2) == "}" {
		f.eachName(f.Said[first-2].Pair, func(at, _ int, other bool) { b.Named = append(b.Named, Named{at, other}) })
	} else if f.Said[first-2].Kind == lex.Word {
		b.Whole = append(b.Whole, Local{f.Word(first - 2), first - 2})
	}
}

// bindFrom binds what stands before "from" of an import or an export.
func (f *File) bindFrom(b *Bound, i int) {
	start := i - 2
	for start > 0 && f.Word(start) != "import" && f.Word(start) != "export" {
		if p := f.Said[start].Pair; p >= 0 && p < start {
			start = p
		}
		start--
	}
	exports := f.Word(start) == "export"
	for k := start + 1; k < i-1; k++ {
		switch text := f.Word(k); {
		case text == "{":
			f.eachName(k, func(at, _ int, other bool) { b.Named = append(b.Named, Named{at, other || exports}) })
			k = f.Said[k].Pair
		case text == "*" && f.Word(k+1) == "as":
			if !exports {
				b.Whole = append(b.Whole, Local{f.Word(k + 2), k + 2})
			}
			k += 2
		case f.Said[k].Kind == lex.Word && !(text == "type" && f.Word(k+1) != "from" && f.Word(k+1) != ","):
			b.Whole = append(b.Whole, Local{text, k}) // the default of a module is the module, where it was written for require
		}
	}
}

// bindPath binds a module that an import names by a path of names, which ends before a token.
func (f *File) bindPath(b *Bound, i, end int, names []string) {
	last := names[len(names)-1]
	switch {
	case f.Word(i-1) == "from" && f.Word(end) == "import": // Python
		if f.Word(end+1) == "*" {
			b.All = true
			return
		}
		f.eachName(end, func(at, _ int, other bool) { b.Named = append(b.Named, Named{at, other}) })
	case IsMember(f.Word(end)) || f.Word(end) == `\`:
		switch next := f.Word(end + 1); {
		case next == "*" || next == "_":
			b.All = true
		case next == "{":
			f.eachName(end+1, func(at, _ int, other bool) { b.Named = append(b.Named, Named{at, other}) })
		case f.Said[min(end+1, len(f.Said)-1)].Kind == lex.Word:
			b.Named = append(b.Named, Named{end + 1, f.Word(end+2) == "as"})
		}
	case f.Word(end) == "as":
		b.Whole = append(b.Whole, Local{f.Word(end + 1), end + 1})
	case f.Word(i-1) == "=" && f.Said[max(0, i-2)].Kind == lex.Word: // using Q = A.B
		b.Whole = append(b.Whole, Local{f.Word(i - 2), i - 2})
	case f.Lang.Name == "python" && len(names) > 1: // it is known by its whole path
	default:
		b.Whole = append(b.Whole, Local{last, end - 1})
	}
}

// eachName goes through a list of names that begins at or behind a token, each with what it is called in the file.
func (f *File) eachName(at int, do func(at, local int, other bool)) {
	k, end := at+1, len(f.Said)
	if open := at; f.Word(open) == "import" && f.Word(open+1) == "(" { // Python's brackets
		k, end = open+2, f.Said[open+1].Pair
	} else if p := f.Said[max(open, 0)].Pair; p > open {
		end = p
	}
	for ; k < end; k++ {
		if f.Said[k].Kind != lex.Word {
			if f.Word(k) != "," {
				return
			}
			continue
		}
		if f.Word(k) == "type" && f.Said[min(k+1, len(f.Said)-1)].Kind == lex.Word && f.Word(k+1) != "as" {
			continue
		}
		name, local := k, k
		other := f.Word(k+1) == "as" || f.Word(k+1) == ":" || f.Word(k+1) == "=>"
		if other {
			local = k + 2
			k += 2
		}
		do(name, local, other)
		if f.Word(k+1) != "," {
			return
		}
	}
}
