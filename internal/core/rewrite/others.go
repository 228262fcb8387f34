package rewrite

import (
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"bellwether/internal/core/keys"
	"bellwether/internal/core/lex"
	"bellwether/internal/core/reserved"
	"bellwether/internal/core/rewrite/source"
	"bellwether/internal/core/splice"
)

// Value renames a class, a service, a preset or an image that configuration or a string names.
type Value struct {
	Old, New string
	Below    bool     // also what goes on behind it, after one of ". / : $ @ #"
	Unless   []string // what is below it and stays
	Key      string   // only of this key; empty for any place
	Code     bool     // also in strings of source
}

// Kind is "value".
func (*Value) Kind() string { return "value" }

func (b *Value) words() []string { return []string{b.Old} }

// Check says what is wrong with the rule as it is written; nil for nothing.
func (b *Value) Check() error {
	if b.Old == "" || b.Old == b.New {
		return errors.New("a value wants two different texts")
	}
	return nil
}

// boundary are characters that a longer name goes on with.
const boundary = "-_$"

func (b *Value) apply(_ *Rule, f *source.File) (c changed, err error) {
	_, isConfig := keys.FormatOf(f.Name)
	if f.Lang == nil || !isConfig && !b.Code {
		return c, nil
	}
	d, _ := f.Config()
	if b.Key != "" {
		if d == nil {
			return c, nil
		}
		for _, e := range d.Find(keys.Split(b.Key)) {
			if rest, ok := b.is(e.Text); ok && e.Scalar {
				edit, err := d.Set(e, keys.Value{Text: b.New + rest})
				c.try(f, at(f, e), err, edit)
			}
		}
		return c, nil
	}
	f.Split()
	for _, t := range f.Tokens {
		if t.Kind == lex.Comment || t.Kind == lex.Space || !isConfig && t.Kind != lex.String {
			continue
		}
		b.within(f, t, d, isConfig, &c)
	}
	if isConfig && f.Lang != nil {
		b.across(f, d, &c)
	}
	return c, nil
}

// is tells whether a text is the value, or goes on behind it.
func (b *Value) is(text string) (rest string, ok bool) {
	rest, ok = strings.CutPrefix(text, b.Old)
	if !ok || rest != "" && (!b.Below || !strings.Contains("./:$@#", rest[:1])) {
		return "", false
	}
	return rest, !slices.ContainsFunc(b.Unless, func(u string) bool {
		after, ok := strings.CutPrefix(text, u)
		return ok && (after == "" || strings.Contains("./:$@#", after[:1]))
	})
}

// within renames it in one token.
func (b *Value) within(f *source.File, t lex.Token, d *keys.Document, isConfig bool, c *changed) {
	text := t.Of(f.Text)
	start := t.Start
	if t.Kind == lex.String {
		inner := strings.Trim(text, "\"'`")
		start += strings.Index(text, inner)
		text = inner
	}
	if _, ok := b.is(text); ok && (!isConfig || !d.IsKey(start)) && !b.goesOn(f, start, start+len(text), t.Kind) {
		c.put(f, start, start+len(b.Old), b.New)
	}
}

// goesOn tells whether a longer value stands around a token that is no string.
func (b *Value) goesOn(f *source.File, start, end int, kind lex.Kind) bool {
	if kind == lex.String || kind == lex.Text {
		return false
	}
	around := boundary + "./:@"
	return start > 0 && strings.IndexByte(around, f.Text[start-1]) >= 0 ||
		end < len(f.Text) && strings.IndexByte(boundary+"./@", f.Text[end]) >= 0
}

// across renames values that are several tokens of their format: "a/b:1" in YAML.
func (b *Value) across(f *source.File, d *keys.Document, c *changed) {
	if d == nil || !strings.ContainsAny(b.Old, "/:@#") && !b.Below {
		return
	}
	for _, e := range d.Entries {
		if rest, ok := b.is(e.Text); ok && e.Scalar {
			from, _ := d.ValueRange(e)
			at := from + strings.Index(f.Text[from:], b.Old)
			if slices.ContainsFunc(c.edits, func(x splice.Edit) bool { return x.Start <= at && at < x.End+1 }) {
				continue
			}
			_ = rest
			c.put(f, at, at+len(b.Old), b.New)
		}
	}
}

