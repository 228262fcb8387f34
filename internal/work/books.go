package work

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
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
	"bellwether/internal/core/harmless"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/within"
)

// maxBook bounds a book that is read, in bytes.
const maxBook = 16 << 20

// orders are the version orders of all kinds of subjects.
func orders(kind string) version.Order {
	for _, eco := range ecosystems {
		if eco.Name() == kind {
			return eco.Order()
		}
	}
	if slices.Contains(model.PinKinds, kind) {
		return version.Plain{}
	}
	return nil
}

// shelf is all compat books that apply to a project.
type shelf struct {
	books []*compat.Book
	rules []*compat.Rule
	notes []string // where a book came from another place than it was asked of
}

// shelf reads the books that ship, those that the settings name, and those of
// the call, once.
func (p *Project) shelf(ctx context.Context) (*shelf, error) {
	if p.shelved != nil {
		return p.shelved, nil
	}
	s := &shelf{}
	name, src := books.Runtimes()
	if err := s.add(name, src); err != nil {
		return nil, err
	}
	for _, b := range p.Settings.Books {
		if err := p.shelve(ctx, s, b); err != nil {
			return nil, err
		}
	}
	for _, name := range p.opt.Books {
		if err := s.addOutside(name); err != nil {
			return nil, err
		}
	}
	s.rules = append(s.rules, p.families()...)
	p.shelved = s
	return s, nil
}

