package rewrite

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/keys"
	"bellwether/internal/core/rewrite/source"
	"bellwether/internal/core/splice"
)

// Key changes keys of configuration.
type Key struct {
	Old    string            // the key that is about; empty for one that is added
	New    string            // what it is called then; where its place is another one, it moves
	To     string            // the file that it moves to; empty for its own. A "*" stands for what "*" of From does
	From   string            // the pattern of its files, where To has a "*"
	Remove bool              // it goes
	Keep   bool              // the old one stays for the time being
	Set    *keys.Value       // what it is set to; of one that is added: its value
	Values map[string]string // its values, and what they become
	List   bool              // its value becomes a list of it
	Split  *Split
	Join   *Join
}

// Split makes several keys of one.
type Split struct {
	By   string
	Into []string
}

// Join makes one key of several. The text has their values in the place of {0}, {1} and so on.
type Join struct {
	Of   []string
	With string
}

// Kind is "key".
func (*Key) Kind() string { return "key" }

// Check tells what is wrong with it.
func (b *Key) Check() error {
	n := 0
	for _, one := range []bool{b.New != "" && b.Join == nil && b.Split == nil && b.Old != "", b.Remove, b.Split != nil, b.Join != nil} {
		if one {
			n++
		}
	}
	switch {
	case n > 1:
		return errors.New("a rule does one thing with a key: it renames or moves it, removes, splits or joins it")
	case b.Join != nil && (b.New == "" || len(b.Join.Of) < 2):
		return errors.New("join wants at least two keys, and new says what the one is called")
	case b.Split != nil && (b.Old == "" || b.Split.By == "" || len(b.Split.Into) < 2):
		return errors.New("split wants old, by, and at least two keys in into")
	case b.Old == "" && b.Join == nil && (b.New == "" || b.Set == nil):
		return errors.New("a key that is added wants new and value")
	case b.Old != "" && n == 0 && b.Set == nil && b.Values == nil && !b.List:
		return errors.New("it does nothing with the key: give it new, remove, value, values, list, split or join")
	case b.To != "" && strings.Contains(b.To, "*") != strings.Contains(b.From, "*"):
		return errors.New("where to has a star, from has one as well")
	}
	return nil
}

func (b *Key) words() []string { return nil }

func (b *Key) apply(_ *Rule, f *source.File) (c changed, err error) {
	if b.To != "" && b.To != f.Name {
		return c, nil // done with all files at hand
	}
	d, err := f.Config()
	if d == nil || err != nil {
		return c, b.unread(f, &c, err)
	}
	parts := d.Parts()
	for i, part := range parts {
		switch {
		case b.Join != nil:
			b.join(f, part, i, &c)
		case b.Old == "" && len(parts) > 1:
			if i == 0 && !slices.ContainsFunc(parts, func(o *keys.Document) bool { return len(o.Find(keys.Split(b.New))) > 0 }) {
				c.leave(f, 0, "the file has %d documents, and nothing says which of them %s is for", len(parts), b.New)
			}
		case b.Old == "":
			b.add(f, part, &c)
		default:
			for _, e := range part.Find(keys.Split(b.Old)) {
				b.one(f, part, i, e, &c)
			}
		}
	}
	return b.meant(f, d, c), nil
}

// unread leaves a file that cannot be read, if the key may be in it.
func (b *Key) unread(f *source.File, c *changed, err error) error {
	last := keys.Split(b.Old)
	if err != nil && b.Old != "" && strings.Contains(f.Text, last[len(last)-1]) {
		c.left = append(c.left, Left{File: f.Name, Reason: "it cannot be read: " + err.Error()})
	}
	return nil
}

func (c *changed) edit(at int, edits ...splice.Edit) {
	c.edits = append(c.edits, edits...)
	c.places = append(c.places, at)
}

// try takes edits over, or tells why there are none.
func (c *changed) try(f *source.File, at int, err error, edits ...splice.Edit) {
	if err != nil {
		c.leave(f, at, "%s", err)
		return
	}
	c.edit(at, edits...)
}

// at is where an entry stands.
func at(f *source.File, e *keys.Entry) int {
	start := 0
	for range e.Line - 1 {
		start += strings.IndexByte(f.Text[start:], '\n') + 1
	}
	return start
}

// one changes one place of the key.
func (b *Key) one(f *source.File, d *keys.Document, part int, e *keys.Entry, c *changed) {
	place := at(f, e)
	switch {
	case b.Remove:
		edit, err := d.Drop(e)
		c.try(f, place, err, edit)
	case b.Split != nil:
		b.split(f, part, e, c)
	case b.New != "":
		b.move(f, d, e, c)
	default:
		b.value(f, d, e, c)
	}
}

