// Package notes finds what the releases on the way say, and what of it concerns a project.
package notes

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"bellwether/internal/core/charset"
	"bellwether/internal/core/mention"
	"bellwether/internal/core/model"
	"bellwether/internal/core/notes"
	"bellwether/internal/core/rewrite"
	"bellwether/internal/core/spelling"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/settings"
	"bellwether/internal/work/tree"
)

// Options say which notes are wanted.
type Options struct {
	Name     string // of one package; empty for all moves of the route
	From, To string // empty for what is locked, and for the newest release
}

// target is a package on its way.
type target struct {
	part     *tree.Part
	name     string
	key      string // the name, or the ID of one declaration that moves by itself
	subject  model.Subject
	from, to string
}

// Read finds the notes of packages on their way. Those of all moves of the route are remembered for its report.
func Read(ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store, opt Options) (*model.NotesResult, error) {
	targets, err := wanted(ctx, d, t, k, opt)
	if err != nil {
		return nil, err
	}
	r := &reader{desk: d, tree: t, result: &model.NotesResult{Packages: []model.PackageNotes{}}}
	for _, target := range targets {
		if err := r.read(ctx, target); err != nil {
			return nil, err
		}
	}
	if err := r.match(); err != nil {
		return nil, err
	}
	r.advise(k.Baseline())
	r.propose()
	if opt.Name == "" {
		return r.result, k.KeepNotes(r.result.Packages)
	}
	return r.result, nil
}

// wanted are the packages that are asked about.
func wanted(ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store, opt Options) (targets []target, err error) {
	if opt.Name != "" {
		return named(ctx, d, t, opt)
	}
	file, err := k.Route(ctx, t)
	if err != nil {
		return nil, err
	}
	if file == nil {
		return nil, &model.Fault{
			Doing: "looking for release notes", Wrong: "there is no route yet",
			Next: "compute one with bellwether route, or name a package: bellwether notes NAME, bellwether notes NAME FROM..TO",
		}
	}
	for i := range file.Legs {
		leg := &file.Legs[i]
		part := t.Part(leg.Component)
		for _, m := range leg.Moves {
			if part == nil || m.Subject.IsPin() || m.From == "" || m.To == "" {
				continue
			}
			at := slices.IndexFunc(targets, func(o target) bool { return o.part == part && o.key == m.Key() })
			if at >= 0 {
				targets[at].to = m.To
				continue
			}
			targets = append(targets, target{part, m.Name, m.Key(), m.Subject, m.From, m.To})
		}
	}
	return targets, nil
}

// named is a package that a call names, in every component that requires it.
func named(ctx context.Context, d *desk.Desk, t *tree.Tree, opt Options) (targets []target, err error) {
	var known []string
	for _, part := range t.Parts {
		for _, r := range part.Requirements {
			known = append(known, r.Name)
		}
		subject, declared := part.SubjectOf(opt.Name)
		if !declared {
			continue
		}
		one := target{part, opt.Name, opt.Name, subject, cmp.Or(opt.From, lowest(part, opt.Name)), opt.To}
		if one.to == "" {
			if one.to, err = newest(ctx, d, one); err != nil {
				return nil, err
			}
		}
		targets = append(targets, one)
	}
	if len(targets) == 0 {
		return nil, &model.Fault{
			Doing: "looking for release notes", Wrong: fmt.Sprintf("no manifest requires %q", opt.Name), Next: spelling.DidYouMean(opt.Name, known),
		}
	}
	return targets, nil
}

func older(order version.Order, a, b string) bool {
	va, aerr := order.Parse(a)
	vb, berr := order.Parse(b)
	return aerr == nil && berr == nil && va.Compare(vb) < 0
}

// lowest is the oldest version at which a component declares a package.
func lowest(part *tree.Part, name string) (text string) {
	order := part.Eco.Order()
	for _, r := range part.Find(name) {
		if text == "" || r.Locked != "" && older(order, r.Locked, text) {
			text = r.Locked
		}
	}
	return text
}

// newest is the newest release of a package that is no pre-release.
func newest(ctx context.Context, d *desk.Desk, t target) (string, error) {
	registry, err := d.Registry(ctx, t.part)
	if err != nil {
		return "", err
	}
	all, err := registry.Releases(ctx, t.subject)
	if err != nil {
		return "", err
	}
	for _, r := range slices.Backward(all) {
		if v, err := t.part.Eco.Order().Parse(r.Version); err == nil && !v.Preview() && !r.Retracted {
			return r.Version, nil
		}
	}
	return "", &model.Fault{Doing: "looking for release notes", Wrong: t.name + " has no release"}
}

// reader reads notes.
type reader struct {
	desk   *desk.Desk
	tree   *tree.Tree
	result *model.NotesResult
	found  []found
}

// found is an entry before the project is searched.
type found struct {
	pkg   int // index of its package
	part  *tree.Part
	entry notes.Entry
	shown model.NoteEntry
}

// A name that stands nowhere else is looked for in that many releases at most.
const mostReleases = 60

