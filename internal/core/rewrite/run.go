package rewrite

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"sort"
	"strings"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/charset"
	"bellwether/internal/core/lex"
	"bellwether/internal/core/model"
	"bellwether/internal/core/rewrite/source"
	"bellwether/internal/core/splice"
)

// MaxFile bounds a file that is rewritten, in bytes; larger ones are named.
const MaxFile = 2 << 20

// Input is the files that rules are applied to.
type Input struct {
	Names   []string // the project's own, relative and with slashes, sorted
	All     []string // all that there are, also those that git ignores; nil for Names
	Read    func(name string) ([]byte, error)
	Ignored func(name string) bool // tells of a file that git ignores; nil for none
	// Also tells of a file that is rewritten although it looks generated; nil for none.
	Also func(name string) bool
}

// Outcome is what one rule does.
type Outcome struct {
	Rule   *Rule
	Files  []string // that it changes, sorted
	Places []Place  // in the order of the files
	Left   []Left   // what it is about and does not change
}

// Place is a place that a rule changes, as the file was when the rule came to it.
type Place struct {
	File string
	Line int
}

// Result is what rules do to a project.
type Result struct {
	Edits    []model.FileEdit // in the order of the files
	Outcomes []*Outcome       // in the order of the rules
	Overlaps []Overlap
	Skipped  []Left // files that no rule can be applied to, though one is about them
}

// Overlap is a place that one rule changes after another did.
type Overlap struct {
	File          string
	Line          int
	First, Second string // the rules
}

// state is the project while rules are applied.
type state struct {
	in      Input
	result  *Result
	changed map[string]*source.Text // files that are not as they were
	old     map[string]*source.Text // as they were, of those that were looked at
}

// Run applies rules to a project's files, in their order. Of each file it is all or nothing: a
// rule that would leave it unreadable is refused for the file.
func Run(ctx context.Context, rules []*Rule, in Input) (*Result, error) {
	t := &state{in: in, result: &Result{}, changed: map[string]*source.Text{}, old: map[string]*source.Text{}}
	for _, r := range rules {
		t.result.Outcomes = append(t.result.Outcomes, &Outcome{Rule: r})
	}
	t.prepare(rules)
	if err := t.eachFile(ctx, rules); err != nil {
		return nil, err
	}
	for i, r := range rules {
		if shape := shapeOf(r); shape != nil && r.Refused == "" && r.aboutCommands() {
			shape.scriptCalls(r, t, t.result.Outcomes[i])
		}
		if b, ok := r.Body.(inTree); ok && r.Refused == "" {
			if err := b.applyAll(r, t, t.result.Outcomes[i]); err != nil {
				return nil, fmt.Errorf("applying the rule %s: %w", r.ID, err)
			}
		}
	}
	return t.finish()
}

// prepare reads patterns for the languages that the files have. Where a language cannot read one, the rule is not for it.
func (t *state) prepare(rules []*Rule) {
	langs := map[*lex.Language]bool{lex.Named("typescript"): true}
	for _, name := range t.in.Names {
		if l := lex.Of(name); l != nil && lex.Named(l.Name) == l {
			langs[l] = true
		}
	}
	list := slices.SortedFunc(maps.Keys(langs), func(a, b *lex.Language) int { return strings.Compare(a.Name, b.Name) })
	for _, r := range rules {
		if shape := shapeOf(r); shape != nil {
			_ = shape.prepare(list)
		}
	}
}

// shapeOf is the pattern of a rule, nil for none.
func shapeOf(r *Rule) *Shape {
	if todo, ok := r.Body.(*ToDo); ok {
		return todo.Find
	}
	shape, _ := r.Body.(*Shape)
	return shape
}

// maxChanged bounds all texts that rules change at once, in bytes.
const maxChanged = 256 << 20

func tooMuch() error {
	return &model.Fault{
		Doing: "applying rules", Wrong: fmt.Sprintf("the files that they change have more than %d MB", maxChanged>>20),
		Next: "apply them one by one, with --only", Found: true,
	}
}

