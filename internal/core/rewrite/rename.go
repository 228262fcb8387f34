package rewrite

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/lex"
	"bellwether/internal/core/splice"
)

// What a name is that is renamed.
const (
	NameOf   = "name"   // a function, a class, a variable, a type
	MemberOf = "member" // of anything: what stands behind a dot
	ModuleOf = "module" // a module, a package or a path of names
)

// Whats are all of them.
var Whats = []string{NameOf, MemberOf, ModuleOf}

// Elsewhere are what a rename can be extended to.
var Elsewhere = []string{"strings", "comments", "text"}

// Rename gives something another name.
type Rename struct {
	What     string
	Old, New string
	Below    bool     // of a module: also everything below it
	Unless   []string // what is below it and keeps its name
	Also     []string // of Elsewhere
}

// Kind is "rename".
func (*Rename) Kind() string { return "rename" }

func (b *Rename) words() []string { return []string{b.Old} }

// Check tells what is wrong with it.
func (b *Rename) Check() error {
	if b.Old == "" || b.Old == b.New {
		return errors.New("a rename wants two different names")
	}
	if b.What != ModuleOf && (b.Below || len(b.Unless) > 0) {
		return errors.New("below and unless are for a module")
	}
	return nil
}

func (b *Rename) apply(r *Rule, f *File) (c changed, err error) {
	if f.Lang == nil {
		return c, nil
	}
	f.split()
	switch b.What {
	case ModuleOf:
		b.modules(f, &c)
	default:
		b.names(f, &c)
	}
	b.elsewhere(f, &c)
	return c, nil
}

func (c *changed) put(f *File, start, end int, text string) {
	c.edits = append(c.edits, splice.Edit{Start: start, End: end, New: text})
	c.places = append(c.places, start)
}

func (c *changed) leave(f *File, at int, format string, args ...any) {
	c.left = append(c.left, Left{f.Name, f.line(at), fmt.Sprintf(format, args...)})
}

// names renames the name where it stands as code.
func (b *Rename) names(f *File, c *changed) {
	var hidden []scope
	if b.What == NameOf {
		f.looked = 0
		hidden = f.declared(b.Old)
	}
	if f.tired() {
		c.left = append(c.left, Left{f.Name, 0, "where " + b.Old + " counts cannot be told: it is nested too deep"})
		return
	}
	scopes := covered(hidden)
	for i, t := range f.said {
		if t.Kind != lex.Word || t.Of(f.Text) != b.Old || isMember(f.text(i-1)) != (b.What == MemberOf) {
			continue
		}
		if b.What == MemberOf {
			c.put(f, t.Start, t.End, b.New)
			continue
		}
		if at := scopes.at(i); at >= 0 {
			if i != hidden[at].name {
				c.leave(f, t.Start, "%s is declared here anew, in line %d", b.Old, f.line(f.said[hidden[at].name].Start))
			}
			continue
		}
		switch f.role(i) {
		case roleKey: // the name of a member, of an argument or of an attribute
		case roleShorthand:
			c.put(f, t.Start, t.End, b.Old+": "+b.New)
		case roleExported:
			c.put(f, t.Start, t.End, b.New+" as "+b.Old)
		default:
			c.put(f, t.Start, t.End, b.New)
		}
	}
}

// role is what a name stands for in its place.
type role int

const (
	roleName      role = iota
	roleKey            // the name of a member, an argument or an attribute, which is another thing
	roleShorthand      // both a member's name and its value
	roleExported       // what a module offers under this name
)

// braced are languages in which a member's name and value may be written as one.
var braced = []string{"javascript", "typescript", "html"}

func (f *File) role(i int) role {
	before, after := f.text(i-1), f.text(i+1)
	open := f.enclosing(i)
	switch {
	case f.Lang.Name == "python" && after == "=" && open >= 0 && f.text(open) == "(" && (before == "(" || before == ","):
		return roleKey // an argument's name
	case f.Lang.Name == "ruby" && after == ":" && before != "?" && f.said[i].End == f.said[i+1].Start:
		return roleKey // a symbol
	case f.Lang.Name == "ruby" && before == ":" && f.said[i-1].End == f.said[i].Start:
		return roleKey
	}
	if open >= 0 && f.inElement(open) {
		return roleName // code between an element's tags, or in an attribute
	}
	if !slices.Contains(braced, f.Lang.Name) || open < 0 || f.text(open) != "{" || before != "{" && before != "," {
		if slices.Contains(braced, f.Lang.Name) && after == "=" && i > 0 && f.attribute(i) {
			return roleKey
		}
		return roleName
	}
	if after == ":" {
		return roleKey
	}
	if after == "(" && f.said[i+1].Pair > 0 && f.text(f.said[i+1].Pair+1) == "{" {
		return roleKey // a method
	}
	if after != "," && after != "}" && after != "as" && after != "=" {
		return roleName
	}
	lead := f.text(open - 1)
	if lead == "export" && f.text(f.said[open].Pair+1) != "from" || lead == "export" {
		if after == "as" {
			return roleName
		}
		return roleExported
	}
	if lead == "import" || lead == "type" || f.imports(open) {
		return roleName
	}
	if f.text(f.said[open].Pair+1) == "=" { // taken out of something
		if next := f.text(f.said[open].Pair + 2); next == "require" || next == "await" {
			return roleName
		}
		return roleKey
	}
	if after == "=" {
		return roleName
	}
	return roleShorthand
}

// inElement tells whether curly brackets stand directly in an element, or in its tag.
func (f *File) inElement(open int) bool {
	outer := f.nested().outer[open]
	return f.text(open) == "{" && outer >= 0 && f.text(outer) == "<"
}