func (r *reader) read(ctx context.Context, t target) error {
	p := model.PackageNotes{
		Component: t.part.Dir, Name: t.name, PURL: t.subject.PURL(t.to), From: t.from, To: t.to, Found: []string{}, Entries: []model.NoteEntry{},
	}
	defer func() { r.result.Packages = append(r.result.Packages, p) }()
	from, err := t.part.Version(t.from)
	if err != nil {
		return &model.Fault{Doing: "looking for release notes", Wrong: err.Error(), Next: "write the move as FROM..TO, like 3.1.0..4.0.0"}
	}
	to, err := t.part.Version(t.to)
	if err != nil {
		return &model.Fault{Doing: "looking for release notes", Wrong: err.Error(), Next: "write the move as FROM..TO, like 3.1.0..4.0.0"}
	}
	registry, err := r.desk.Registry(ctx, t.part)
	if err != nil {
		return err
	}
	releases, err := registry.Releases(ctx, t.subject)
	if err != nil {
		return err
	}
	var way []model.Release // the newest first
	for _, rel := range slices.Backward(releases) {
		v, err := t.part.Eco.Order().Parse(rel.Version)
		if err == nil && v.Compare(from) > 0 && v.Compare(to) <= 0 && (!v.Preview() || rel.Version == t.to) {
			way = append(way, rel)
		}
	}
	p.Releases = len(way)
	if len(way) == 0 {
		return nil
	}
	in := &between{part: t.part, from: from, to: to}
	files, err := r.files(ctx, registry, t, way, in, &p)
	if err != nil {
		return err
	}
	seen := map[string]bool{}
	for _, f := range files {
		for _, part := range f.parts {
			for _, e := range part.Entries() {
				if key := part.Version + "\x00" + e.Text; seen[key] {
					continue
				} else {
					seen[key] = true
				}
				if !slices.Contains(p.Versions, part.Version) {
					p.Versions = append(p.Versions, part.Version)
				}
				shown := model.NoteEntry{
					Kind: string(e.Kind), Version: part.Version, Text: e.Text, Place: model.Site{File: f.name, Line: e.Line}.String(),
				}
				for _, x := range e.Renames {
					shown.Renames = append(shown.Renames, [2]string{x.Old, x.New})
				}
				r.found = append(r.found, found{len(r.result.Packages), t.part, e, shown})
				r.need(t, e, shown, way)
			}
		}
	}
	return nil
}

// need notes a runtime or tool that notes ask for, and the registry does not state.
func (r *reader) need(t target, e notes.Entry, shown model.NoteEntry, way []model.Release) {
	if e.Need == nil {
		return
	}
	name := strings.ToLower(strings.NewReplacer(".js", "", ".", "").Replace(e.Need.Name))
	name = cmp.Or(
		map[string]string{"nodejs": "node", "golang": "go", "jdk": "java", "jre": "java", "net": "dotnet", "rustc": "rust"}[name],
		name,
	)
	for _, rel := range way {
		if slices.ContainsFunc(rel.Needs, func(n model.Need) bool { return n.Subject.Name == name }) {
			return
		}
	}
	for _, q := range t.part.Requirements { // a go directive, engines
		if q.Subject.IsPin() && q.Subject.Name == name && t.part.Eco.Kind() == "golang" {
			return
		}
	}
	need := model.NotedNeed{By: t.name + " " + shown.Version, Name: name, Range: ">=" + e.Need.Version, Source: shown.Place}
	if !slices.Contains(r.result.Needs, need) {
		r.result.Needs = append(r.result.Needs, need)
	}
}

// between tells which versions lie on the way.
type between struct {
	part     *tree.Part
	from, to version.Version
}

func (b *between) holds(text string, major bool) bool {
	v, err := b.part.Version(text)
	return err == nil && v.Compare(b.from) > 0 && v.Compare(b.to) <= 0 && (!major || b.part.Eco.Order().Step(b.from, v) == version.Major)
}

// file is a file with notes, and its parts on the way.
type file struct {
	name  string
	parts []notes.Part
}

// maxNotes bounds a file with notes, in bytes; what is larger is named.
const maxNotes = 24 << 20

var choice = ecosystem.Wanted{Form: "notes/1", File: func(name string, size int64) bool { return notes.IsNotes(name) && size <= maxNotes }}

// files are the files with notes: of the newest release on the way; of each release where the
// newest has no history; else where the settings say.
func (r *reader) files(
	ctx context.Context, registry ecosystem.Registry, t target, way []model.Release, in *between, p *model.PackageNotes,
) (files []file, err error) {
	archived, ok := registry.(ecosystem.Archived)
	for i, rel := range way {
		if !ok || i >= mostReleases {
			break
		}
		subject := t.subject
		if rel.As != "" {
			subject.Name = rel.As
		}
		list, err := archived.Archive(ctx, subject, rel.Version, choice)
		if err != nil {
			if ctx.Err() != nil {
				return nil, err
			}
			p.Unread = append(p.Unread, err.Error())
			if i == 0 {
				continue
			}
			break
		}
		history := false
		for _, a := range list {
			one, all := r.part(a.Name+" of "+rel.Version, a.Name, a.Data, in, p)
			history = history || all > 1
			if one != nil {
				files = append(files, *one)
			}
		}
		if history || i == 0 && len(list) == 0 && len(way) > 3 && !anyNotes(ctx, archived, t, way) {
			break
		}
	}
	if len(files) > 0 {
		return files, nil
	}
	return r.elsewhere(ctx, t, way, in, p)
}