// found is what the rules do to one file.
type found struct {
	text    *source.Text
	before  *source.Text
	skipped *Left
	byRule  map[int]*Outcome
	overlap []Overlap
}

// eachFile applies the rules that change one file at a time, to several files at once.
func (t *state) eachFile(ctx context.Context, rules []*Rule) error {
	search := newSearch(rules)
	all := make([]*found, len(t.in.Names))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	const together = 64
	for from := 0; from < len(t.in.Names); from += together {
		group.Go(func() error {
			for i := from; i < min(from+together, len(t.in.Names)); i++ {
				if err := ctx.Err(); err != nil {
					return err
				}
				one, err := t.oneFile(rules, search, t.in.Names[i])
				if err != nil {
					return err
				}
				all[i] = one
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	grown := 0
	for i, one := range all {
		if one == nil {
			continue
		}
		name := t.in.Names[i]
		if one.text != nil {
			if grown += len(one.text.File.Text); grown > maxChanged {
				return tooMuch()
			}
		}
		if one.skipped != nil {
			t.result.Skipped = append(t.result.Skipped, *one.skipped)
		}
		if one.text != nil {
			t.old[name], t.changed[name] = one.before, one.text
		}
		for n, o := range one.byRule {
			into := t.result.Outcomes[n]
			into.Files = append(into.Files, o.Files...)
			into.Places = append(into.Places, o.Places...)
			into.Left = append(into.Left, o.Left...)
		}
		t.result.Overlaps = append(t.result.Overlaps, one.overlap...)
	}
	return nil
}

// oneFile applies the rules to one file; nil where none has to do with it.
func (t *state) oneFile(rules []*Rule, search *search, name string) (*found, error) {
	rulesHere := search.about(name)
	if len(rulesHere) == 0 {
		return nil, nil
	}
	raw, err := t.in.Read(name)
	if err != nil {
		return &found{skipped: &Left{File: name, Reason: model.Reason(err)}}, nil
	}
	if rulesHere = search.within(rulesHere, raw); len(rulesHere) == 0 {
		return nil, nil
	}
	content, encoding, reason := decoded(raw)
	if source.Ours(content) {
		return nil, nil
	}
	if reason == "" && (t.in.Also == nil || !t.in.Also(name)) {
		reason = source.Generated(name, content)
	}
	if reason != "" {
		return &found{skipped: &Left{File: name, Reason: reason}}, nil
	}
	one := &found{byRule: map[int]*Outcome{}}
	one.before = &source.Text{File: source.NewFile(name, content), Encoding: encoding, Raw: raw}
	now := *one.before
	for _, n := range rulesHere {
		r := rules[n]
		b := r.Body.(inFile)
		f := now.File
		if r.Refused != "" || r.Within != nil && !r.Within(name) || !r.speaks(f) ||
			len(r.Imports) > 0 && (f.Lang == nil || !slices.ContainsFunc(r.Imports, f.Uses)) {
			continue
		}
		c, err := b.apply(r, f)
		if err != nil {
			c = changed{left: []Left{{File: name, Reason: err.Error()}}}
		}
		o := &Outcome{Left: c.left}
		if len(c.edits) > 0 {
			next, overlaps, wrong := rewritten(r, &now, c.edits)
			if wrong != "" {
				o.Left = append(o.Left, Left{File: name, Line: f.Line(c.edits[0].Start), Reason: wrong})
			} else if next.File.Text != f.Text {
				o.Files = []string{name}
				for _, at := range c.places {
					o.Places = append(o.Places, Place{name, f.Line(at)})
				}
				now = *next
				one.overlap = append(one.overlap, overlaps...)
			}
		}
		one.byRule[n] = o
	}
	if now.File.Text != content {
		one.text = &now
		now.File = source.NewFile(name, now.File.Text) // without what was found out about it
	}
	one.before.File = source.NewFile(name, content)
	return one, nil
}

// decoded reads a text; reason says why it cannot be.
func decoded(raw []byte) (content string, e charset.Encoding, reason string) {
	if len(raw) > MaxFile {
		return "", "", fmt.Sprintf("it has more than %d MB", MaxFile>>20)
	}
	content, e, err := charset.Decode(raw)
	if err != nil {
		return "", "", err.Error()
	}
	return content, e, ""
}

// rewritten makes a rule's edits, and sees that the file is still well-formed. What another rule
// wrote before and this one changes again is told.
func rewritten(r *Rule, t *source.Text, edits []splice.Edit) (next *source.Text, overlaps []Overlap, wrong string) {
	before := t.File
	ends := "\n"
	if strings.Contains(before.Text, "\r\n") {
		ends = "\r\n"
	}
	edits = slices.Clone(edits)
	for i := range edits {
		edits[i].New = strings.ReplaceAll(strings.ReplaceAll(edits[i].New, "\r\n", "\n"), "\n", ends)
	}
	size := len(before.Text)
	for _, e := range edits {
		size += len(e.New) - (e.End - e.Start)
	}
	if size > MaxFile {
		return nil, nil, fmt.Sprintf("it would have more than %d MB afterwards; it is left as it is", MaxFile>>20)
	}
	result, dropped := splice.Apply(before.Text, edits)
	if dropped > 0 {
		return nil, nil, "two of its changes lie over each other here; it is left as it is"
	}
	next = &source.Text{File: source.NewFile(before.Name, result), Encoding: t.Encoding, Raw: t.Raw}
	if reason := source.Broken(before, next.File); reason != "" {
		return nil, nil, reason
	}
	if _, err := charset.Encode(result, t.Encoding); err != nil {
		return nil, nil, err.Error()
	}
	// Where what was written before lies now.
	splice.Sort(edits)
	shifts := make([]int, len(edits)+1) // by how much what lies before an edit makes it move
	for i, e := range edits {
		shifts[i+1] = shifts[i] + len(e.New) - (e.End - e.Start)
	}
	for _, g := range t.Regions {
		first := sort.Search(len(edits), func(i int) bool { return edits[i].End > g.Start })
		for _, e := range edits[first:] {
			if e.Start >= g.End {
				break
			}
			if g.Rule != r.ID && before.Text[e.Start:e.End] != e.New {
				overlaps = append(overlaps, Overlap{before.Name, before.Line(e.Start), g.Rule, r.ID})
			}
		}
		next.Regions = append(next.Regions, source.Region{Start: g.Start + shifts[first], End: g.End + shifts[first], Rule: g.Rule})
	}
	for i, e := range edits {
		next.Regions = append(next.Regions, source.Region{Start: e.Start + shifts[i], End: e.Start + shifts[i] + len(e.New), Rule: r.ID})
	}
	return next, overlaps, ""
}

// names are the project's own files that there are now, sorted.
func (t *state) names() []string { return t.with(t.in.Names) }

// all are all files that there are now, sorted.
func (t *state) all() []string { return t.with(slices.Concat(t.in.Names, t.in.All)) }

func (t *state) with(list []string) []string {
	names := map[string]bool{}
	for _, name := range list {
		names[name] = true
	}
	for name, c := range t.changed {
		names[name] = c != nil
	}
	maps.DeleteFunc(names, func(_ string, there bool) bool { return !there })
	return slices.Sorted(maps.Keys(names))
}

func (t *state) exists(name string) bool {
	if c, ok := t.changed[name]; ok {
		return c != nil
	}
	return slices.Contains(t.in.Names, name) || slices.Contains(t.in.All, name)
}

// load is a file as it is now; nil for none and for one that is no text.
func (t *state) load(name string) (*source.Text, error) {
	if c, ok := t.changed[name]; ok {
		return c, nil
	}
	if !t.exists(name) {
		return nil, nil
	}
	raw, err := t.in.Read(name)
	if err != nil {
		return nil, nil
	}
	content, encoding, reason := decoded(raw)
	if reason != "" {
		return nil, nil
	}
	return &source.Text{File: source.NewFile(name, content), Encoding: encoding, Raw: raw}, nil
}

func (t *state) file(name string) (*source.File, error) {
	c, err := t.load(name)
	if c == nil || err != nil {
		return nil, err
	}
	return c.File, nil
}

// change makes edits of a file, which may be new.
func (t *state) change(r *Rule, o *Outcome, f *source.File, edits []splice.Edit, places []int) error {
	if len(edits) == 0 {
		return nil
	}
	before, err := t.load(f.Name)
	if err != nil {
		return err
	}
	now := before
	if now == nil {
		now = &source.Text{File: f, Encoding: charset.UTF8}
	}
	next, overlaps, wrong := rewritten(r, now, edits)
	if wrong != "" {
		o.Left = append(o.Left, Left{File: f.Name, Reason: wrong})
		return nil
	}
	t.set(f.Name, before, next)
	o.touch(f.Name)
	for _, at := range places {
		o.Places = append(o.Places, Place{f.Name, f.Line(at)})
	}
	t.result.Overlaps = append(t.result.Overlaps, overlaps...)
	return nil
}

func (t *state) set(name string, before, next *source.Text) {
	if _, known := t.old[name]; !known {
		t.old[name] = before
	}
	t.changed[name] = next
}

func (o *Outcome) touch(name string) {
	if !slices.Contains(o.Files, name) {
		o.Files = append(o.Files, name)
	}
}

func (t *state) create(o *Outcome, name, content string) {
	t.set(name, nil, &source.Text{File: source.NewFile(name, content), Encoding: charset.UTF8})
	o.touch(name)
	o.Places = append(o.Places, Place{File: name})
}

// remove takes a file away, whatever is in it.
func (t *state) remove(o *Outcome, name string) error {
	raw, err := t.in.Read(name)
	if err != nil && t.changed[name] == nil {
		return err
	}
	t.set(name, &source.Text{Raw: raw}, nil)
	o.touch(name)
	o.Places = append(o.Places, Place{File: name})
	return nil
}

// move gives a file another name.
func (t *state) move(o *Outcome, from, to string) error {
	now := t.changed[from]
	if now == nil {
		raw, err := t.in.Read(from)
		if err != nil {
			return err
		}
		now = &source.Text{Raw: raw, Encoding: charset.UTF8}
		if content, e, reason := decoded(raw); reason == "" {
			now.File, now.Encoding = source.NewFile(to, content), e
		}
	} else {
		now = &source.Text{Raw: now.Raw, Encoding: now.Encoding, File: source.NewFile(to, now.File.Text), Regions: now.Regions}
	}
	if err := t.remove(o, from); err != nil {
		return err
	}
	t.set(to, nil, now)
	o.touch(to)
	return nil
}

// finish makes edits of files of what changed.
func (t *state) finish() (*Result, error) {
	var wrong error
	for _, name := range slices.Sorted(maps.Keys(t.changed)) {
		edit := model.FileEdit{File: name}
		if before := t.old[name]; before != nil {
			edit.Old = before.Raw
		}
		if now := t.changed[name]; now != nil {
			edit.New = now.Raw
			if now.File != nil {
				data, err := charset.Encode(now.File.Text, now.Encoding)
				wrong = errors.Join(wrong, err)
				edit.New = data
			}
			if edit.New == nil {
				edit.New = []byte{}
			}
		}
		if string(edit.Old) != string(edit.New) || (edit.Old == nil) != (edit.New == nil) {
			t.result.Edits = append(t.result.Edits, edit)
		}
	}
	for _, o := range t.result.Outcomes {
		slices.Sort(o.Files)
	}
	return t.result, wrong
}