// Line inserts a text beside a line, once.
type Line struct {
	After, Before *regexp.Regexp // one of them
	Insert        string
	Unless        string // a text that says that it is done; empty for the inserted one
}

// Kind is "line".
func (*Line) Kind() string { return "line" }

func (b *Line) words() []string { return nil }

// Check says what is wrong with the rule as it is written; nil for nothing.
func (b *Line) Check() error {
	if (b.After == nil) == (b.Before == nil) || strings.TrimSpace(b.Insert) == "" {
		return errors.New("a line wants insert, and either after or before")
	}
	return nil
}

func (b *Line) apply(_ *Rule, f *source.File) (c changed, err error) {
	unix := strings.ReplaceAll(f.Text, "\r\n", "\n")
	done := b.Unless
	if done == "" {
		done = strings.Trim(b.Insert, "\n")
	}
	if strings.Contains(unix, done) {
		return c, nil
	}
	anchor := b.After
	if anchor == nil {
		anchor = b.Before
	}
	start := 0
	for line := range strings.Lines(f.Text) {
		if anchor.MatchString(strings.TrimRight(line, "\r\n")) {
			place := start
			text := strings.TrimRight(b.Insert, "\n") + "\n"
			if b.After != nil {
				place += len(line)
				if !strings.HasSuffix(line, "\n") {
					text = "\n" + strings.TrimSuffix(text, "\n")
				}
			}
			c.edit(start, splice.Edit{Start: place, End: place, New: text})
			return c, nil
		}
		start += len(line)
	}
	return c, nil
}

// ToDo says what a person has to do, and finds the places.
type ToDo struct {
	Text string
	Find *Shape // one of these
	Name *Rename
	Key  string
	Word *regexp.Regexp // in any text
}

// Kind is "todo".
func (*ToDo) Kind() string { return "todo" }

func (b *ToDo) words() []string {
	switch {
	case b.Find != nil:
		return b.Find.words()
	case b.Name != nil:
		return b.Name.words()
	}
	return nil
}

func (b *ToDo) apply(r *Rule, f *source.File) (c changed, err error) {
	var found changed
	switch {
	case b.Find != nil:
		if found.places, err = b.Find.standing(r, f); err != nil {
			return c, err
		}
	case b.Name != nil:
		found, err = b.Name.apply(r, f)
	case b.Key != "":
		if d, _ := f.Config(); d != nil {
			for _, e := range d.Find(keys.Split(b.Key)) {
				found.places = append(found.places, at(f, e))
			}
		}
	default:
		for _, m := range b.Word.FindAllStringIndex(f.Text, -1) {
			found.places = append(found.places, m[0])
		}
	}
	for _, place := range found.places {
		c.leave(f, place, "%s", b.Text)
	}
	return c, err
}

// Requirement replaces, adds or drops a requirement of the manifest. It is the leg's matter,
// since everything is solved anew.
type Requirement struct {
	Old, New, Range string
}

// Kind is "requirement".
func (*Requirement) Kind() string { return "requirement" }

// Command is a program of the framework that rewrites the project. It runs in a scratch, and
// only where someone said yes to it.
type Command struct {
	Run     []string
	Minutes int
}

// Kind is "command".
func (*Command) Kind() string { return "command" }

// Move moves, adds or deletes a file.
type Move struct {
	From, To string
	Delete   string // a name, or a pattern of names that git ignores
	Add      string
	Text     string // of the one that is added
}

// Kind is "file".
func (*Move) Kind() string { return "file" }

