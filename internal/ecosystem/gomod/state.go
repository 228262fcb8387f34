package gomod

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
)

// build makes the state that follows from the chosen versions. Where it turns
// out that one of them cannot be, that becomes a lesson, and there is no
// outcome.
func (s *resolver) build(chosen []candidate) (*contract.State, error) {
	before := s.own
	defer func() { s.own = before }()
	moved, edits, err := s.rewrite(chosen)
	if err != nil || moved == nil {
		return nil, err
	}
	s.own, s.tools = moved, s.p.tools()
	for i, c := range chosen {
		for k, tool := range s.tools {
			if from := s.subjects[i].req.Name; ofModule(from, tool) {
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
	if again, err := s.agree(chosen, l); again || err != nil {
		return nil, err
	}
	s.tellHeldBack(chosen)
	if err := s.sound(l); err != nil {
		return nil, err
	}
	return s.outcome(chosen, l, edits)
}

// rewrite gives the module's own files with imports that follow requirements
// to other paths. Packages that the new path does not have stay with the old.
// If it has none of them, that is a lesson, and there are no files.
func (s *resolver) rewrite(chosen []candidate) (*sources, []model.FileEdit, error) {
	own, edits := s.own, []model.FileEdit(nil)
	for i, c := range chosen {
		from := s.subjects[i].req.Name
		if from == "go" || c.m.Path == from && len(s.ask.Renames) == 0 {
			continue
		}
		x, err := s.indexFor(c.m)
		if err != nil {
			return nil, nil, s.blame(chosen, err)
		}
		renamed, kept := 0, []imported{}
		rename := func(pkg string) string {
			if !ofModule(from, pkg) || s.nested(from, pkg) {
				return pkg
			}
			if to := join(c.m.Path, below(from, pkg)); x.Packages[below(from, pkg)] != nil {
				return to
			} else if moved := s.moved(x, c.m.Path, pkg, to); moved != "" {
				return moved
			}
			return pkg
		}
		if c.m.Path == from { // only what it has no more gets another path
			var err error
			if own, edits, err = s.repath(own, edits, rename, c.m, from); err != nil {
				return nil, nil, err
			}
			continue
		}
		for _, i := range own.imported(func(pkg string) bool { return ofModule(from, pkg) && !s.nested(from, pkg) }) {
			if rename(i.path) == i.path {
				kept = append(kept, i)
			} else {
				renamed++
			}
		}
		if renamed == 0 && len(kept) > 0 {
			s.learned(
				lesson{
					of: c.m,
					text: fmt.Sprintf(
						"%s %s has none of the packages that are imported, such as %s (%s)", c.m.Path, c.m.Version, kept[0].path, kept[0].site,
					),
				},
			)
			return nil, nil, nil
		}
		for _, i := range kept {
			s.notices = append(
				s.notices,
				fmt.Sprintf("%s stays required beside %s: %s imports %s, which %s does not have", from, c.m.Path, i.site, i.path, c.m.Path),
			)
		}
		if own, edits, err = s.repath(own, edits, rename, c.m, from); err != nil {
			return nil, nil, err
		}
	}
	return own, edits, nil
}

// repath renames the imports of own files.
func (s *resolver) repath(
	own *sources, edits []model.FileEdit, rename func(pkg string) string, to version, from string,
) (*sources, []model.FileEdit, error) {
	own, more, err := own.renamed(rename)
	if err != nil {
		return nil, nil, err
	}
	for _, e := range more {
		text := fmt.Sprintf("%s imports %s in the place of %s", e.File, to.Path, from)
		if to.Path == from {
			text = fmt.Sprintf("%s imports packages of %s under the paths that they have now", e.File, from)
		}
		s.notices = append(s.notices, text)
	}
	return own, overlaid(edits, more), nil
}

// moved is where a package is in a module that does not have it under its path any more, as a
// rule says; "" for nowhere.
func (s *resolver) moved(x *index, module string, paths ...string) string {
	for _, r := range s.ask.Renames {
		for _, path := range paths {
			to, ok := r.Of(path)
			if ok && ofModule(module, to) && x.Packages[below(module, to)] != nil {
				return to
			}
		}
	}
	return ""
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
			if ofModule(s.p.path(), k.path) {
				wrong = fmt.Sprintf("%s is imported, but there are no Go files for it", k.path)
				next = "generate or write the package, or drop the import"
			}
		case len(k.several) > 1:
			wrong = fmt.Sprintf(
				"%s is imported, and both %s %s and %s %s have it", k.path, k.several[0].Path, k.several[0].Version, k.several[1].Path,
				k.several[1].Version,
			)
			next = "require a version of one of them that no longer has it"
		default:
			continue
		}
		if all := s.own.imported(func(pkg string) bool { return pkg == k.path }); k.by != nil && k.by.own && len(all) > 0 {
			wrong = fmt.Sprintf("%s: %s", all[0].site, wrong)
		} else if k.by != nil {
			wrong += ", imported by " + k.stack()
		}
		return solve.Refute(k.path, wrong+"; "+next)
	}
	return nil
}

// outcome puts moves and edits together.
func (s *resolver) outcome(chosen []candidate, l *loader, edits []model.FileEdit) (*contract.State, error) {
	o := &contract.State{}
	goVersion := l.rs.selected["go"]
	for i, c := range chosen {
		sub := s.subjects[i]
		from := sub.candidates[sub.at].m
		if from == c.m || sub.req.Asked && l.rs.selected[c.m.Path] == "" {
			continue // what only other modules needed, and goes, is carried
		}
		m := model.Move{
			Subject: model.Subject{Kind: Name, Name: c.m.Path}, Name: from.Path, From: from.Version, To: c.m.Version,
			Sites: []model.Site{sub.req.Site},
		}
		if c.m.Path == "go" {
			m.Subject = runtimeGo
		} else if c.m.Path != from.Path {
			m.Becomes = c.m.Path
		}
		switch at := l.rs.selected[c.m.Path]; at {
		case "":
			o.Notices = append(
				o.Notices, fmt.Sprintf("%s has no package any more that is imported at %s, so that its line goes", c.m.Path, c.m.Version),
			)
		default:
			m.To = at
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
	o.Notices = sortedSet(slices.Concat(o.Notices, s.notices, s.told))
	o.Notable = sortedSet(slices.Concat(o.Notable, s.notable))
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
