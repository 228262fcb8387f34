// Package shelf reads the compat books that apply to a project: those that ship, those of
// its settings, and those of the call.
package shelf

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"bellwether/books"
	"bellwether/internal/core/compat"
	"bellwether/internal/core/contract"
	"bellwether/internal/core/harmless"
	"bellwether/internal/core/model"
	"bellwether/internal/core/rewrite"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/within"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/settings"
	"bellwether/internal/work/tree"
)

// MaxBook bounds a book that is read, in bytes.
const MaxBook = 16 << 20

// Shelf is all compat books that apply to a project.
type Shelf struct {
	Books  []*compat.Book
	Rules  []*compat.Rule
	Notes  []string // where a book came from another place than it was asked of
	orders func(kind string) version.Order
}

// Ships tells whether a book comes with the program.
func Ships(b *compat.Book) bool {
	return slices.ContainsFunc(books.All(), func(o books.Book) bool { return o.Name == b.File })
}

// Read reads the books that ship, those that the settings name, and those of the call.
// Together are families that a call names besides those of the settings.
func Read(ctx context.Context, d *desk.Desk, t *tree.Tree, together ...settings.Family) (*Shelf, error) {
	s := &Shelf{orders: t.Table.Order}
	for _, b := range books.All() {
		if err := s.add(b.Name, b.Src); err != nil {
			return nil, err
		}
	}
	for _, b := range d.Settings.Books {
		if err := s.shelve(ctx, d, t, b); err != nil {
			return nil, err
		}
	}
	for _, name := range d.Options.Books {
		if err := s.addOutside(name); err != nil {
			return nil, err
		}
	}
	s.Rules = append(s.Rules, families(t, slices.Concat(d.Settings.Together, together))...)
	return s, nil
}

// Only reads one book, or a folder of them, wherever it lies, and nothing else.
func Only(t *tree.Tree, name string) (*Shelf, error) {
	s := &Shelf{orders: t.Table.Order}
	return s, s.addOutside(name)
}

// families are families of requirements, as rules.
func families(t *tree.Tree, all []settings.Family) []*compat.Rule {
	var rules []*compat.Rule
	for _, f := range all {
		byKind := map[string]*compat.Rule{} // versions of different ecosystems cannot be compared
		for _, part := range t.Parts {
			for _, q := range part.Requirements {
				if !slices.Contains(f.Names, q.Name) {
					continue
				}
				r := byKind[q.Subject.Kind]
				if r == nil {
					r = &compat.Rule{ID: "together", Because: "the settings say so", File: settings.File, Kind: compat.Together, Share: f.Share}
					byKind[q.Subject.Kind] = r
				}
				if !slices.Contains(r.Subjects, q.Subject) {
					r.Subjects = append(r.Subjects, q.Subject)
				}
			}
		}
		for _, kind := range slices.Sorted(maps.Keys(byKind)) {
			if len(byKind[kind].Subjects) > 1 {
				rules = append(rules, byKind[kind])
			}
		}
	}
	return rules
}

// shelve adds a book of the settings.
func (s *Shelf) shelve(ctx context.Context, d *desk.Desk, t *tree.Tree, b settings.Book) error {
	if b.URL != "" {
		return s.fetch(ctx, d, b)
	}
	if !filepath.IsLocal(filepath.FromSlash(b.Path)) {
		return &model.Fault{
			Doing: "reading compat books", File: settings.File, Wrong: fmt.Sprintf("the path %q leads out of the project", b.Path),
			Next: "name a folder outside with --books",
		}
	}
	return s.addFiles(t.Files.FS, path.Clean(b.Path), "")
}

// addOutside adds a file or a folder that the call names, wherever it lies.
func (s *Shelf) addOutside(name string) error {
	dir := filepath.Dir(name)
	files, err := within.Open(dir, nil)
	if err != nil {
		return &model.Fault{Doing: "reading compat books", File: name, Wrong: model.Reason(err)}
	}
	defer files.Close()
	return s.addFiles(files, filepath.Base(name), dir)
}

// addFiles adds a file, or all YAML files of a folder; shown is put before their
// names for people.
func (s *Shelf) addFiles(fsys fs.FS, name, shown string) error {
	info, err := fs.Stat(fsys, name)
	if err != nil {
		return &model.Fault{Doing: "reading compat books", File: path.Join(shown, name), Wrong: model.Reason(err)}
	}
	files := []string{name}
	if info.IsDir() {
		files = nil
		entries, err := fs.ReadDir(fsys, name)
		if err != nil {
			return &model.Fault{Doing: "reading compat books", File: path.Join(shown, name), Wrong: model.Reason(err)}
		}
		for _, e := range entries {
			if e.Type().IsRegular() && (path.Ext(e.Name()) == ".yaml" || path.Ext(e.Name()) == ".yml") {
				files = append(files, path.Join(name, e.Name()))
			}
		}
	}
	for _, file := range files {
		src, err := fs.ReadFile(fsys, file)
		if err != nil {
			return &model.Fault{Doing: "reading compat books", File: path.Join(shown, file), Wrong: model.Reason(err)}
		}
		if err := s.add(path.Join(shown, file), src); err != nil {
			return err
		}
	}
	return nil
}

// add reads a book; its first fault is the error.
func (s *Shelf) add(name string, src []byte) error {
	if len(src) > MaxBook {
		return &model.Fault{Doing: "reading compat books", File: name, Wrong: fmt.Sprintf("it has more than %d MB", MaxBook>>20)}
	}
	b, faults := compat.Parse(name, src, s.orders)
	if len(faults) > 0 {
		first := *faults[0]
		if n := len(faults) - 1; n > 0 && first.Next == "" {
			first.Next = fmt.Sprintf("bellwether books check lists this and %d more", n)
		}
		return &first
	}
	s.Books = append(s.Books, b)
	s.Rules = append(s.Rules, b.Rules...)
	return nil
}