// becomes is what a value turns into; ok is false where it stays.
func (b *Key) becomes(e *keys.Entry, v keys.Value) (keys.Value, bool) {
	switch to, mapped := b.Values[e.Text]; {
	case b.Set != nil:
		return *b.Set, e.Text != b.Set.Text
	case b.Values != nil && mapped:
		return keys.Value{Text: to, Plain: v.Plain}, true
	case b.List && e.Scalar && !strings.HasPrefix(v.Raw, "["):
		return keys.Value{Text: "[" + v.Raw + "]", Plain: true}, true
	}
	return v, false
}

func (b *Key) value(f *source.File, d *keys.Document, e *keys.Entry, c *changed) {
	v, changes := b.becomes(e, d.ValueOf(e))
	if !changes {
		return
	}
	edit, err := d.Set(e, v)
	c.try(f, at(f, e), err, edit)
}

// move gives an entry another name, where it stands or in another place of the file.
func (b *Key) move(f *source.File, d *keys.Document, e *keys.Entry, c *changed) {
	to := keys.Split(b.New)
	if old := keys.Split(b.Old); old[len(old)-1] == "*" {
		to = append(to[:max(0, len(to)-1)], e.Path[len(e.Path)-1])
	}
	place := at(f, e)
	if there := d.Find(to); len(there) > 0 && there[0] != e {
		if !b.Keep {
			c.leave(f, place, "%s is there already, in line %d; take one of the two away", b.New, there[0].Line)
		}
		return
	}
	v, changes := b.becomes(e, d.ValueOf(e))
	if b.Keep {
		edit, err := d.Add(to, v)
		c.try(f, place, err, edit)
		c.left = append(
			c.left,
			Left{f.Name, e.Line, fmt.Sprintf("%s stays beside %s for the time being; take it away once nothing reads it", b.Old, b.New)},
		)
		return
	}
	if edits, ok := d.Rename(e, to); ok {
		if changes {
			edit, err := d.Set(e, v)
			if err != nil {
				c.leave(f, place, "%s", err)
				return
			}
			edits = append(edits, edit)
		}
		c.edit(place, edits...)
		return
	}
	moved, err := d.Move(e, to, v)
	c.try(f, place, err, moved...)
}

func (b *Key) add(f *source.File, d *keys.Document, c *changed) {
	key := keys.Split(b.New)
	if len(d.Find(key)) > 0 {
		return
	}
	edit, err := d.Add(key, *b.Set)
	c.try(f, edit.Start, err, edit)
}

func (b *Key) split(f *source.File, part int, e *keys.Entry, c *changed) {
	place := at(f, e)
	parts := strings.SplitN(e.Text, b.Split.By, len(b.Split.Into))
	if !e.Scalar || len(parts) != len(b.Split.Into) {
		c.leave(f, place, "its value %q does not come apart into %d by %q", e.Text, len(b.Split.Into), b.Split.By)
		return
	}
	b.replace(f, part, []*keys.Entry{e}, b.Split.Into, parts, c)
}

func (b *Key) join(f *source.File, d *keys.Document, part int, c *changed) {
	var entries []*keys.Entry
	text := b.Join.With
	for i, name := range b.Join.Of {
		found := d.Find(keys.Split(name))
		if len(found) == 0 {
			if len(entries) > 0 {
				c.leave(f, at(f, entries[0]), "%s is not there, so that the keys cannot be joined", name)
			}
			return
		}
		entries = append(entries, found[0])
		text = strings.ReplaceAll(text, fmt.Sprintf("{%d}", i), found[0].Text)
	}
	b.replace(f, part, entries, []string{b.New}, []string{text}, c)
}

