package gomod

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
)

// build makes the state that follows from the chosen versions. Where it turns
// out that one of them cannot be, that becomes a lesson, and there is no
// outcome.
func (s *resolver) build(chosen []candidate) (*ecosystem.Outcome, error) {
	before := s.own
	defer func() { s.own = before }()
	moved, edits, err := s.rewrite(chosen)
	if err != nil || moved == nil {
		return nil, err
	}
	s.own = moved
	roots := []version{}
	goVersion := s.p.goVersion()
	for _, q := range s.p.mod.Require {
		roots = append(roots, q.Mod)
	}
	for i, c := range chosen {
		sub := s.subjects[i]
		if sub.req.Subject == runtimeGo {
			goVersion = c.m.Version
			continue
		}
		at := slices.IndexFunc(roots, func(m version) bool { return m.Path == c.m.Path })
		switch {
		case at < 0:
			roots = append(roots, c.m)
		case c.m.Path == sub.req.Name || compareVersions(c.m.Path, c.m.Version, roots[at].Version) > 0:
			roots[at].Version = c.m.Version
		}
	}
	roots = append(roots, version{Path: "go", Version: goVersion})
	l, err := s.tidied(roots)
	if err != nil {
		return nil, s.blame(chosen, err)
	}
	if s.learn(chosen, l) {
		return nil, nil
	}
	if err := s.sound(l); err != nil {
		return nil, err
	}
	return s.outcome(chosen, l, edits)
}

// blame makes an error of a candidate that cannot be had a lesson about it.
func (s *resolver) blame(chosen []candidate, err error) error {
	var wrongName *misnamed
	if !isMissing(err) && !errors.As(err, &wrongName) {
		return err
	}
	for i, c := range chosen {
		sub := s.subjects[i]
		if sub.candidates[sub.at].m != c.m && strings.Contains(err.Error(), c.m.Path+" "+c.m.Version) {
			s.lessons = append(s.lessons, lesson{of: c.m, text: err.Error()})
			return nil
		}
	}
	return err
}

// rewrite gives the module's own files with imports that follow requirements
// to other paths. Packages that the new path does not have stay with the old.
// If it has none of them, that is a lesson, and there are no files.
func (s *resolver) rewrite(chosen []candidate) (*sources, []model.FileEdit, error) {
	own, edits := s.own, []model.FileEdit(nil)
	for i, c := range chosen {
		from := s.subjects[i].req.Name
		if c.m.Path == from || from == "go" {
			continue
		}
		x, err := s.indexFor(c.m)
		if err != nil {
			return nil, nil, s.blame(chosen, err)
		}
		renamed, kept := 0, []imported{}
		rename := func(pkg string) string {
			if !within(from, pkg) || s.nested(from, pkg) {
				return pkg
			}
			if x.Packages[below(from, pkg)] == nil {
				return pkg
			}
			return join(c.m.Path, below(from, pkg))
		}
		for _, i := range own.imported(func(pkg string) bool { return within(from, pkg) && !s.nested(from, pkg) }) {
			if rename(i.path) == i.path {
				kept = append(kept, i)
			} else {
				renamed++
			}
		}
		if renamed == 0 && len(kept) > 0 {
			s.lessons = append(s.lessons, lesson{of: c.m, text: fmt.Sprintf("%s %s has none of the packages that are imported, such as %s (%s)", c.m.Path, c.m.Version, kept[0].path, kept[0].site)})
			return nil, nil, nil
		}
		for _, i := range kept {
			s.notices = append(s.notices, fmt.Sprintf("%s stays required beside %s: %s imports %s, which %s does not have", from, c.m.Path, i.site, i.path, c.m.Path))
		}
		var more []model.FileEdit
		if own, more, err = own.renamed(rename); err != nil {
			return nil, nil, err
		}
		edits = merge(edits, more)
	}
	return own, edits, nil
}

// merge lays later edits of files over earlier ones.
func merge(edits, more []model.FileEdit) []model.FileEdit {
	for _, e := range more {
		at := slices.IndexFunc(edits, func(o model.FileEdit) bool { return o.File == e.File })
		if at < 0 {
			edits = append(edits, e)
		} else {
			edits[at].New = e.New
		}
	}
	return edits
}

// nested tells whether a package belongs to another required module whose path
// lies below that of the given one.
func (s *resolver) nested(module, pkg string) bool {
	for _, prefix := range prefixes(pkg) {
		if prefix == module {
			return false
		}
		if s.p.required(prefix) != nil {
			return true
		}
	}
	return false
}

func join(module, below string) string {
	return strings.TrimSuffix(module+"/"+below, "/")
}

