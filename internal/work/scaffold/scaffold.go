// Package scaffold compares a project with the templates of an older and of a newer framework, and takes over what the
// person wants of the difference.
package scaffold

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/model"
	"bellwether/internal/core/scaffold"
	"bellwether/internal/core/spelling"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/tree"
)

// Options say what is compared, and what is taken over.
type Options struct {
	From, To  string            // the older template and the newer one
	Folder    string            // of the templates; empty for the usual ones
	Set       map[string]string // what is filled in, besides what the project tells
	Component string            // the folder of the project that the template is for
	Take      []string          // FILE or FILE:HUNK
	TakeClean bool              // all that applies cleanly
	Decline   []string          // FILE or FILE:HUNK that is not asked again
	Mark      bool              // conflicts of files that are taken are written with the usual markers
	// Generate is a command that makes a template of a version, which From and To are then; Ask asks before it is
	// run.
	Generate string
	Ask      func(command string) (bool, error)
}

// Result is what a comparison gave, and what was done.
type Result struct {
	From string `json:"from"`
	To   string `json:"to"`
	scaffold.Comparison
	Declined int      `json:"declined,omitempty"` // places that were declined before, and are left out
	Unfilled []string `json:"unfilled,omitempty"` // placeholders in names of files that nothing fills
	Taken    []string `json:"taken,omitempty"`    // files that were written
	// Left are places and settings in conflict of files that were taken, which stay as the person has them.
	Left []string `json:"left,omitempty"`
}

// comparing is a comparison on its way.
type comparing struct {
	desk       *desk.Desk
	tree       *tree.Tree
	kept       *kept.Store
	opt        Options
	old, fresh scaffold.Tree
	result     *Result
}

// Compare compares, and takes over what is wanted.
func Compare(ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store, opt Options) (*Result, error) {
	if opt.Component = path.Clean(opt.Component); !fs.ValidPath(opt.Component) {
		return nil, &model.Fault{Doing: "comparing with a template", Wrong: fmt.Sprintf("%q is no folder of the project", opt.Component)}
	}
	c := &comparing{desk: d, tree: t, kept: k, opt: opt, result: &Result{From: harmless.Address(opt.From), To: harmless.Address(opt.To)}}
	l := &loader{desk: d, tree: t, folder: opt.Folder, generate: opt.Generate, ask: opt.Ask}
	values := c.values()
	for _, one := range []struct {
		source string
		into   *scaffold.Tree
	}{{opt.From, &c.old}, {opt.To, &c.fresh}} {
		raw, err := l.load(ctx, one.source)
		if err != nil {
			return nil, err
		}
		var unknown []string
		if *one.into, unknown, err = values.Fill(raw, maxTemplate); err != nil {
			return nil, fault(one.source, err.Error(), "use a template whose names can be those of files of a project")
		}
		for _, name := range unknown {
			if !slices.Contains(c.result.Unfilled, name) {
				c.result.Unfilled = append(c.result.Unfilled, name)
			}
		}
	}
	c.result.Comparison = *scaffold.Compare(c.old, c.fresh, c.mine, c.names())
	for i := range c.result.Files { // as the project calls them
		f := &c.result.Files[i]
		if f.Path = path.Join(opt.Component, f.Path); f.New != "" {
			f.New = path.Join(opt.Component, f.New)
		}
	}
	if err := c.withoutDeclined(); err != nil {
		return nil, err
	}
	if len(opt.Take) > 0 || opt.TakeClean || len(opt.Decline) > 0 {
		return c.result, c.act(ctx)
	}
	return c.result, nil
}

// values are what the project tells of itself, and what the person says.
func (c *comparing) values() scaffold.Values {
	v := scaffold.Values{}
	if part := c.tree.Part(c.opt.Component); part != nil && part.Name != "" {
		base := path.Base(part.Name)
		for _, name := range []string{"name", "project", "project-name", "app", "app-name", "package", "package-name", "module-name", "slug"} {
			v.Set(name, base)
		}
		v.Set("module", part.Name)
		v.Set("module-path", part.Name)
		v.Set("namespace", strings.NewReplacer("-", "_", ".", "_").Replace(base))
	}
	for name, value := range c.opt.Set {
		v.Set(name, value)
	}
	return v
}