// fetch gets a book by its address. What has the digest that the settings pin is kept
// for good, whatever the server sends later.
func (s *Shelf) fetch(ctx context.Context, d *desk.Desk, b settings.Book) error {
	shown := harmless.Address(b.URL)
	if !fetch.Private(b.URL) {
		// Its digest vouches for it, so that this is no danger, but nobody should wonder.
		s.Notes = append(s.Notes, "the book "+shown+" comes over plain HTTP; its digest vouches for it")
	}
	pinned := strings.ToLower(b.SHA256)
	var fault *model.Fault
	request := fetch.Request{
		URL:    b.URL,
		Form:   "book-2 " + pinned,
		Accept: "application/yaml, text/yaml, */*",
		Limit:  MaxBook + 1,
		Distil: func(body io.Reader) ([]byte, error) {
			src, err := io.ReadAll(io.LimitReader(body, MaxBook+1))
			if err != nil {
				return nil, err
			}
			sum := sha256.Sum256(src)
			if fault = judge(shown, hex.EncodeToString(sum[:]), pinned); fault != nil {
				return nil, fault
			}
			return src, nil
		},
	}
	src, err := d.Client().Document(ctx, request)
	if err != nil && ctx.Err() == nil {
		kept, kerr := d.Cached().Document(ctx, request)
		switch {
		case kerr == nil && fault != nil:
			s.Notes = append(
				s.Notes,
				fmt.Sprintf(
					"the book %s is another one by now at its address; the copy in the cache has the digest that is pinned, and is used", shown,
				),
			)
		case kerr == nil:
			s.Notes = append(s.Notes, fmt.Sprintf("the book %s cannot be fetched now, the copy in the cache is used: %s", shown, firstLine(err)))
		case fault != nil:
			return fault
		default:
			return fmt.Errorf("fetching the compat book %s: %w", shown, err)
		}
		src = kept
	} else if err != nil {
		return err
	}
	return s.add(shown, src)
}

// judge refuses a book that is not the one that is pinned; nil for one that is.
func judge(shown, found, pinned string) *model.Fault {
	switch {
	case pinned == "":
		return &model.Fault{
			Doing: "reading compat books", File: settings.File, Wrong: fmt.Sprintf("the book %s has no digest that pins it", shown),
			Next: "read it, and if it is good, write beside its url: sha256: " + found,
		}
	case found != pinned:
		return &model.Fault{
			Doing: "reading compat books", File: settings.File, Wrong: fmt.Sprintf("the book %s has changed: its digest is %s, not "+
				"%s", shown, found, pinned),
			Next: "see what changed in it, and pin the new digest or keep a copy of the old book in the project",
		}
	}
	return nil
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}

// Renames say where packages are that own sources import under another path: the rules that
// rename a module.
func (s *Shelf) Renames() (renames []contract.Rename) {
	for _, r := range s.Rules {
		if r.Repair == nil {
			continue
		}
		if b, ok := r.Repair.Body.(*rewrite.Rename); ok && b.What == rewrite.ModuleOf {
			renames = append(renames, contract.Rename{Old: b.Old, New: b.New, Below: b.Below, Unless: b.Unless})
		}
	}
	return renames
}

// Ends gives the end of a subject's version: by the released lines, or by a
// rule; zero if none is known. What is in several ends with the first.
func (s *Shelf) Ends(subject model.Subject, v version.Version) (on time.Time, rule *compat.Rule) {
	for _, b := range s.Books {
		for _, l := range b.Releases {
			if l.Subject != subject || l.Ends.IsZero() {
				continue
			}
			if line, err := (version.Plain{}).ParseRange(l.Text); err == nil && line.Contains(v) {
				on = l.Ends
			}
		}
	}
	for _, r := range s.Rules {
		if r.Kind == compat.Ends && r.Foreign == "" && r.When[0].Subject == subject && (r.When[0].Range == nil || r.When[0].Range.Contains(v)) &&
			(on.IsZero() || r.On.Before(on)) {
			on, rule = r.On, r
		}
	}
	return on, rule
}

// Replaces is the rule by which a requirement of a component goes on under a
// name, nil if there is none.
func (s *Shelf) Replaces(part *tree.Part, name string) *compat.Rule {
	for _, r := range s.Rules {
		if r.Kind == compat.Replaced && r.New == (model.Subject{Kind: part.Type, Name: name}) && part.Declares(r.Old.Name) {
			return r
		}
	}
	return nil
}

// Lines are the released lines of a subject.
func (s *Shelf) Lines(subject model.Subject) []version.Version {
	var all []version.Version
	for _, b := range s.Books {
		for _, l := range b.Releases {
			if l.Subject == subject {
				all = append(all, l.Version)
			}
		}
	}
	return all
}

// Source is a branch of a repository that a compat book names.
type Source struct {
	Of    string // the requirement
	Name  string // the branch's
	Value string // what a manifest asks for to have it
	Rule  *compat.Rule
}

// Sources are the branches of repositories that compat books name of a requirement.
func (s *Shelf) Sources(eco ecosystem.Sourced, q model.Requirement) (all []Source) {
	for _, r := range s.Rules {
		if r.Kind == compat.Branch && r.Foreign == "" && r.Repository != "" && r.Subjects[0] == q.Subject {
			all = append(all, Source{q.Name, r.Branch, eco.SourceRange(r.Repository, r.Branch), r})
		}
	}
	return all
}