// attribute tells whether a name is one of an element's attributes.
func (f *File) attribute(i int) bool {
	for k := i - 1; k >= 0 && k > i-400; k-- {
		switch p := f.said[k].Pair; {
		case p >= 0 && p < k:
			k = p
		case f.text(k) == "<":
			return p > i
		case f.text(k) == ">", f.text(k) == ";":
			return false
		}
	}
	return false
}

// modules renames a module or a path of names.
func (b *Rename) modules(f *File, c *changed) {
	names := splitPath(b.Old)
	dotted := !strings.Contains(b.Old, "/") && !strings.HasPrefix(b.Old, "@")
	for i, t := range f.said {
		switch {
		case t.Kind == lex.String && t.Pair <= i:
			text, start := f.content(i)
			if rest, ok := b.within(text, "/"); ok && f.importedString(i) {
				c.put(f, start, start+len(text), b.New+rest)
			}
		case t.Kind == lex.Word && dotted && t.Of(f.Text) == names[0] && !isMember(f.text(i-1)) && !f.goesOn(i):
			if len(names) > 1 || f.inImport(i) {
				b.path(f, i, names, c)
			}
		}
	}
}

// goesOn tells whether a name goes on a path of PHP.
func (f *File) goesOn(i int) bool {
	return f.text(i-1) == `\` && i > 1 && f.said[i-2].Kind == lex.Word && f.said[i-2].End == f.said[i-1].Start
}

// within tells whether a path is the module, or below it where that counts, and gives what is
// behind it.
func (b *Rename) within(path, separator string) (rest string, ok bool) {
	rest, ok = strings.CutPrefix(path, b.Old)
	if !ok || rest != "" && (!b.Below || !strings.HasPrefix(rest, separator)) {
		return "", false
	}
	return rest, !b.kept(path, separator)
}

// kept tells whether a path is one that keeps its name.
func (b *Rename) kept(path, separator string) bool {
	return slices.ContainsFunc(b.Unless, func(u string) bool { return path == u || strings.HasPrefix(path, u+separator) })
}

// path renames a path of names that begins at a token.
func (b *Rename) path(f *File, i int, names []string, c *changed) {
	end, ok := f.sequence(i, names)
	if !ok {
		b.parted(f, i, names, c)
		return
	}
	whole := b.Old
	separator := f.text(i + 1)
	if len(names) == 1 {
		separator = "."
	}
	for k := end; isMember(f.text(k)) || f.text(k) == `\`; k += 2 {
		if k+1 >= len(f.said) || f.said[k+1].Kind != lex.Word {
			break
		}
		whole += "." + f.text(k+1)
	}
	unless := slices.ContainsFunc(b.Unless, func(u string) bool {
		u = strings.Join(splitPath(u), ".")
		whole := strings.Join(splitPath(whole), ".")
		return whole == u || strings.HasPrefix(whole, u+".")
	})
	last := names[len(names)-1]
	class := last != "" && last[0] >= 'A' && last[0] <= 'Z'
	if unless || whole != b.Old && !b.Below && !class && f.inImport(i) {
		return
	}
	next := strings.Join(splitPath(b.New), separator)
	if f.Lang.Name == "php" && strings.Contains(b.New, `\`) || len(names) == 1 {
		next = b.New
	}
	c.put(f, f.said[i].Start, f.said[end-1].End, next)
}

// parted renames "from a import b", in which the path is in two parts.
func (b *Rename) parted(f *File, i int, names []string, c *changed) {
	if f.Lang.Name != "python" || len(names) < 2 || f.text(i-1) != "from" {
		return
	}
	end, ok := f.sequence(i, names[:len(names)-1])
	if !ok || f.text(end) != "import" {
		return
	}
	first := end + 1
	if f.text(first) == "(" {
		first++
	}
	last := names[len(names)-1]
	for k := first; k < len(f.said) && (f.said[k].Kind == lex.Word || f.text(k) == ","); k++ {
		if f.text(k) != last || f.text(k-1) == "as" {
			continue
		}
		next := splitPath(b.New)
		alone := k == first && f.text(k+1) != "," && f.text(end+1) != "("
		sameLine := k+1 < len(f.said) && !strings.Contains(f.Text[f.said[k].End:f.said[k+1].Start], "\n")
		if !alone || sameLine && f.text(k+1) == "as" && next[len(next)-1] == last && len(next) < 2 {
			c.leave(f, f.said[k].Start, "%s is imported in one list with others; write an import of its own for it", b.Old)
			return
		}
		text := next[len(next)-1]
		if text != last && !(sameLine && f.text(k+1) == "as") {
			text += " as " + last
		}
		c.put(f, f.said[i].Start, f.said[k].End, strings.Join(next[:len(next)-1], ".")+" import "+text)
		return
	}
}

// elsewhere renames the name in strings, comments and texts, where that is asked for.
func (b *Rename) elsewhere(f *File, c *changed) {
	if len(b.Also) == 0 {
		return
	}
	taken := map[int]bool{}
	for _, e := range c.edits {
		taken[e.Start] = true
	}
	word := regexp.MustCompile(`(?:^|[^\pL\pN_$])(` + regexp.QuoteMeta(b.Old) + `)`)
	for _, t := range f.tokens {
		kind := map[lex.Kind]string{lex.String: "strings", lex.Comment: "comments", lex.Text: "text"}[t.Kind]
		if !slices.Contains(b.Also, kind) {
			continue
		}
		text := t.Of(f.Text)
		for _, m := range word.FindAllStringSubmatchIndex(text, -1) {
			if rest := text[m[3]:]; rest != "" && wordy.MatchString(rest) || taken[t.Start+m[2]] {
				continue
			}
			c.put(f, t.Start+m[2], t.Start+m[3], b.New)
		}
	}
}

var wordy = lazyregexp.New(`^[\pL\pN_$]`)
