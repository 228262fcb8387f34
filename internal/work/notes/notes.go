// Package notes finds what the releases on the way say, and what of it concerns a project.
package notes

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/mention"
	"bellwether/internal/core/model"
	"bellwether/internal/core/notes"
	"bellwether/internal/core/spelling"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
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
	if err := r.leaveIgnored(ctx, k); err != nil {
		return nil, err
	}
	for _, target := range targets {
		if err := r.read(ctx, target); err != nil {
			return nil, err
		}
	}
	if err := r.match(); err != nil {
		return nil, err
	}
	r.advise(k.Baseline())
	r.propose(ctx)
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
	// ignored are files that git ignores, which are no part of the project.
	ignored map[string]bool
}

// found is an entry before the project is searched.
type found struct {
	pkg   int // index of its package
	part  *tree.Part
	entry notes.Entry
	shown model.NoteEntry
}

func (r *reader) read(ctx context.Context, t target) error {
	p := model.PackageNotes{
		Component: t.part.ID, Name: t.name, PURL: t.subject.PURL(t.to), From: t.from, To: t.to, Found: []string{}, Entries: []model.NoteEntry{},
	}
	defer func() { r.result.Packages = append(r.result.Packages, p) }()
	if t.from == "" {
		return &model.Fault{
			Doing: "looking for release notes", Wrong: "no lock says which " + t.name + " is in use",
			Next: "write where the move begins and ends, like 3.1.0..4.0.0",
		}
	}
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
	l := &looking{reader: r, target: t, way: way, in: &between{part: t.part, from: from, to: to}, notes: &p}
	l.archived, _ = registry.(ecosystem.Archived)
	files, err := l.files(ctx)
	if err != nil {
		return err
	}
	seen := map[string]bool{}
	for _, f := range files {
		for _, part := range f.parts {
			for _, e := range part.Entries() {
				release, _, _ := strings.Cut(part.Version, "-") // what its previews said is said again
				if key := release + "\x00" + e.Text; seen[key] {
					continue
				} else {
					seen[key] = true
				}
				if !slices.Contains(p.Versions, part.Version) {
					p.Versions = append(p.Versions, part.Version)
				}
				shown := model.NoteEntry{
					Kind: string(e.Kind), Version: part.Version, Major: opensMajor(t.part, from, part.Version), Text: e.Text,
					Place: model.Site{File: f.name, Line: e.Line}.String(),
				}
				for _, x := range e.Renames {
					shown.Renames = append(shown.Renames, [2]string{x.Old, x.New})
				}
				r.found = append(r.found, found{len(r.result.Packages), t.part, e, shown})
				r.need(t, e, shown, way)
			}
		}
	}
	p.Gaps = l.gaps(p.Versions)
	return nil
}

// opensMajor tells whether a version is the first one of a major above that of from: "7.0.0", "7.0.0-rc.1", "7".
func opensMajor(part *tree.Part, from version.Version, text string) bool {
	v, err := part.Version(text)
	release, _, _ := strings.Cut(strings.TrimPrefix(text, "v"), "-")
	for strings.HasSuffix(release, ".0") {
		release = strings.TrimSuffix(release, ".0")
	}
	return err == nil && v.Line() != from.Line() && strings.TrimPrefix(v.Line(), "v") == release
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
	if e.Need.After {
		need.Range = ">" + e.Need.Version
	}
	need.Unmet = r.unmet(name, *e.Need)
	ofIt := func(o model.NotedNeed) bool { return strings.HasPrefix(o.By, t.name+" ") && o.Name == need.Name }
	i := slices.IndexFunc(r.result.Needs, ofIt)
	switch {
	case i < 0:
		r.result.Needs = append(r.result.Needs, need)
	case version.CompareStated(strings.TrimLeft(r.result.Needs[i].Range, ">="), e.Need.Version) < 0: // the most that it needs
		r.result.Needs[i] = need
	}
}

// match finds where the project mentions the names of the notes, and puts what concerns it first.
func (r *reader) match() error {
	var names []string
	for _, f := range r.found {
		for _, name := range f.entry.Names {
			if !notes.Common(strings.TrimLeft(name, "-.")) && name != r.result.Packages[f.pkg].Name {
				names = append(names, name, behind(name, r.result.Packages[f.pkg].Name))
			}
		}
	}
	found := r.search(mention.NewNames(slices.Compact(slices.Sorted(slices.Values(names)))))
	for _, f := range r.found {
		for _, name := range f.entry.Names {
			fresh := slices.ContainsFunc(f.entry.Renames, func(x notes.Rename) bool { return x.New == name })
			if f.part.Declares(name) || fresh {
				continue // a package that is required is named everywhere, and what a name becomes is none that is in use
			}
			if use := found.Of(f.part, name, r.result.Packages[f.pkg].Name); use.Count > 0 {
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

// kindRank is the place of an entry among others. What a new major says without a kind comes before what is new and mended.
func kindRank(e model.NoteEntry) int {
	if e.Major && notes.Kind(e.Kind) == notes.Other {
		return slices.Index(notes.Kinds, notes.Deprecated)
	}
	return slices.Index(notes.Kinds, notes.Kind(e.Kind))
}