// names are the files of the component.
func (c *comparing) names() (names []string) {
	for _, name := range c.tree.Files.Files() {
		if c.opt.Component == "." {
			names = append(names, name)
		} else if rest, in := strings.CutPrefix(name, c.opt.Component+"/"); in {
			names = append(names, rest)
		}
	}
	return names
}

func (c *comparing) mine(name string) ([]byte, bool) {
	data, err := fs.ReadFile(c.tree.Files.FS, path.Join(c.opt.Component, name))
	return data, err == nil
}

// textOf is what a template has for a file.
func (c *comparing) textOf(t scaffold.Tree, names ...string) string {
	for _, name := range names {
		if data, there := t[name]; there && name != "" {
			return string(data)
		}
	}
	return ""
}

// own is a file's name below the component.
func (c *comparing) own(name string) string {
	if c.opt.Component == "." {
		return name
	}
	return strings.TrimPrefix(name, c.opt.Component+"/")
}

func (c *comparing) older(f *scaffold.File) string { return c.textOf(c.old, f.Old, c.own(f.Path)) }
func (c *comparing) newer(f *scaffold.File) string {
	return c.textOf(c.fresh, c.own(f.New), f.Old, c.own(f.Path))
}

// declinedKey names a change that was declined: the file with what the template has for it.
func (c *comparing) declinedKey(f *scaffold.File, hunk int) string {
	what := c.newer(f)
	if hunk > 0 && hunk <= len(f.Hunks) {
		what = f.Hunks[hunk-1].Base + "\x00" + f.Hunks[hunk-1].Theirs
	}
	sum := sha256.Sum256([]byte(f.Path + "\x00" + what))
	return hex.EncodeToString(sum[:16])
}

// withoutDeclined leaves out what was declined before.
func (c *comparing) withoutDeclined() error {
	declined, err := c.kept.Declined()
	if err != nil {
		return err
	}
	c.result.Files = slices.DeleteFunc(c.result.Files, func(f scaffold.File) bool {
		if declined[c.declinedKey(&f, 0)] {
			c.result.Declined++
			return true
		}
		return false
	})
	for i := range c.result.Files {
		f := &c.result.Files[i]
		for n := range f.Hunks {
			if declined[c.declinedKey(f, n+1)] {
				f.Hunks[n].State = scaffold.Declined
				c.result.Declined++
			}
		}
	}
	return nil
}

// act takes over and declines what the person said.
func (c *comparing) act(ctx context.Context) error {
	repo, release, err := c.kept.Begin(ctx)
	if err != nil {
		return err
	}
	defer release()
	if _, err := kept.CheckClean(ctx, repo, "taking a template over", "so that what it changes can be looked at by itself"); err != nil {
		return err
	}
	for _, text := range c.opt.Decline {
		f, hunk, err := c.find(text)
		if err != nil {
			return err
		}
		if err := c.kept.Decline(c.declinedKey(f, hunk)); err != nil {
			return err
		}
	}
	var edits []model.FileEdit
	if c.opt.TakeClean {
		for i := range c.result.Files {
			if f := &c.result.Files[i]; !slices.ContainsFunc(c.opt.Take, func(t string) bool { return strings.HasPrefix(t, f.Path) }) {
				edits = append(edits, edited(f.Clean(c.older(f), c.newer(f)))...)
			}
		}
	}
	wanted := map[*scaffold.File]*scaffold.Wanted{}
	var order []*scaffold.File
	for _, text := range c.opt.Take {
		f, hunk, key, err := c.part(text)
		if err != nil {
			return err
		}
		if wanted[f] == nil {
			order, wanted[f] = append(order, f), &scaffold.Wanted{Marked: c.opt.Mark}
		}
		switch w := wanted[f]; {
		case key != "":
			w.Keys = append(w.Keys, key)
		case hunk > 0:
			w.Places = append(w.Places, hunk)
		default:
			w.Whole = true
		}
	}
	for _, f := range order {
		taken := edited(f.Taken(c.older(f), c.newer(f), *wanted[f]))
		edits = append(edits, taken...)
		c.leave(f, *wanted[f])
	}
	edits = slices.DeleteFunc(edits, func(e model.FileEdit) bool { return e.New != nil && e.Old != nil && string(e.Old) == string(e.New) })
	if len(edits) == 0 {
		return nil
	}
	for _, e := range edits {
		c.result.Taken = append(c.result.Taken, e.File)
	}
	return c.kept.WriteAside(ctx, repo, "scaffold", "what the template "+c.result.To+" has", edits)
}

