package rewrite

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/lex"
	"bellwether/internal/core/rewrite/source"
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
	Of       string   // of a member: the module that exports it; empty for a member of anything
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
	if b.What != MemberOf && b.Of != "" {
		return errors.New("of says which module a member belongs to")
	}
	return nil
}

func (b *Rename) apply(r *Rule, f *source.File) (c changed, err error) {
	if f.Lang == nil {
		return c, nil
	}
	f.Split()
	switch b.What {
	case ModuleOf:
		b.modules(f, &c)
	case MemberOf:
		if b.Of != "" {
			b.bound(f, &c)
			break
		}
		b.members(f, &c)
	default:
		b.names(f, &c)
	}
	b.elsewhere(f, &c)
	return c, nil
}

func (c *changed) put(f *source.File, start, end int, text string) {
	c.edits = append(c.edits, splice.Edit{Start: start, End: end, New: text})
	c.places = append(c.places, start)
}

func (c *changed) leave(f *source.File, at int, format string, args ...any) {
	c.left = append(c.left, Left{f.Name, f.Line(at), fmt.Sprintf(format, args...)})
}

// members renames the name wherever it stands behind a dot.
func (b *Rename) members(f *source.File, c *changed) {
	for i, t := range f.Said {
		if t.Kind == lex.Word && t.Of(f.Text) == b.Old && source.IsMember(f.Word(i-1)) {
			c.put(f, t.Start, t.End, b.New)
		}
	}
}

// names renames the name where it stands as code. Where the new one would be another thing's, all of the file stays.
func (b *Rename) names(f *source.File, c *changed) {
	f.Looked = 0
	hidden := f.Declared(b.Old)
	taken := f.Taken(b.New)
	if f.Tired() {
		c.left = append(c.left, Left{f.Name, 0, "where " + b.Old + " counts cannot be told: it is nested too deep"})
		return
	}
	var own changed
	scopes, theirs := source.Covered(hidden), source.Covered(taken)
	clash := -1
	for i, t := range f.Said {
		if t.Kind != lex.Word || t.Of(f.Text) != b.Old || source.IsMember(f.Word(i-1)) || f.Exported(i) {
			continue
		}
		if at := scopes.At(i); at >= 0 {
			if i != hidden[at].Name {
				c.leave(f, t.Start, "%s is declared here anew, in line %d", b.Old, f.Line(f.Said[hidden[at].Name].Start))
			}
			continue
		}
		if at := theirs.At(i); at >= 0 && clash < 0 {
			clash = taken[at].Name
		}
		switch f.RoleOf(i) {
		case source.RoleKey: // the name of a member, of an argument or of an attribute
		case source.RoleShorthand:
			own.put(f, t.Start, t.End, b.Old+": "+b.New)
		case source.RoleExported:
			own.put(f, t.Start, t.End, b.New+" as "+b.Old)
		default:
			own.put(f, t.Start, t.End, b.New)
		}
	}
	if clash >= 0 {
		for _, at := range own.places {
			c.leave(f, at, "%s is something else here, by line %d", b.New, f.Line(f.Said[clash].Start))
		}
		return
	}
	c.edits, c.places = append(c.edits, own.edits...), append(c.places, own.places...)
}

// modules renames a module or a path of names.
func (b *Rename) modules(f *source.File, c *changed) {
	names := source.SplitPath(b.Old)
	dotted := !strings.Contains(b.Old, "/") && !strings.HasPrefix(b.Old, "@")
	for i, t := range f.Said {
		switch {
		case t.Kind == lex.String && t.Pair <= i:
			text, start := f.Content(i)
			if rest, ok := b.within(text, "/"); ok && f.ImportedString(i) {
				c.put(f, start, start+len(text), b.New+rest)
			}
		case t.Kind == lex.Word && dotted && t.Of(f.Text) == names[0] && !source.IsMember(f.Word(i-1)) && !f.GoesOn(i):
			if len(names) > 1 || f.InImport(i) {
				b.path(f, i, names, c)
			}
		}
	}
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
func (b *Rename) path(f *source.File, i int, names []string, c *changed) {
	end, ok := f.Sequence(i, names)
	if !ok {
		b.parted(f, i, names, c)
		return
	}
	whole := b.Old
	separator := f.Word(i + 1)
	if len(names) == 1 {
		separator = "."
	}
	for k := end; source.IsMember(f.Word(k)) || f.Word(k) == `\`; k += 2 {
		if k+1 >= len(f.Said) || f.Said[k+1].Kind != lex.Word {
			break
		}
		whole += "." + f.Word(k+1)
	}
	unless := slices.ContainsFunc(b.Unless, func(u string) bool {
		u = strings.Join(source.SplitPath(u), ".")
		whole := strings.Join(source.SplitPath(whole), ".")
		return whole == u || strings.HasPrefix(whole, u+".")
	})
	last := names[len(names)-1]
	class := last != "" && last[0] >= 'A' && last[0] <= 'Z'
	if unless || whole != b.Old && !b.Below && !class && f.InImport(i) {
		return
	}
	next := strings.Join(source.SplitPath(b.New), separator)
	if f.Lang.Name == "php" && strings.Contains(b.New, `\`) || len(names) == 1 {
		next = b.New
	}
	c.put(f, f.Said[i].Start, f.Said[end-1].End, next)
}

// parted renames "from a import b", in which the path is in two parts.
func (b *Rename) parted(f *source.File, i int, names []string, c *changed) {
	if f.Lang.Name != "python" || len(names) < 2 || f.Word(i-1) != "from" {
		return
	}
	end, ok := f.Sequence(i, names[:len(names)-1])
	if !ok || f.Word(end) != "import" {
		return
	}
	first := end + 1
	if f.Word(first) == "(" {
		first++
	}
	last := names[len(names)-1]
	for k := first; k < len(f.Said) && (f.Said[k].Kind == lex.Word || f.Word(k) == ","); k++ {
		if f.Word(k) != last || f.Word(k-1) == "as" {
			continue
		}
		next := source.SplitPath(b.New)
		alone := k == first && f.Word(k+1) != "," && f.Word(end+1) != "("
		sameLine := k+1 < len(f.Said) && !strings.Contains(f.Text[f.Said[k].End:f.Said[k+1].Start], "\n")
		if !alone || sameLine && f.Word(k+1) == "as" && next[len(next)-1] == last && len(next) < 2 {
			c.leave(f, f.Said[k].Start, "%s is imported in one list with others; write an import of its own for it", b.Old)
			return
		}
		text := next[len(next)-1]
		if text != last && !(sameLine && f.Word(k+1) == "as") {
			text += " as " + last
		}
		c.put(f, f.Said[i].Start, f.Said[k].End, strings.Join(next[:len(next)-1], ".")+" import "+text)
		return
	}
}

// elsewhere renames the name in strings, comments and texts, where that is asked for.
func (b *Rename) elsewhere(f *source.File, c *changed) {
	if len(b.Also) == 0 {
		return
	}
	taken := map[int]bool{}
	for _, e := range c.edits {
		taken[e.Start] = true
	}
	word := regexp.MustCompile(`(?:^|[^\pL\pN_$])(` + regexp.QuoteMeta(b.Old) + `)`)
	for _, t := range f.Tokens {
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
