// Package tree is a project's files at one state, and what they say: its components, the
// packages in effect, and the places that state runtimes, tools, platforms and images.
package tree

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/model"
	"bellwether/internal/core/overlay"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/keep"
	"bellwether/internal/work/settings"
)

// Tree is a project at one state of its files. It does not change; what is not always
// needed is read when it is asked for.
type Tree struct {
	Files    *ecosystem.Index
	Parts    []*Part  // the components
	Unread   []Unread // others that could not be read, and are not among them
	Table    ecosystem.Table
	settings *settings.Settings
	places   func() (*Places, error)
}

// Source is where a project's files lie.
type Source struct {
	FS       fs.FS
	Settings *settings.Settings
	Table    ecosystem.Table // nil for all that are built in
	// Ignored tells which of some folders version control is told to ignore.
	Ignored func(dirs []string) map[string]bool
	// Real is the file that a name leads to, where there are links.
	Real func(name string) (string, error)
	// Reading is told the folder of the component that is read; it may be nil.
	Reading func(dir string)
}

// Read finds and reads all components of a project. One in a folder below it that cannot be read is passed over; the project's own,
// and the only one, is an error.
func Read(from Source) (*Tree, error) {
	files, err := ecosystem.Walk(from.FS, func(dir string) bool { return dir == keep.Dir })
	if err != nil {
		return nil, fmt.Errorf("looking for components: %w", err)
	}
	t := &Tree{Files: files, settings: from.Settings, Table: from.Table}
	if t.Table == nil {
		t.Table = BuiltIn()
	}
	found := make([][]string, len(t.Table)) // folders with components, by ecosystem
	for i, eco := range t.Table {
		if found[i], err = eco.Detect(files); err != nil {
			return nil, fmt.Errorf("looking for components: %w", err)
		}
	}
	ignored := from.Ignored(slices.Concat(found...))
	for i, eco := range t.Table {
		for _, dir := range found[i] {
			if !ignored[dir] && !t.settings.LeavesOut(dir) {
				t.Parts = append(t.Parts, &Part{Component: &model.Component{Dir: dir}, Eco: eco})
			}
		}
	}
	reading := from.Reading
	if reading == nil {
		reading = func(string) {}
	}
	read, faults := each(t.Parts, files, reading)
	for i, part := range t.Parts {
		if faults[i] == nil {
			continue
		}
		if part.Dir == "." || len(t.Parts) == 1 {
			return nil, faults[i]
		}
		t.Unread = append(t.Unread, Unread{part.Dir, faults[i]})
	}
	if t.Parts = slices.DeleteFunc(read, func(part *Part) bool { return part == nil }); len(t.Parts) == 0 {
		if err := cmp.Or(faults...); err != nil {
			return nil, err
		}
	}
	for _, part := range t.Parts {
		for _, m := range part.Unread {
			t.Unread = append(t.Unread, Unread{m.Dir, m.Err})
		}
	}
	t.dropAliases(from.Real)
	t.identify()
	return t.ready(), nil
}

// identify gives each component its ID.
func (t *Tree) identify() {
	in := map[string]int{}
	for _, part := range t.Parts {
		in[part.Dir]++
	}
	for _, part := range t.Parts {
		if part.ID = part.Dir; in[part.Dir] > 1 {
			part.ID = part.Manifest
		}
	}
}

// Unread is a component that could not be read.
type Unread struct {
	Dir string
	Err error
}

// Error says what is wrong, and what to do.
func (u Unread) Error() string {
	err := u.Err
	var fault *model.Fault
	if errors.As(err, &fault) {
		told := *fault
		told.Next = "mend it, or name the folder under leave-out in bellwether.yaml"
		err = &told
	}
	return fmt.Sprintf("the component in %s was not looked at: %v", u.Dir, err)
}

