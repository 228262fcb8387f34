package source

import (
	"slices"
	"strings"

	"bellwether/internal/core/lex"
)

// Tied tells whether a file uses a name as one of a module's: it imports it by that name, it stands behind a name that the module is
// known by, or it is a setting in a call of something of the module.
func (f *File) Tied(name, module string) bool {
	is := f.Bind(module)
	var known []string
	for _, l := range is.Whole {
		known = append(known, l.Name)
	}
	for _, n := range is.Named {
		if f.Word(n.Token) == name {
			return true
		}
		known = append(known, f.Word(n.Token))
		if n.Other && slices.Contains([]string{"as", ":", "=>"}, f.Word(n.Token+1)) {
			known = append(known, f.Word(n.Token+2))
		}
	}
	for _, at := range is.Behind {
		if f.Word(at+2) == name {
			return true
		}
	}
	for i, t := range f.Said { // a part of the module that is imported by its path
		if t.Kind != lex.String || !f.ImportedString(i) {
			continue
		}
		text, _ := f.Content(i)
		if below, ok := strings.CutPrefix(text, module+"/"); ok && slices.Contains(strings.Split(below, "/"), name) {
			return true
		}
	}
	if len(known) == 0 {
		return false
	}
	made := f.made(known)
	for i := range f.Said {
		if f.Word(i) != name {
			continue
		}
		if first := f.chain(i); first != i && (slices.Contains(known, f.Word(first)) || slices.Contains(made, f.Word(first))) {
			return true
		}
		if after := f.Word(i + 1); (after == ":" || after == "," || after == "}") && f.setting(i, known) {
			return true
		}
	}
	return false
}

// chain is the first token of the names with members that a token ends.
func (f *File) chain(i int) int {
	for i > 1 && IsMember(f.Word(i-1)) {
		before := i - 2
		if p := f.Said[before].Pair; p >= 0 && p < before && strings.Contains(")]", f.Word(before)) {
			before = p - 1
		}
		if before < 0 {
			break
		}
		i = before
	}
	return i
}

// made are the names that get what something known gives: "const app = quay()".
func (f *File) made(known []string) (names []string) {
	for i := range f.Said {
		if i == 0 || !slices.Contains(known, f.Word(i)) || IsMember(f.Word(i-1)) {
			continue
		}
		at := i - 1
		for at > 0 && (f.Word(at) == "new" || f.Word(at) == "await") {
			at--
		}
		if f.Word(at) == "=" || f.Word(at) == ":=" {
			names = append(names, f.Word(at-1))
		}
	}
	return names
}

// settings is how many brackets around a setting are looked at.
const settings = 6

// setting tells whether a token stands in the arguments of a call of something known.
func (f *File) setting(i int, known []string) bool {
	open := f.enclosing(i)
	for range settings {
		if open < 1 {
			return false
		}
		if f.Word(open) == "(" && slices.Contains(known, f.Word(f.chain(open-1))) {
			return true
		}
		open = f.enclosing(open)
	}
	return false
}
