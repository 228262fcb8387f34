package notes

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"bellwether/internal/core/charset"
	"bellwether/internal/core/model"
	"bellwether/internal/core/notes"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/tree"
)

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

// The bounds of what is looked at: a file with notes, in bytes (what is larger is named); releases, where each tells of itself alone;
// archives that are tried where the newest has no notes; and those that are to fill what a history leaves out.
const (
	maxNotes     = 24 << 20
	mostReleases = 60
	mostTried    = 8
	mostFilled   = 4
)

var choice = ecosystem.Wanted{Form: "notes/2", File: func(name string, size int64) bool {
	return (notes.IsNotes(name) || notes.IsReadme(name)) && size <= maxNotes
}}

// looking looks for the notes of one package in the archives of its releases.
type looking struct {
	*reader
	target   target
	way      []model.Release // on the way, the newest first
	in       *between
	notes    *model.PackageNotes
	archived ecosystem.Archived // nil where archives cannot be read
	seen     map[int]bool       // the releases whose archives were looked at, by their places on the way
	found    []file
}

// files are the files with notes: of the newest release on the way, or of one before it that has a history; of each release where none
// has; else where the settings say. What a history leaves out at its ends is looked for, too.
func (l *looking) files(ctx context.Context) ([]file, error) {
	l.seen = map[int]bool{}
	history, any := false, false
	for _, i := range l.tries() {
		one, all, err := l.look(ctx, i)
		if err != nil {
			return nil, err
		}
		history, any = history || all, any || one
		if history || any {
			break
		}
	}
	if any && !history {
		for i := range min(len(l.way), mostReleases) {
			if _, _, err := l.look(ctx, i); err != nil {
				return nil, err
			}
		}
	}
	for n := 0; history && n < mostFilled; n++ {
		next := l.unseen(l.ends(described(l.found)))
		if next < 0 {
			break
		}
		if _, _, err := l.look(ctx, next); err != nil {
			return nil, err
		}
	}
	if len(l.found) > 0 {
		return l.found, nil
	}
	files, err := l.elsewhere(ctx, l.target, l.way, l.in, l.notes)
	for i, rel := range l.way {
		if l.seen[i] && len(files) == 0 {
			l.notes.Looked = append(l.notes.Looked, rel.Version)
		}
	}
	return files, err
}

// tries are the releases whose archives are tried in turn until one has notes: the newest, the one before it, the first of each
// major, the oldest, and some between.
func (l *looking) tries() (order []int) {
	if l.archived == nil {
		return nil
	}
	add := func(i int) {
		if i >= 0 && i < len(l.way) && !slices.Contains(order, i) && len(order) < mostTried {
			order = append(order, i)
		}
	}
	add(0)
	add(1)
	for i := 1; i < len(l.way); i++ {
		newer, err := l.target.part.Version(l.way[i-1].Version)
		older, err2 := l.target.part.Version(l.way[i].Version)
		if err == nil && err2 == nil && l.target.part.Eco.Order().Step(older, newer) == version.Major {
			add(i - 1)
		}
	}
	add(len(l.way) - 1)
	for n := 1; n < mostTried; n++ {
		add(n * len(l.way) / mostTried)
	}
	return order
}

// look reads the notes in the archive of a release. Any tells of notes for a version on the way, history that they are of several
// versions. An archive that cannot be had is told.
func (l *looking) look(ctx context.Context, i int) (any, history bool, err error) {
	if l.seen[i] {
		return false, false, nil
	}
	l.seen[i] = true
	rel, subject := l.way[i], l.target.subject
	subject.Name = cmp.Or(rel.As, subject.Name)
	list, err := l.archived.Archive(ctx, subject, rel.Version, choice)
	if err != nil {
		if ctx.Err() != nil {
			return false, false, err
		}
		l.notes.Unread = append(l.notes.Unread, err.Error())
		return false, false, nil
	}
	for _, a := range list {
		one, all := l.part(a.Name+" of "+rel.Version, a.Name, a.Data, l.in, l.notes)
		history = history || all > 1 && !notes.IsReadme(a.Name)
		if one != nil {
			any = any || !notes.IsReadme(a.Name)
			l.found = append(l.found, *one)
		}
	}
	return any, history, nil
}

// part reads one file. All is how many versions it tells of, on the way or not.
func (r *reader) part(shown, name string, data []byte, in *between, p *model.PackageNotes) (f *file, all int) {
	text, _, err := charset.Decode(data)
	if err != nil {
		p.Unread = append(p.Unread, shown+": "+err.Error())
		return nil, 0
	}
	parts := notes.Read(name, text)
	if notes.IsReadme(name) {
		if parts = notes.ReadReadme(text); len(parts) == 0 {
			return nil, 0
		}
	}
	on := notes.Between(parts, in.holds)
	if len(on) == 0 {
		p.Whole = append(p.Whole, shown)
		return nil, len(parts)
	}
	p.Found = append(p.Found, shown)
	return &file{name, on}, len(parts)
}

// described are the versions that files tell of.
func described(files []file) (versions []string) {
	for _, f := range files {
		for _, p := range f.parts {
			versions = append(versions, p.Version)
		}
	}
	return versions
}

// gap is a run of releases at an end of the way that nothing was found about, as places on the way.
type gap struct{ newest, oldest int }

// ends are the releases before the first and behind the last version that is told of.
func (l *looking) ends(told []string) (gaps []gap) {
	var low, high version.Version
	for _, text := range told {
		v, err := l.target.part.Version(text)
		if err != nil {
			return nil // a major, or something else that stands for many
		}
		if low == nil || v.Compare(low) < 0 {
			low = v
		}
		if high == nil || v.Compare(high) > 0 {
			high = v
		}
	}
	if low == nil {
		return nil
	}
	newer, older := -1, len(l.way)
	for i, rel := range l.way {
		v, err := l.target.part.Version(rel.Version)
		switch {
		case err != nil:
		case v.Compare(high) > 0:
			newer = i
		case v.Compare(low) < 0 && i < older:
			older = i
		}
	}
	if newer >= 0 {
		gaps = append(gaps, gap{0, newer})
	}
	if older < len(l.way) {
		gaps = append(gaps, gap{older, len(l.way) - 1})
	}
	return gaps
}

// unseen is the newest release of some gaps whose archive was not looked at, -1 for none.
func (l *looking) unseen(gaps []gap) int {
	for _, g := range gaps {
		for i := g.newest; i <= g.oldest; i++ {
			if !l.seen[i] {
				return i
			}
		}
	}
	return -1
}

// tells tells whether a gap has a release that there is something to tell of: more than fixes of the one before it.
func (l *looking) tells(g gap) bool {
	for i := g.newest; i <= g.oldest; i++ {
		before := l.in.from
		if i+1 < len(l.way) {
			if v, err := l.target.part.Version(l.way[i+1].Version); err == nil {
				before = v
			}
		}
		v, err := l.target.part.Version(l.way[i].Version)
		if err == nil && l.target.part.Eco.Order().Step(before, v) != version.Patch {
			return true
		}
	}
	return false
}

// gaps say which releases on the way nothing was found about, at its ends: of single ones between others, there is often nothing to
// tell.
func (l *looking) gaps(told []string) (all []string) {
	for _, g := range l.ends(told) {
		if !l.tells(g) {
			continue
		}
		from, to := l.way[g.oldest].Version, l.way[g.newest].Version
		if from == to {
			all = append(all, "nothing was found about "+from)
			continue
		}
		all = append(all, fmt.Sprintf("nothing was found about %s to %s (%d releases)", from, to, g.oldest-g.newest+1))
	}
	return all
}