// replace puts keys in the place of others, in one of a file's documents. Several changes of one file may touch each other,
// so that each is made on what the one before left.
func (b *Key) replace(f *source.File, part int, old []*keys.Entry, names, values []string, c *changed) {
	text := f.Text
	step := func(change func(d *keys.Document) (splice.Edit, error)) error {
		format, _ := keys.FormatOf(f.Name)
		d, err := keys.Read(format, text)
		if err != nil {
			return err
		}
		parts := d.Parts()
		if part >= len(parts) {
			return errors.New("its documents are not what they were")
		}
		edit, err := change(parts[part])
		if err == nil {
			text, _ = splice.Apply(text, []splice.Edit{edit})
		}
		return err
	}
	var err error
	for i, name := range names {
		err = errors.Join(err, step(func(d *keys.Document) (splice.Edit, error) {
			return d.Add(keys.Split(name), keys.Value{Text: strings.TrimSpace(values[i]), Plain: plain(strings.TrimSpace(values[i]))})
		}))
	}
	for _, e := range old {
		err = errors.Join(err, step(func(d *keys.Document) (splice.Edit, error) {
			found := d.Find(e.Path)
			if len(found) == 0 {
				return splice.Edit{}, fmt.Errorf("%s is not found again", e.Name())
			}
			return d.Drop(found[0])
		}))
	}
	c.try(f, at(f, old[0]), err, difference(f.Text, text)...)
}

// plain tells whether a text is a number, true or false.
func plain(text string) bool {
	return text == "true" || text == "false" || text != "" && strings.Trim(text, "0123456789") == ""
}

// applyAll moves keys to other files.
func (b *Key) applyAll(r *Rule, t *state, o *Outcome) error {
	if b.To == "" {
		return b.lookups(t, o)
	}
	for _, name := range t.names() {
		if name == b.To || !r.in(name) {
			continue
		}
		if err := b.toFile(r, t, o, name); err != nil {
			return err
		}
	}
	return nil
}

// target is the file that a key of a file moves to.
func (b *Key) target(name string) (string, bool) {
	before, after, star := strings.Cut(b.From, "*")
	if !star {
		return b.To, true
	}
	middle, ok := strings.CutPrefix(name, before)
	middle, ok2 := strings.CutSuffix(middle, after)
	if !ok || !ok2 {
		base := path.Base(name)
		middle, ok = strings.CutPrefix(base, before)
		middle, ok2 = strings.CutSuffix(middle, after)
		return path.Join(path.Dir(name), strings.Replace(b.To, "*", middle, 1)), ok && ok2
	}
	return strings.Replace(b.To, "*", middle, 1), true
}

func (b *Key) toFile(r *Rule, t *state, o *Outcome, name string) error {
	f, err := t.file(name)
	if f == nil || err != nil {
		return err
	}
	d, _ := f.Config()
	if d == nil {
		return nil
	}
	for _, e := range d.Find(keys.Split(b.Old)) {
		to, ok := b.target(name)
		if !ok {
			continue
		}
		place := Left{name, e.Line, ""}
		there, err := t.file(to)
		if err != nil {
			return err
		}
		if there == nil {
			there = source.NewFile(to, "")
		}
		td, err := there.Config()
		if format, known := keys.FormatOf(to); td == nil && known {
			if strings.TrimSpace(there.Text) == "" {
				td, err = keys.Read(format, map[keys.Format]string{keys.JSON: "{}"}[format])
				there.Text = map[keys.Format]string{keys.JSON: "{}"}[format]
			}
		}
		if td == nil {
			place.Reason = fmt.Sprintf("%s cannot be written: %v", to, err)
			o.Left = append(o.Left, place)
			continue
		}
		v := d.ValueOf(e)
		if td.Format != d.Format {
			v.Raw = ""
		}
		if v, _ = b.becomes(e, v); !e.Scalar && v.Raw == "" {
			place.Reason = "it has several values, which cannot move to a file of another format"
			o.Left = append(o.Left, place)
			continue
		}
		key := keys.Split(b.Old)
		if b.New != "" {
			key = keys.Split(b.New)
		}
		if len(td.Find(key)) > 0 {
			place.Reason = fmt.Sprintf("%s has the key already", to)
			o.Left = append(o.Left, place)
			continue
		}
		added, err := td.Add(key, v)
		removed, rerr := d.Remove(e)
		if err = errors.Join(err, rerr); err != nil {
			place.Reason = err.Error()
			o.Left = append(o.Left, place)
			continue
		}
		if err := t.change(r, o, there, []splice.Edit{added}, nil); err != nil {
			return err
		}
		return t.change(r, o, f, []splice.Edit{removed}, []int{at(f, e)})
	}
	return nil
}

// configOnly tells whether a rule is about configuration, so that other files need not be read.
func configOnly(b Body) bool {
	_, ok := b.(*Key)
	return ok
}

// formats tells whether a file may hold keys.
func formats(name string) bool {
	_, ok := keys.FormatOf(name)
	return ok && !slices.Contains(locks, path.Base(name))
}

// locks are files that package clients write.
var locks = []string{"package-lock.json", "npm-shrinkwrap.json", "composer.lock", "pnpm-lock.yaml", "packages.lock.json"}