// anyNotes tells whether the release before the newest has any file with notes: if neither has,
// the others will not have any.
func anyNotes(ctx context.Context, archived ecosystem.Archived, t target, way []model.Release) bool {
	subject := t.subject
	subject.Name = cmp.Or(way[1].As, subject.Name)
	list, err := archived.Archive(ctx, subject, way[1].Version, choice)
	return err != nil || len(list) > 0
}

// part reads one file. All is how many versions it tells of, on the way or not.
func (r *reader) part(shown, name string, data []byte, in *between, p *model.PackageNotes) (f *file, all int) {
	text, _, err := charset.Decode(data)
	if err != nil {
		p.Unread = append(p.Unread, shown+": "+err.Error())
		return nil, 0
	}
	parts := notes.Read(name, text)
	p.Found = append(p.Found, shown)
	on := notes.Between(parts, in.holds)
	if len(on) == 0 {
		p.Whole = append(p.Whole, shown)
		return nil, len(parts)
	}
	return &file{name, on}, len(parts)
}

// match finds where the project mentions the names of the notes, and puts what concerns it first.
func (r *reader) match() error {
	var names []string
	for _, f := range r.found {
		for _, name := range f.entry.Names {
			if !notes.Common(strings.TrimLeft(name, "-.")) && name != r.result.Packages[f.pkg].Name {
				names = append(names, name)
			}
		}
	}
	uses, err := r.search(mention.NewNames(slices.Compact(slices.Sorted(slices.Values(names)))))
	if err != nil {
		return err
	}
	for _, f := range r.found {
		for _, name := range f.entry.Names {
			if f.part.Declares(name) {
				continue // a package that is required is named everywhere
			}
			if use := uses(f.part, name); use.Count > 0 {
				f.shown.Uses = append(f.shown.Uses, use)
			}
		}
		p := &r.result.Packages[f.pkg]
		p.Entries = append(p.Entries, f.shown)
	}
	for i := range r.result.Packages {
		slices.SortStableFunc(r.result.Packages[i].Entries, func(a, b model.NoteEntry) int {
			return cmp.Or(concern(a)-concern(b), kindRank(a)-kindRank(b))
		})
	}
	return nil
}

func concern(e model.NoteEntry) int {
	if len(e.Uses) > 0 {
		return 0
	}
	return 1
}

func kindRank(e model.NoteEntry) int { return slices.Index(notes.Kinds, notes.Kind(e.Kind)) }

// shownPlaces is how many places of a name are told; the others are counted.
const shownPlaces = 5

// maxSearched bounds a file that is searched, in bytes.
const maxSearched = 2 << 20

// search looks for names in the project's own files.
func (r *reader) search(names *mention.Names) (uses func(part *tree.Part, name string) model.NameUse, err error) {
	type key struct{ dir, name string }
	all := map[key]*model.NameUse{}
	files := r.tree.Files
	for _, name := range files.Files() {
		if names.Empty() || files.IsLink(name) ||
			slices.ContainsFunc(r.tree.Parts, func(p *tree.Part) bool { return p.Keeps(name) || p.Manifest == name }) {
			continue
		}
		if info, err := fs.Stat(files.FS, name); err != nil || info.Size() > maxSearched {
			continue
		}
		data, err := fs.ReadFile(files.FS, name)
		if err != nil {
			continue
		}
		text, _, err := charset.Decode(data)
		if errors.Is(err, charset.ErrBinary) || rewrite.Ours(text) || name == settings.File {
			continue
		}
		dir := r.owner(name)
		for word, lines := range names.In(name, text) {
			u := all[key{dir, word}]
			if u == nil {
				u = &model.NameUse{Name: word, Places: []string{}}
				all[key{dir, word}] = u
			}
			u.Count += len(lines)
			for _, line := range lines {
				if len(u.Places) < shownPlaces {
					u.Places = append(u.Places, model.Site{File: name, Line: line}.String())
				}
			}
		}
	}
	return func(part *tree.Part, name string) (sum model.NameUse) {
		sum.Name = name
		for _, dir := range slices.Compact([]string{part.Dir, ""}) {
			if u := all[key{dir, name}]; u != nil {
				sum.Count += u.Count
				sum.Places = append(sum.Places, u.Places[:min(len(u.Places), shownPlaces-len(sum.Places))]...)
			}
		}
		return sum
	}, nil
}

// owner is the folder of the component that a file belongs to, "" for none.
func (r *reader) owner(name string) string {
	owner := ""
	for _, p := range r.tree.Parts {
		if p.Dir == "." && owner == "" || strings.HasPrefix(name, p.Dir+"/") && len(p.Dir) > len(owner) {
			owner = p.Dir
		}
	}
	return owner
}