// learn notes what the built state says against the chosen versions, and tells
// whether there was anything new.
func (s *resolver) learn(chosen []candidate, l *loader) bool {
	count := len(s.lessons)
	moved := func(path string) (candidate, bool) {
		for i, c := range chosen {
			if sub := s.subjects[i]; within(c.m.Path, path) && sub.candidates[sub.at].m != c.m {
				return c, true
			}
		}
		return candidate{}, false
	}
	for _, k := range l.list {
		switch {
		case k.wrong != "" && k.inAll:
			if c, ok := moved(k.path); ok {
				s.lessons = append(s.lessons, lesson{of: c.m, text: fmt.Sprintf("%s %s has no package %s, which %s imports", c.m.Path, c.m.Version, k.path, s.importer(k))})
			}
		case len(k.several) > 1 && k.inAll:
			if c, ok := moved(k.path); ok {
				s.lessons = append(s.lessons, lesson{of: c.m, text: fmt.Sprintf("%s is in both %s %s and %s %s", k.path, k.several[0].Path, k.several[0].Version, k.several[1].Path, k.several[1].Version)})
			}
		}
	}
	if len(s.lessons) > count {
		return true
	}
	for i, c := range chosen {
		got := l.rs.selected[c.m.Path]
		if c.m.Path == "go" && compareGo(got, c.m.Version) <= 0 || got == c.m.Version || got == "" {
			continue
		}
		if at, sub := c.m, s.subjects[i]; sub.req.Name != at.Path && compareVersions(at.Path, got, at.Version) > 0 {
			continue // another major that is there already, and higher
		}
		need := version{Path: c.m.Path, Version: got}
		chain := l.rs.chain(need)
		text := chained(chain)
		for k, by := range chosen {
			if by.m == chain[0] && k != i {
				s.lessons = append(s.lessons, lesson{of: by.m, need: need, text: text})
			}
		}
		if len(s.lessons) == count {
			s.lessons = append(s.lessons, lesson{of: c.m, text: text + ", so " + c.m.Path + " cannot be at " + c.m.Version})
		}
		if c.m.Path != "go" {
			s.extra = append(s.extra, need)
		}
	}
	return len(s.lessons) > count
}

// importer names who imports a package: the line, where it is the module's
// own.
func (s *resolver) importer(k *pkg) string {
	if k.by != nil && k.by.own {
		if all := s.own.imported(func(pkg string) bool { return pkg == k.path }); len(all) > 0 {
			return all[0].site.String()
		}
	}
	return k.stack()
}

// sound refuses a state in which a package cannot be had, or only in doubt.
func (s *resolver) sound(l *loader) error {
	for _, k := range l.list {
		wrong, next := "", ""
		switch {
		case !k.inAll:
			continue
		case k.wrong != "":
			wrong = fmt.Sprintf("%s is imported, but %s", k.path, k.wrong)
			next = "require the module that has it, or drop the import"
			if within(s.p.path(), k.path) {
				wrong = fmt.Sprintf("%s is imported, but there are no Go files for it", k.path)
				next = "generate or write the package, or drop the import"
			}
		case len(k.several) > 1:
			wrong = fmt.Sprintf("%s is imported, and both %s %s and %s %s have it", k.path, k.several[0].Path, k.several[0].Version, k.several[1].Path, k.several[1].Version)
			next = "require a version of one of them that no longer has it"
		default:
			continue
		}
		f := &model.Fault{Doing: "following the imports of " + s.p.file, Wrong: wrong, Next: next, Found: true}
		if all := s.own.imported(func(pkg string) bool { return pkg == k.path }); k.by != nil && k.by.own && len(all) > 0 {
			f.File, f.Line = all[0].site.File, all[0].site.Line
		} else if k.by != nil {
			f.Wrong += ", imported by " + k.stack()
		}
		return f
	}
	return nil
}

// outcome puts moves and edits together.
func (s *resolver) outcome(chosen []candidate, l *loader, edits []model.FileEdit) (*ecosystem.Outcome, error) {
	o := &ecosystem.Outcome{}
	goVersion := l.rs.selected["go"]
	for i, c := range chosen {
		sub := s.subjects[i]
		from := sub.candidates[sub.at].m
		if from == c.m {
			continue
		}
		m := model.Move{Subject: model.Subject{Kind: Name, Name: c.m.Path}, Name: from.Path, From: from.Version, To: c.m.Version, Sites: []model.Site{sub.req.Site}}
		if c.m.Path == "go" {
			m.Subject = runtimeGo
		} else if m.To = l.rs.selected[c.m.Path]; c.m.Path != from.Path {
			m.Becomes = c.m.Path
		}
		o.Moves = append(o.Moves, m)
	}
	model.SortMoves(o.Moves)
	o.Carried = s.carried(l, o.Moves)
	text, err := s.p.rewritten(l.rs, goVersion, o.Moves)
	if err != nil {
		return nil, err
	}
	sum, err := s.sums(l)
	if err != nil {
		return nil, err
	}
	if !bytes.Equal(text, s.p.src) {
		o.Edits = append(o.Edits, model.FileEdit{File: s.p.file, Old: s.p.src, New: text})
	}
	if !bytes.Equal(sum, s.p.sum.src) && (len(sum) > 0 || s.p.sum.src != nil) {
		o.Edits = append(o.Edits, model.FileEdit{File: s.p.sumFile, Old: s.p.sum.src, New: sum})
	}
	if e := s.p.work.raised(goVersion); e != nil {
		o.Edits = append(o.Edits, *e)
	}
	o.Edits = append(o.Edits, edits...)
	o.Notices = sortedSet(s.notices)
	return o, nil
}