// find is the file, and the hunk of it, that a text names: "FILE" or "FILE:2".
func (c *comparing) find(text string) (*scaffold.File, int, error) {
	name, number, hunk := text, "", 0
	if at := strings.LastIndexByte(text, ':'); at > 0 {
		if n, err := strconv.Atoi(text[at+1:]); err == nil {
			name, number, hunk = text[:at], text[at+1:], n
		}
	}
	var names []string
	for i := range c.result.Files {
		f := &c.result.Files[i]
		if names = append(names, f.Path); f.Path != name {
			continue
		}
		if number != "" && (hunk < 1 || hunk > len(f.Hunks)) {
			return nil, 0, &model.Fault{
				Doing: "taking " + text,
				Wrong: fmt.Sprintf("%s has %s that the template changed", name, spelling.Count(len(f.Hunks), "place", "places")),
				Next:  "bellwether scaffold --show " + name + " shows them",
			}
		}
		return f, hunk, nil
	}
	return nil, 0, &model.Fault{
		Doing: "taking " + text, Wrong: fmt.Sprintf("the template changes no %q", name), Next: near(name, names),
	}
}

// edited are edits as those who write them have them.
func edited(all []scaffold.Edit) (edits []model.FileEdit) {
	for _, e := range all {
		edits = append(edits, model.FileEdit{File: e.Path, Old: e.Before, New: e.After})
	}
	return edits
}

// part is the file, and the place or the setting of it, that a text names: "FILE", "FILE:2" or "FILE:KEY".
func (c *comparing) part(text string) (f *scaffold.File, hunk int, key string, err error) {
	for i := range c.result.Files {
		f := &c.result.Files[i]
		key, named := strings.CutPrefix(text, f.Path+":")
		if named && slices.ContainsFunc(f.Keys, func(k scaffold.Key) bool { return k.Name == key }) {
			return f, 0, key, nil
		}
	}
	if f, hunk, err = c.find(text); err != nil {
		return nil, 0, "", err
	}
	if f.Crosses(hunk) {
		return nil, 0, "", &model.Fault{
			Doing: "taking " + text, Wrong: "its lines hold settings of yours beside those of the template",
			Next: "take settings by their names: --take " + f.Path + ":" + f.Keys[0].Name,
		}
	}
	return f, hunk, "", nil
}

// leave tells what of a file that was taken as a whole is in conflict, and stays as the person has it.
func (c *comparing) leave(f *scaffold.File, w scaffold.Wanted) {
	if !w.Whole || w.Marked || f.State != scaffold.Conflicts {
		return
	}
	for _, name := range f.Left() {
		c.result.Left = append(c.result.Left, f.Path+":"+name)
	}
	for _, h := range f.Hunks {
		if h.State == scaffold.Conflicts && len(f.Keys) == 0 && !slices.Contains(w.Places, h.Number) {
			c.result.Left = append(c.result.Left, fmt.Sprintf("%s:%d", f.Path, h.Number))
		}
	}
	if len(f.Hunks)+len(f.Keys) == 0 {
		c.result.Left = append(c.result.Left, f.Path)
	}
}