// dropAliases leaves out a component whose manifest is but a link to another one's.
func (t *Tree) dropAliases(real func(name string) (string, error)) {
	byFile := map[string]*Part{}
	t.Parts = slices.DeleteFunc(t.Parts, func(part *Part) bool {
		file, err := real(part.Manifest)
		if err != nil {
			return false
		}
		other := byFile[file]
		if other != nil && file == part.Manifest {
			*other = *part // the other one was the link
			return true
		}
		byFile[file] = part
		return other != nil
	})
}

// ready lets a tree read what is asked for later, once.
func (t *Tree) ready() *Tree {
	t.places = sync.OnceValues(t.readPlaces)
	return t
}

// Over is the project's files with edits made.
func (t *Tree) Over(edits []model.FileEdit) *ecosystem.Index {
	return t.Files.Over(overlay.With(t.Files.FS, edits))
}

// In is the same project with other files. Which components it has stays.
func (t *Tree) In(files *ecosystem.Index) (*Tree, error) {
	if files == t.Files {
		return t, nil
	}
	parts, faults := each(t.Parts, files, func(string) {})
	if err := cmp.Or(faults...); err != nil {
		return nil, err
	}
	return (&Tree{Files: files, settings: t.settings, Table: t.Table, Parts: parts, Unread: t.Unread}).ready(), nil
}

// each reads components in other files, several at a time.
func each(parts []*Part, files *ecosystem.Index, reading func(dir string)) (read []*Part, faults []error) {
	read, faults = make([]*Part, len(parts)), make([]error, len(parts))
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, part := range parts {
		group.Go(func() error {
			reading(part.Dir)
			read[i], faults[i] = part.In(files)
			return nil
		})
	}
	_ = group.Wait()
	return read, faults
}

// With is the project after edits.
func (t *Tree) With(edits []model.FileEdit) (*Tree, error) {
	if len(edits) == 0 {
		return t, nil
	}
	return t.In(t.Over(edits))
}

// Moved is the project with other files, of whose components only one is another.
func (t *Tree) Moved(files *ecosystem.Index, part *Part) *Tree {
	other := &Tree{Files: files, settings: t.settings, Table: t.Table, Parts: slices.Clone(t.Parts), Unread: t.Unread}
	if at := slices.IndexFunc(t.Parts, func(p *Part) bool { return p.ID == part.ID }); at >= 0 {
		other.Parts[at] = part
	}
	return other.ready()
}

// Part is the component of an ID, nil if there is none. Where a folder has got a second component since the ID was written,
// it is the first one there.
func (t *Tree) Part(id string) *Part {
	at := slices.IndexFunc(t.Parts, func(p *Part) bool { return p.ID == id })
	if at < 0 {
		at = slices.IndexFunc(t.Parts, func(p *Part) bool { return p.Dir == id })
	}
	if at < 0 {
		return nil
	}
	return t.Parts[at]
}

// Has tells whether there is a component of a name, be it one that cannot be read.
func (t *Tree) Has(name string) bool {
	return t.Part(name) != nil || slices.ContainsFunc(t.Unread, func(u Unread) bool { return u.Dir == name })
}

// IDs are those of the components.
func (t *Tree) IDs() (all []string) {
	for _, part := range t.Parts {
		all = append(all, part.ID)
	}
	return all
}

// PartWith is the component that a manifest belongs to: its own, or that of the
// innermost folder around it, whose workspace it is a member of. It is nil for none.
func (t *Tree) PartWith(manifest string) *Part {
	var around *Part
	for _, part := range t.Parts {
		if part.Manifest == manifest {
			return part
		}
		inside := part.Dir == "." || strings.HasPrefix(manifest, part.Dir+"/")
		if inside && ecosystem.IsManifest(part.Eco, manifest) && (around == nil || len(part.Dir) > len(around.Dir)) {
			around = part
		}
	}
	return around
}

// RequiredAs is the name under which a manifest requires a runtime, "" if none does.
func (t *Tree) RequiredAs(s model.Subject) string {
	for _, part := range t.Parts {
		for _, r := range part.Requirements {
			if r.Subject == s {
				return r.Name
			}
		}
	}
	return ""
}
