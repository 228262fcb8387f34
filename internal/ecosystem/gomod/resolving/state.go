package resolving

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/mod/module"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/ecosystem/gomod/imports"
	"bellwether/internal/ecosystem/gomod/project"
	"bellwether/internal/ecosystem/gomod/selection"
	"bellwether/internal/ecosystem/gomod/tidying"
)

// Overlaid are edits with later ones made to their outcome.
func Overlaid(edits, more []model.FileEdit) []model.FileEdit {
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

// build makes the state that follows from the chosen versions. Where it turns
// out that one of them cannot be, that becomes a lesson, and there is no
// outcome.
func (s *resolver) build(chosen []candidate) (*contract.State, error) {
	before := s.Own
	defer func() { s.Own = before }()
	moved, edits, err := s.rewrite(chosen)
	if err != nil || moved == nil {
		return nil, err
	}
	s.Own, s.Tools = moved, s.Project.Tools()
	for i, c := range chosen {
		for k, tool := range s.Tools {
			if from := s.subjects[i].req.Name; imports.OfModule(from, tool) {
				s.Tools[k] = join(c.m.Path, imports.Below(from, tool))
			}
		}
	}
	roots := []module.Version{}
	goVersion := s.Project.GoVersion()
	for _, q := range s.Project.Mod.Require {
		roots = append(roots, q.Mod)
	}
	for i, c := range chosen {
		sub := s.subjects[i]
		if sub.req.Subject == project.RuntimeGo {
			goVersion = c.m.Version
			continue
		}
		at := slices.IndexFunc(roots, func(m module.Version) bool { return m.Path == c.m.Path })
		switch {
		case at < 0:
			roots = append(roots, c.m)
		case c.m.Path == sub.req.Name || selection.CompareVersions(c.m.Path, c.m.Version, roots[at].Version) > 0:
			roots[at].Version = c.m.Version
		}
	}
	roots = append(append(roots, s.raised...), module.Version{Path: "go", Version: goVersion})
	l, err := s.Tidied(roots)
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
func (s *resolver) rewrite(chosen []candidate) (*imports.Sources, []model.FileEdit, error) {
	own, edits := s.Own, []model.FileEdit(nil)
	for i, c := range chosen {
		from := s.subjects[i].req.Name
		if from == "go" || c.m.Path == from && len(s.ask.Renames) == 0 {
			continue
		}
		x, err := s.IndexFor(c.m)
		if err != nil {
			return nil, nil, s.blame(chosen, err)
		}
		renamed, kept := 0, []imports.Imported{}
		rename := func(pkg string) string {
			if !imports.OfModule(from, pkg) || s.nested(from, pkg) {
				return pkg
			}
			if to := join(c.m.Path, imports.Below(from, pkg)); x.Packages[imports.Below(from, pkg)] != nil {
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
		for _, i := range own.Imported(func(pkg string) bool { return imports.OfModule(from, pkg) && !s.nested(from, pkg) }) {
			if rename(i.Path) == i.Path {
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
						"%s %s has none of the packages that are imported, such as %s (%s)", c.m.Path, c.m.Version, kept[0].Path, kept[0].Site,
					),
				},
			)
			return nil, nil, nil
		}
		for _, i := range kept {
			s.notices = append(
				s.notices,
				fmt.Sprintf("%s stays required beside %s: %s imports %s, which %s does not have", from, c.m.Path, i.Site, i.Path, c.m.Path),
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
	own *imports.Sources, edits []model.FileEdit, rename func(pkg string) string, to module.Version, from string,
) (*imports.Sources, []model.FileEdit, error) {
	own, more, err := own.Renamed(rename)
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
	return own, Overlaid(edits, more), nil
}

// moved is where a package is in a module that does not have it under its path any more, as a
// rule says; "" for nowhere.
func (s *resolver) moved(x *imports.Index, module string, paths ...string) string {
	for _, r := range s.ask.Renames {
		for _, path := range paths {
			to, ok := r.Of(path)
			if ok && imports.OfModule(module, to) && x.Packages[imports.Below(module, to)] != nil {
				return to
			}
		}
	}
	return ""
}

// nested tells whether a package belongs to another required module whose path
// lies below that of the given one.
func (s *resolver) nested(module, pkg string) bool {
	for _, prefix := range imports.Prefixes(pkg) {
		if prefix == module {
			return false
		}
		if s.Project.Required(prefix) != nil {
			return true
		}
	}
	return false
}

func join(module, below string) string {
	return strings.TrimSuffix(module+"/"+below, "/")
}

// sound refuses a state in which a package cannot be had, or only in doubt.
func (s *resolver) sound(l *tidying.Loader) error {
	for _, k := range l.List {
		wrong, next := "", ""
		switch {
		case !k.InAll:
			continue
		case k.Wrong != "":
			wrong = fmt.Sprintf("%s is imported, but %s", k.Path, k.Wrong)
			next = "require the module that has it, or drop the import"
			if imports.OfModule(s.Project.Path(), k.Path) {
				wrong = fmt.Sprintf("%s is imported, but there are no Go files for it", k.Path)
				next = "generate or write the package, or drop the import"
			}
		case len(k.Several) > 1:
			wrong = fmt.Sprintf(
				"%s is imported, and both %s %s and %s %s have it", k.Path, k.Several[0].Path, k.Several[0].Version, k.Several[1].Path,
				k.Several[1].Version,
			)
			next = "require a version of one of them that no longer has it"
		default:
			continue
		}
		if all := s.Own.Imported(func(pkg string) bool { return pkg == k.Path }); k.By != nil && k.By.Own && len(all) > 0 {
			wrong = fmt.Sprintf("%s: %s", all[0].Site, wrong)
		} else if k.By != nil {
			wrong += ", imported by " + k.Stack()
		}
		return solve.Refute(k.Path, wrong+"; "+next)
	}
	return nil
}

// outcome puts moves and edits together.
func (s *resolver) outcome(chosen []candidate, l *tidying.Loader, edits []model.FileEdit) (*contract.State, error) {
	o := &contract.State{}
	goVersion := l.Needs.Selected["go"]
	for i, c := range chosen {
		sub := s.subjects[i]
		from := sub.candidates[sub.at].m
		if from == c.m || sub.req.Asked && l.Needs.Selected[c.m.Path] == "" {
			continue // what only other modules needed, and goes, is carried
		}
		m := model.Move{
			Subject: model.Subject{Kind: project.Name, Name: c.m.Path}, Name: from.Path, From: from.Version, To: c.m.Version,
			Sites: []model.Site{sub.req.Site},
		}
		if c.m.Path == "go" {
			m.Subject = project.RuntimeGo
		} else if c.m.Path != from.Path {
			m.Becomes = c.m.Path
		}
		switch at := l.Needs.Selected[c.m.Path]; at {
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
	text, err := s.Project.Rewritten(l.Needs, goVersion, s.Tools, o.Moves)
	if err != nil {
		return nil, err
	}
	sum, err := s.sums(l)
	if err != nil {
		return nil, err
	}
	if !bytes.Equal(text, s.Project.Src) {
		o.Edits = append(o.Edits, model.FileEdit{File: s.Project.File, Old: s.Project.Src, New: text})
	}
	if !bytes.Equal(sum, s.Project.Sum.Src) && (len(sum) > 0 || s.Project.Sum.Src != nil) {
		o.Edits = append(o.Edits, model.FileEdit{File: s.Project.SumFile, Old: s.Project.Sum.Src, New: sum})
	}
	if e := s.Project.Work.Raised(goVersion); e != nil {
		o.Edits = append(o.Edits, *e)
	}
	o.Edits = append(o.Edits, edits...)
	o.Notices = imports.SortedSet(slices.Concat(o.Notices, s.notices, s.told))
	o.Notable = imports.SortedSet(slices.Concat(o.Notable, s.notable))
	return o, nil
}

// carried are the changes of modules that nobody moved by name: those that
// go.mod requires indirectly, and without pruning all that are selected.
func (s *resolver) carried(l *tidying.Loader, moves []model.Move) []model.Move {
	before, after := map[string]string{}, map[string]string{}
	for _, q := range s.Project.Mod.Require {
		before[q.Mod.Path] = q.Mod.Version
	}
	for path, v := range l.Needs.Roots {
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
			carried = append(carried, model.Move{Subject: model.Subject{Kind: project.Name, Name: path}, Name: path, From: v, To: after[path]})
		}
	}
	for path, v := range after {
		if before[path] == "" {
			carried = append(carried, model.Move{Subject: model.Subject{Kind: project.Name, Name: path}, Name: path, To: v})
		}
	}
	model.SortMoves(carried)
	return carried
}
