package source

import (
	"slices"

	"bellwether/internal/core/lex"
)

// Role is what a name stands for in its place.
type Role int

// The roles of names.
const (
	roleName      Role = iota // of a thing
	RoleKey                   // the name of a member, an argument or an attribute, which is another thing
	RoleShorthand             // both a member's name and its value
	RoleExported              // what a module offers under this name
)

// braced are languages in which a member's name and value may be written as one.
var braced = []string{"javascript", "typescript", "html"}

// RoleOf is what the name at a token stands for.
func (f *File) RoleOf(i int) Role {
	before, after := f.Word(i-1), f.Word(i+1)
	open := f.enclosing(i)
	switch {
	case f.Lang.Name == "python" && after == "=" && open >= 0 && f.Word(open) == "(" && (before == "(" || before == ","):
		return RoleKey // an argument's name
	case f.Lang.Name == "ruby" && after == ":" && before != "?" && f.Said[i].End == f.Said[i+1].Start:
		return RoleKey // a symbol
	case f.Lang.Name == "ruby" && before == ":" && f.Said[i-1].End == f.Said[i].Start:
		return RoleKey
	}
	if open >= 0 && f.inElement(open) {
		return roleName // code between an element's tags, or in an attribute
	}
	if !slices.Contains(braced, f.Lang.Name) || open < 0 || f.Word(open) != "{" || before != "{" && before != "," {
		if slices.Contains(braced, f.Lang.Name) && after == "=" && i > 0 && f.attribute(i) {
			return RoleKey
		}
		return roleName
	}
	if after == ":" {
		return RoleKey
	}
	if after == "(" && f.Said[i+1].Pair > 0 && f.Word(f.Said[i+1].Pair+1) == "{" {
		return RoleKey // a method
	}
	if after != "," && after != "}" && after != "as" && after != "=" {
		return roleName
	}
	lead := f.Word(open - 1)
	if lead == "export" && f.Word(f.Said[open].Pair+1) != "from" || lead == "export" {
		if after == "as" {
			return roleName
		}
		return RoleExported
	}
	if lead == "import" || lead == "type" || f.imports(open) {
		return roleName
	}
	if f.Word(f.Said[open].Pair+1) == "=" { // taken out of something
		if next := f.Word(f.Said[open].Pair + 2); next == "require" || next == "await" {
			return roleName
		}
		return RoleKey
	}
	if after == "=" {
		return roleName
	}
	return RoleShorthand
}

// inElement tells whether curly brackets stand directly in an element, or in its tag.
func (f *File) inElement(open int) bool {
	outer := f.nested().outer[open]
	return f.Word(open) == "{" && outer >= 0 && f.Word(outer) == "<"
}

// attribute tells whether a name is one of an element's attributes.
func (f *File) attribute(i int) bool {
	for k := i - 1; k >= 0 && k > i-400; k-- {
		switch p := f.Said[k].Pair; {
		case p >= 0 && p < k:
			k = p
		case f.Word(k) == "<":
			return p > i
		case f.Word(k) == ">", f.Word(k) == ";":
			return false
		}
	}
	return false
}

// GoesOn tells whether a name goes on a path of PHP.
func (f *File) GoesOn(i int) bool {
	return f.Word(i-1) == `\` && i > 1 && f.Said[i-2].Kind == lex.Word && f.Said[i-2].End == f.Said[i-1].Start
}