// Check says what is wrong with the rule as it is written; nil for nothing.
func (b *Move) Check() error {
	n := 0
	for _, name := range []string{b.From, b.To, b.Delete, b.Add} {
		if name == "" {
			continue
		}
		if name != b.To {
			n++
		}
		switch owner := reserved.Of(path.Clean(name)); {
		case path.IsAbs(name) || strings.HasPrefix(path.Clean(name), ".."):
			return fmt.Errorf("%q leads out of the project", name)
		case owner == reserved.Git:
			return fmt.Errorf("%q belongs to git, and no rule may change it", name)
		case owner == reserved.Bellwether:
			return fmt.Errorf("%q belongs to Bellwether, and no rule may change it", name)
		}
	}
	if n != 1 || (b.From != "") != (b.To != "") {
		return errors.New("a file is moved from and to, deleted or added")
	}
	return nil
}

func (b *Move) applyAll(r *Rule, t *state, o *Outcome) error {
	switch {
	case b.Add != "":
		if !t.exists(b.Add) {
			t.create(o, path.Clean(b.Add), b.Text)
		}
		return nil
	case b.Delete != "":
		return b.remove(t, o)
	}
	from, to := path.Clean(b.From), path.Clean(b.To)
	switch {
	case !t.exists(from):
		return nil
	case t.exists(to):
		o.Left = append(o.Left, Left{File: from, Reason: to + " is there already"})
		return nil
	}
	if err := t.move(o, from, to); err != nil {
		return err
	}
	return b.refer(r, t, o, from, to)
}

func (b *Move) remove(t *state, o *Outcome) error {
	listed := !strings.ContainsAny(b.Delete, "*?[{")
	for _, name := range t.all() {
		if !Matches([]string{b.Delete}, name) {
			continue
		}
		if listed && name == path.Clean(b.Delete) || t.in.Ignored != nil && t.in.Ignored(name) {
			if err := t.remove(o, name); err != nil {
				return err
			}
			continue
		}
		o.Left = append(o.Left, Left{File: name, Reason: "git does not ignore it, and the rule does not name it in full"})
	}
	return nil
}

// refer renames what refers to a file that moved: its path from the project's root in strings
// and configuration, and its place from the importing file.
func (b *Move) refer(r *Rule, t *state, o *Outcome, from, to string) error {
	for _, name := range t.names() {
		f, err := t.file(name)
		if err != nil {
			return err
		}
		if f == nil || f.Lang == nil || !strings.Contains(f.Text, bareName(from)) {
			continue
		}
		f.Split()
		var c changed
		for _, k := range f.Tokens {
			if k.Kind != lex.String && k.Kind != lex.Word || k.Pair >= 0 {
				continue
			}
			text := strings.Trim(k.Of(f.Text), "\"'`")
			if next := referred(name, text, from, to); next != text && text != "" {
				start := k.Start + strings.Index(k.Of(f.Text), text)
				c.put(f, start, start+len(text), next)
			}
		}
		if err := t.change(r, o, f, c.edits, c.places); err != nil {
			return err
		}
	}
	return nil
}

// bareName is a file's last name without its ending.
func bareName(file string) string {
	base := path.Base(file)
	return strings.TrimSuffix(base, path.Ext(base))
}

// referred is what a text of a file becomes, if it refers to a file that moved.
func referred(in, text, from, to string) string {
	bare := strings.TrimPrefix(text, "./")
	if bare == from && strings.Contains(from, "/") {
		return text[:len(text)-len(bare)] + to
	}
	if !strings.HasPrefix(text, "./") && !strings.HasPrefix(text, "../") {
		return text
	}
	there := path.Join(path.Dir(in), text)
	ending := path.Ext(from)
	switch there {
	case from:
		return relative(path.Dir(in), to)
	case strings.TrimSuffix(from, ending):
		return relative(path.Dir(in), strings.TrimSuffix(to, path.Ext(to)))
	}
	return text
}

// relative is the way from a folder to a file, which begins with a dot.
func relative(dir, file string) string {
	var a, b []string
	if dir != "." {
		a = strings.Split(dir, "/")
	}
	b = strings.Split(file, "/")
	for len(a) > 0 && len(b) > 1 && a[0] == b[0] {
		a, b = a[1:], b[1:]
	}
	if len(a) == 0 {
		return "./" + strings.Join(b, "/")
	}
	return strings.Repeat("../", len(a)) + strings.Join(b, "/")
}