// carried are the changes of modules that nobody moved by name: those that
// go.mod requires indirectly, and without pruning all that are selected.
func (s *resolver) carried(l *loader, moves []model.Move) []model.Move {
	before, after := map[string]string{}, map[string]string{}
	for _, q := range s.p.mod.Require {
		before[q.Mod.Path] = q.Mod.Version
	}
	for path, v := range l.rs.roots {
		if path != "go" && path != "toolchain" {
			after[path] = v
		}
	}
	for _, m := range moves {
		delete(before, m.Name)
		delete(after, m.Subject.Name)
		if before[m.Subject.Name] != "" {
			delete(before, m.Subject.Name)
		}
	}
	var carried []model.Move
	for path, v := range before {
		if after[path] != v {
			carried = append(carried, model.Move{Subject: model.Subject{Kind: Name, Name: path}, Name: path, From: v, To: after[path]})
		}
	}
	for path, v := range after {
		if before[path] == "" {
			carried = append(carried, model.Move{Subject: model.Subject{Kind: Name, Name: path}, Name: path, To: v})
		}
	}
	model.SortMoves(carried)
	return carried
}

// sums writes the go.sum of a state. What it says already must hold for what
// was fetched; what is new is checked with the checksum database.
func (s *resolver) sums(l *loader) ([]byte, error) {
	keep := l.keptSums(l.rs)
	if lang := l.rs.selected["go"]; prunes(lang) && compareGo(lang, "1.18") < 0 {
		// Go 1.16 reads such a module without pruning, and wants its hashes, too.
		whole, err := s.requirements(l.rs.list, l.rs.direct, false)
		if err != nil {
			return nil, err
		}
		keep = append(keep, l.keptSums(whole)...)
	}
	keep = sortedVersions(keep)
	out := &sums{hashes: map[version][]string{}}
	hashes := make([]string, len(keep))
	fresh := make([]bool, len(keep))
	group, ctx := errgroup.WithContext(s.ctx)
	group.SetLimit(askAtOnce)
	for i, m := range keep {
		group.Go(func() (err error) {
			name, isMod := strings.CutSuffix(m.Version, "/go.mod")
			known := s.p.sum.hashes[m]
			if isMod {
				var info *modInfo
				if info, err = s.r.modInfo(ctx, version{Path: m.Path, Version: name}); err == nil {
					hashes[i] = info.hash
				}
			} else {
				var x *index
				if x, err = s.r.indexOf(ctx, m); err == nil {
					hashes[i] = x.Hash
				}
			}
			if err != nil {
				return err
			}
			same, says := s.p.sum.has(m, hashes[i])
			if says && !same {
				return s.p.mismatch(m, hashes[i])
			}
			fresh[i] = !same
			_ = known
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	if err := s.check(keep, hashes, fresh); err != nil {
		return nil, err
	}
	for i, m := range keep {
		out.hashes[m] = s.p.sum.hashes[m]
		if fresh[i] {
			out.hashes[m] = append(slices.Clone(out.hashes[m]), hashes[i])
		}
	}
	text := out.text(keep)
	if bytes.Contains(s.p.sum.src, []byte("\r\n")) {
		text = bytes.ReplaceAll(text, []byte("\n"), []byte("\r\n"))
	}
	return text, nil
}

func sortedVersions(list []version) []version {
	slices.SortFunc(list, func(a, b version) int {
		if c := strings.Compare(a.Path, b.Path); c != 0 {
			return c
		}
		return strings.Compare(a.Version, b.Version)
	})
	return slices.Compact(list)
}

// check looks new hashes up in the checksum database.
func (s *resolver) check(list []version, hashes []string, fresh []bool) error {
	db, err := s.r.sumDB(s.ctx)
	if err != nil || db == nil {
		return err
	}
	silent := false
	group, _ := errgroup.WithContext(s.ctx)
	group.SetLimit(askAtOnce)
	results := make([]error, len(list))
	for i, m := range list {
		if !fresh[i] || s.r.settings.unchecked(m.Path) || s.r.vouched(m) == hashes[i] {
			continue
		}
		group.Go(func() error {
			results[i] = db.check(m, hashes[i])
			if results[i] == nil {
				s.r.vouch(m, hashes[i])
			}
			return nil
		})
	}
	_ = group.Wait()
	for _, err := range results {
		if errors.Is(err, errNoDatabase) {
			silent = true
		} else if err != nil {
			return err
		}
	}
	if silent {
		s.notices = append(s.notices, "the checksum database "+db.name+" does not answer: new hashes in go.sum are those of what the proxy sent")
	}
	return s.ctx.Err()
}

func (r *registry) vouched(m version) string {
	r.checking.Lock()
	defer r.checking.Unlock()
	return r.checked[m]
}

func (r *registry) vouch(m version, hash string) {
	r.checking.Lock()
	defer r.checking.Unlock()
	r.checked[m] = hash
}