// families are the settings' families, as rules.
func (p *Project) families() []*compat.Rule {
	var rules []*compat.Rule
	for _, f := range p.Settings.Together {
		byKind := map[string]*compat.Rule{} // versions of different ecosystems cannot be compared
		for _, part := range p.Components {
			for _, q := range part.Requirements {
				if !slices.Contains(f.Names, q.Name) {
					continue
				}
				r := byKind[q.Subject.Kind]
				if r == nil {
					r = &compat.Rule{ID: "together", Because: "the settings say so", File: SettingsFile, Kind: compat.Together, Share: f.Share}
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
func (p *Project) shelve(ctx context.Context, s *shelf, b BookSetting) error {
	if b.URL != "" {
		return p.fetchBook(ctx, s, b)
	}
	if !filepath.IsLocal(filepath.FromSlash(b.Path)) {
		return &model.Fault{Doing: "reading compat books", File: SettingsFile, Wrong: fmt.Sprintf("the path %q leads out of the project", b.Path), Next: "name a folder outside with --books"}
	}
	return s.addFiles(p.fsys, path.Clean(b.Path), "")
}

// addOutside adds a file or a folder that the call names, wherever it lies.
func (s *shelf) addOutside(name string) error {
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
func (s *shelf) addFiles(fsys fs.FS, name, shown string) error {
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
func (s *shelf) add(name string, src []byte) error {
	if len(src) > maxBook {
		return &model.Fault{Doing: "reading compat books", File: name, Wrong: fmt.Sprintf("it has more than %d MB", maxBook>>20)}
	}
	b, faults := compat.Parse(name, src, orders)
	if len(faults) > 0 {
		first := *faults[0]
		if n := len(faults) - 1; n > 0 && first.Next == "" {
			first.Next = fmt.Sprintf("bellwether books check lists this and %d more", n)
		}
		return &first
	}
	s.books = append(s.books, b)
	s.rules = append(s.rules, b.Rules...)
	return nil
}

// fetchBook gets a book by its address. What has the digest that the settings pin is kept
// for good, whatever the server sends later.
func (p *Project) fetchBook(ctx context.Context, s *shelf, b BookSetting) error {
	client := fetch.New(fetch.Config{CacheDir: p.cacheFile("documents"), MaxAge: cacheAge, Offline: p.opt.Offline, Refresh: p.opt.Refresh})
	shown := harmless.Address(b.URL)
	if !fetch.Private(b.URL) {
		// Its digest vouches for it, so that this is no danger, but nobody should wonder.
		s.notes = append(s.notes, "the book "+shown+" comes over plain HTTP; its digest vouches for it")
	}
	pinned := strings.ToLower(b.SHA256)
	var fault *model.Fault
	request := fetch.Request{URL: b.URL, Form: "book-2 " + pinned, Accept: "application/yaml, text/yaml, */*", Limit: maxBook + 1, Distil: func(body io.Reader) ([]byte, error) {
		src, err := io.ReadAll(io.LimitReader(body, maxBook+1))
		if err != nil {
			return nil, err
		}
		sum := sha256.Sum256(src)
		if fault = b.judge(shown, hex.EncodeToString(sum[:]), pinned); fault != nil {
			return nil, fault
		}
		return src, nil
	}}
	src, err := client.Document(ctx, request)
	if err != nil && ctx.Err() == nil {
		old := fetch.New(fetch.Config{CacheDir: p.cacheFile("documents"), Offline: true})
		kept, kerr := old.Document(ctx, request)
		switch {
		case kerr == nil && fault != nil:
			s.notes = append(s.notes, fmt.Sprintf("the book %s is another one by now at its address; the copy in the cache has the digest that is pinned, and is used", shown))
		case kerr == nil:
			s.notes = append(s.notes, fmt.Sprintf("the book %s cannot be fetched now, the copy in the cache is used: %s", shown, firstLine(err)))
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
func (b BookSetting) judge(shown, found, pinned string) *model.Fault {
	switch {
	case pinned == "":
		return &model.Fault{
			Doing: "reading compat books", File: SettingsFile, Wrong: fmt.Sprintf("the book %s has no digest that pins it", shown),
			Next: "read it, and if it is good, write beside its url: sha256: " + found,
		}
	case found != pinned:
		return &model.Fault{
			Doing: "reading compat books", File: SettingsFile, Wrong: fmt.Sprintf("the book %s has changed: its digest is %s, not %s", shown, found, pinned),
			Next: "see what changed in it, and pin the new digest or keep a copy of the old book in the project",
		}
	}
	return nil
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}

// ends gives the end of a subject's version: by the released lines, or by a
// rule; zero if none is known. What is in several ends with the first.
func (s *shelf) ends(subject model.Subject, v version.Version) (on time.Time, rule *compat.Rule) {
	for _, b := range s.books {
		for _, l := range b.Releases {
			if l.Subject != subject || l.Ends.IsZero() {
				continue
			}
			if line, err := (version.Plain{}).ParseRange(l.Text); err == nil && line.Contains(v) {
				on = l.Ends
			}
		}
	}
	for _, r := range s.rules {
		if r.Kind == compat.Ends && r.Foreign == "" && r.When[0].Subject == subject && (r.When[0].Range == nil || r.When[0].Range.Contains(v)) && (on.IsZero() || r.On.Before(on)) {
			on, rule = r.On, r
		}
	}
	return on, rule
}

// replaces is the rule by which a requirement of a component goes on under a
// name, nil if there is none.
func (s *shelf) replaces(part *Part, name string) *compat.Rule {
	for _, r := range s.rules {
		if r.Kind == compat.Replaced && r.New == (model.Subject{Kind: part.Ecosystem, Name: name}) && len(part.Find(r.Old.Name)) > 0 {
			return r
		}
	}
	return nil
}

// lines are the released lines of a subject.
func (s *shelf) lines(subject model.Subject) []version.Version {
	var all []version.Version
	for _, b := range s.books {
		for _, l := range b.Releases {
			if l.Subject == subject {
				all = append(all, l.Version)
			}
		}
	}
	return all
}

// applies tells whether a rule applies to a state: "in force", "not yet", "not
// here" or "never", and why.
func (s *state) applies(r *compat.Rule) (status, why string) {
	if r.Foreign != "" {
		return "never", fmt.Sprintf("%q is no ecosystem that is known here", r.Foreign)
	}
	here := func(subject model.Subject) string {
		if subject.IsPin() {
			if v := stated(s.pinsOf(subject)); v != nil {
				return v.String()
			}
			return ""
		}
		if all := s.packages[subject]; len(all) > 0 {
			return all[0].Version
		}
		return ""
	}
	var subjects []model.Subject
	switch r.Kind {
	case compat.Together, compat.Stepwise, compat.Branch:
		subjects = r.Subjects
	case compat.Replaced:
		subjects = []model.Subject{r.Old}
	default:
		for _, c := range r.When {
			subjects = append(subjects, c.Subject)
		}
	}
	var found, missing []string
	for _, subject := range subjects {
		if v := here(subject); v != "" {
			found = append(found, subject.String()+" is at "+v)
		} else {
			missing = append(missing, subject.String())
		}
	}
	few := r.Kind == compat.Together && len(found) < 2 || r.Kind == compat.Stepwise && len(found) == 0
	some := r.Kind == compat.Together || r.Kind == compat.Stepwise
	if few || len(missing) > 0 && !some {
		return "not here", strings.Join(missing, " and ") + " is not in this project"
	}
	world := s.world()
	for _, c := range r.When {
		if c.Subject.IsPin() {
			if v := stated(s.pinsOf(c.Subject)); v != nil {
				world[c.Subject] = []version.Version{v}
			}
		}
		if !world.Holds(c) {
			return "not yet", strings.Join(found, ", ")
		}
	}
	return "in force", strings.Join(found, ", ")
}

// Books tells which books there are, and which of their rules apply here.
func (p *Project) Books(ctx context.Context) (*model.BooksResult, error) {
	s, err := p.shelf(ctx)
	if err != nil {
		return nil, err
	}
	now, err := p.now()
	if err != nil {
		return nil, err
	}
	result := &model.BooksResult{Notes: s.notes}
	for _, b := range s.books {
		row := model.BookResult{Book: b.File, Title: b.Title, Releases: len(b.Releases), Rules: []model.RuleResult{}}
		if !b.AsOf.IsZero() {
			row.AsOf = b.AsOf.Format(time.DateOnly)
		}
		for _, r := range b.Rules {
			status, why := now.applies(r)
			row.Rules = append(row.Rules, model.RuleResult{ID: r.ID, Kind: string(r.Kind), Says: r.Says(), Because: r.Because, Source: r.Source, Place: r.Place(), Status: status, Why: why})
		}
		result.Books = append(result.Books, row)
	}
	return result, nil
}

// CheckBook reads one book and tells all that is wrong with it.
func CheckBook(ctx context.Context, name string) (*model.BookCheck, error) {
	src, err := within.Plain(name, maxBook)
	if err != nil {
		var missing *fs.PathError
		if errors.As(err, &missing) {
			err = missing.Err
		}
		return nil, &model.Fault{Doing: "checking a compat book", File: name, Wrong: err.Error()}
	}
	b, faults := compat.Parse(filepath.ToSlash(name), src, orders)
	check := &model.BookCheck{Book: b.File, Title: b.Title, Rules: len(b.Rules), Remarks: []model.BookRemark{}}
	for _, f := range faults {
		check.Remarks = append(check.Remarks, model.BookRemark{Line: f.Line, Column: f.Col, Text: f.Wrong, Next: f.Next})
	}
	remarks, err := compat.Check(ctx, b, orders)
	if err != nil {
		return nil, err
	}
	for _, r := range remarks {
		check.Remarks = append(check.Remarks, model.BookRemark{Line: r.Rule.Line, Rule: r.Rule.ID, Text: r.Text, Proof: r.Proof})
	}
	slices.SortStableFunc(check.Remarks, func(a, b model.BookRemark) int { return a.Line - b.Line })
	return check, nil
}
