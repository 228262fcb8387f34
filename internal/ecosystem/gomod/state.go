package gomod

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"sort"
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
	s.own, s.tools = moved, s.p.tools()
	for i, c := range chosen {
		for k, tool := range s.tools {
			if from := s.subjects[i].req.Name; within(from, tool) {
				s.tools[k] = join(c.m.Path, below(from, tool))
			}
		}
	}
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
	roots = append(append(roots, s.raised...), version{Path: "go", Version: goVersion})
	l, err := s.tidied(roots)
	if err != nil {
		return nil, s.blame(chosen, err)
	}
	if again, err := s.learn(chosen, l); again || err != nil {
		return nil, err
	}
	s.tellHeldBack(chosen)
	if err := s.sound(l); err != nil {
		return nil, err
	}
	return s.outcome(chosen, l, edits)
}

// blame makes an error of a candidate that cannot be had a lesson about it.
func (s *resolver) blame(chosen []candidate, err error) error {
	var wrongName *misnamed
	if !isRefused(err) && !errors.As(err, &wrongName) {
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
		for _, e := range more {
			s.notices = append(s.notices, fmt.Sprintf("%s imports %s in the place of %s", e.File, c.m.Path, from))
		}
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
func (s *resolver) learn(chosen []candidate, l *loader) (bool, error) {
	count, raised := len(s.lessons), len(s.raised)
	for _, k := range l.list {
		if !k.inAll || k.wrong == "" && len(k.several) < 2 {
			continue
		}
		c, ok := s.culprit(chosen, k)
		if !ok {
			continue
		}
		text := fmt.Sprintf("%s %s has no package %s, which %s imports", c.m.Path, c.m.Version, k.path, s.importer(k))
		if len(k.several) > 1 {
			part, whole := k.several[0], k.several[len(k.several)-1]
			found, err := s.partTo(c, k.path, part, whole)
			if err != nil {
				return false, err
			}
			if found {
				continue
			}
			text = fmt.Sprintf("with %s %s, the package %s is in both %s %s and %s %s", c.m.Path, c.m.Version, k.path, part.Path, part.Version, whole.Path, whole.Version)
		} else if !within(c.m.Path, k.path) {
			text = fmt.Sprintf("%s %s comes with %s, which imports %s, which no module has", c.m.Path, c.m.Version, k.stack(), k.path)
		}
		s.lessons = append(s.lessons, lesson{of: c.m, text: text})
	}
	if len(s.lessons) > count || len(s.raised) > raised {
		return true, nil
	}
	for i, c := range chosen {
		s.compare(chosen, i, c, l)
	}
	return len(s.lessons) > count, nil
}

// culprit is the moved requirement on account of which a package cannot be
// had: the one that should have it, else one that brought its importer or one
// of the modules that have it.
func (s *resolver) culprit(chosen []candidate, k *pkg) (candidate, bool) {
	var moved []candidate
	for i, c := range chosen {
		if sub := s.subjects[i]; sub.candidates[sub.at].m != c.m && c.m.Path != "go" {
			moved = append(moved, c)
		}
	}
	for _, c := range moved {
		if within(c.m.Path, k.path) && len(k.several) < 2 {
			return c, true
		}
	}
	suspects := slices.Clone(k.several)
	if k.by != nil {
		suspects = append(suspects, k.by.mod)
	}
	for _, c := range moved {
		g, err := s.deep(c.m)
		if err == nil && slices.ContainsFunc(suspects, func(m version) bool { return slices.Contains(g.order, m) }) {
			return c, true
		}
	}
	return candidate{}, false
}

// deep is all that hangs on a version, with nothing pruned away.
func (s *resolver) deep(m version) (*graph, error) {
	return s.deeps.get(m, func() (*graph, error) {
		return newGraph(s.ctx, s.p.path(), []version{m}, false, s.look)
	})
}

// partTo looks for the first release of a module that no longer has a package
// which another module has as well, since it was split off, and has it raised
// to that.
func (s *resolver) partTo(c candidate, pkg string, part, whole version) (bool, error) {
	h, err := s.r.history(s.ctx, whole.Path)
	if isMissing(err) || err == nil && h.newest() == "" {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	var failed error
	has := func(v string) bool {
		i, err := s.indexFor(version{Path: whole.Path, Version: v})
		if err != nil {
			failed = err
			return false
		}
		return i.Packages[below(whole.Path, pkg)] != nil
	}
	after := slices.DeleteFunc(slices.Clone(h.versions), func(v string) bool {
		return compareVersions(whole.Path, v, whole.Version) <= 0 || isPreview(v)
	})
	if len(after) == 0 || has(after[len(after)-1]) {
		return false, failed
	}
	at := sort.Search(len(after)-1, func(i int) bool { return !has(after[i]) })
	need := version{Path: whole.Path, Version: after[at]}
	text := fmt.Sprintf("%s %s comes with %s, whose package %s is in %s below %s, too", c.m.Path, c.m.Version, part.Path, pkg, whole.Path, need.Version)
	if slices.ContainsFunc(s.subjects, func(o *subject) bool { return o.req.Name == need.Path }) {
		s.lessons = append(s.lessons, lesson{of: c.m, need: need, text: text})
	} else {
		s.raised = append(s.raised, need)
		s.told = append(s.told, fmt.Sprintf("%s goes to %s: %s", need.Path, need.Version, text))
	}
	return true, failed
}

// compare notes where the selected version is not the chosen one.
func (s *resolver) compare(chosen []candidate, i int, c candidate, l *loader) {
	count := len(s.lessons)
	got := l.rs.selected[c.m.Path]
	if c.m.Path == "go" && compareGo(got, c.m.Version) <= 0 || got == c.m.Version {
		return
	}
	if compareVersions(c.m.Path, got, c.m.Version) < 0 {
		if sub := s.subjects[i]; slices.Contains(s.ask.First, sub.req.Name) && sub.candidates[sub.at].m != c.m {
			s.lessons = append(s.lessons, lesson{of: c.m, text: fmt.Sprintf("no package of %s is imported, so that a requirement of %s would not stay", c.m.Path, c.m.Version)})
		}
		return
	}
	if s.subjects[i].req.Name != c.m.Path && compareVersions(c.m.Path, got, c.m.Version) > 0 {
		return // another major that is there already, and higher
	}
	need := version{Path: c.m.Path, Version: got}
	for _, by := range chosen {
		// What raised it may be pruned away in the graph of a root alone.
		if by.m.Path == "go" {
			continue
		}
		if g, err := s.deep(by.m); err == nil && slices.Contains(g.order, need) {
			s.lessons = append(s.lessons, lesson{of: by.m, need: need, text: chained(g.chain(need))})
		}
	}
	if len(s.lessons) == count {
		by := l.rs.asker[need]
		if by.Path == "" {
			by = s.raisers[need]
		}
		s.lessons = append(s.lessons, lesson{of: c.m, text: fmt.Sprintf("%s, which is needed besides, so %s cannot be at %s", chained([]version{by, need}), c.m.Path, c.m.Version)})
	}
	s.extra = append(s.extra, need)
}

// tellHeldBack says of what was to be as new as can be why it is not newer, in
// one sentence each.
func (s *resolver) tellHeldBack(chosen []candidate) {
	var behind []string // what needs a newer Go
	var stated model.Requirement
	wanted := ""
	for i, sub := range s.subjects {
		if !s.ask.Bounds[sub.req.Name].Newest || sub.req.Subject == runtimeGo {
			continue
		}
		best := slices.IndexFunc(sub.preference(true), func(c int) bool { return sub.allowed[c] })
		if best < 0 {
			continue
		}
		c := sub.candidates[sub.preference(true)[best]]
		g, err := s.reach(c.m)
		if c.m == chosen[i].m || c.m.Path != chosen[i].m.Path || err != nil {
			continue
		}
		switch k, need := s.obstacle(chosen, i, g); {
		case k < 0:
		case need.Path == "go":
			stated = s.subjects[k].req
			behind = append(behind, fmt.Sprintf("%s %s (go %s)", c.m.Path, c.m.Version, need.Version))
			if compareGo(need.Version, wanted) > 0 {
				wanted = need.Version
			}
		default:
			s.notices = append(s.notices, fmt.Sprintf("%s goes to %s only: %s, and %s is at %s", sub.req.Name, chosen[i].m.Version, chained(g.chain(need)), need.Path, chosen[k].m.Version))
		}
	}
	if len(behind) > 0 {
		s.notices = append(s.notices, fmt.Sprintf("%s states go %s, and a newer one is needed for %s; --to go@%s would raise it", stated.Site, stated.Locked, strings.Join(behind, ", "), wanted))
	}
}

// obstacle is the subject that does not meet what the graph requires of it; Go
// before all others, since with it all of them could move.
func (s *resolver) obstacle(chosen []candidate, but int, g *graph) (int, version) {
	found, least := -1, version{}
	for k, other := range s.subjects {
		need := version{Path: other.req.Name, Version: g.selected[other.req.Name]}
		if k == but || need.Version == "" || compareVersions(need.Path, need.Version, chosen[k].m.Version) <= 0 {
			continue
		}
		if found < 0 || need.Path == "go" {
			found, least = k, need
		}
	}
	return found, least
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
		if from == c.m || l.rs.selected[c.m.Path] == "" {
			continue // what nothing needs any more goes away, and is carried
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
	text, err := s.p.rewritten(l.rs, goVersion, s.tools, o.Moves)
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
	o.Notices = sortedSet(append(s.notices, s.told...))
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
