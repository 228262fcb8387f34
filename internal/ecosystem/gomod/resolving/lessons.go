package resolving

import (
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"

	"golang.org/x/mod/module"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/gomod/imports"
	"bellwether/internal/ecosystem/gomod/project"
	"bellwether/internal/ecosystem/gomod/protocol"
	"bellwether/internal/ecosystem/gomod/registry"
	"bellwether/internal/ecosystem/gomod/selection"
	"bellwether/internal/ecosystem/gomod/tidying"
)

// blame makes an error of a candidate that cannot be had a lesson about it.
func (s *resolver) blame(chosen []candidate, err error) error {
	var wrongName *project.Misnamed
	if !protocol.IsRefused(err) && !errors.As(err, &wrongName) {
		return err
	}
	var of *protocol.Unavailable
	for i, c := range chosen {
		sub := s.subjects[i]
		if errors.As(err, &of) && of.Module == c.m && sub.candidates[sub.at].m != c.m {
			s.learned(lesson{of: c.m, text: err.Error()})
			return nil
		}
	}
	return err
}

// learn notes what the built state says against the chosen versions, and tells
// whether there was anything new.
func (s *resolver) learn(chosen []candidate, l *tidying.Loader) (bool, error) {
	count, raised := len(s.lessons), len(s.raised)
	for _, k := range l.List {
		if !k.InAll || k.Wrong == "" && len(k.Several) < 2 {
			continue
		}
		c, ok := s.culprit(chosen, k)
		if !ok {
			continue
		}
		if found, err := s.newerImporter(c, k); err != nil {
			return false, err
		} else if found {
			continue
		}
		text := fmt.Sprintf("%s %s has no package %s, imported by %s", c.m.Path, c.m.Version, k.Path, s.importer(k))
		if len(k.Several) > 1 {
			part, whole := k.Several[0], k.Several[len(k.Several)-1]
			found, err := s.partTo(c, k.Path, part, whole)
			if err != nil {
				return false, err
			}
			if found {
				continue
			}
			text = fmt.Sprintf(
				"with %s %s, the package %s is in both %s %s and %s %s", c.m.Path, c.m.Version, k.Path, part.Path, part.Version, whole.Path,
				whole.Version,
			)
		} else if !imports.OfModule(c.m.Path, k.Path) {
			text = fmt.Sprintf("%s %s comes with %s, which imports %s, which no module has", c.m.Path, c.m.Version, k.Stack(), k.Path)
		}
		s.learned(lesson{of: c.m, text: text})
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
func (s *resolver) culprit(chosen []candidate, k *tidying.Pkg) (candidate, bool) {
	var moved []candidate
	for i, c := range chosen {
		if sub := s.subjects[i]; sub.candidates[sub.at].m != c.m && c.m.Path != "go" {
			moved = append(moved, c)
		}
	}
	for _, c := range moved {
		if imports.OfModule(c.m.Path, k.Path) && len(k.Several) < 2 {
			return c, true
		}
	}
	suspects := slices.Clone(k.Several)
	if k.By != nil {
		suspects = append(suspects, k.By.Module)
	}
	for _, c := range moved {
		g, err := s.deep(c.m)
		if err == nil && slices.ContainsFunc(suspects, func(m module.Version) bool { return slices.Contains(g.Order, m) }) {
			return c, true
		}
	}
	return candidate{}, false
}

// deep is all that hangs on a version, with nothing pruned away.
func (s *resolver) deep(m module.Version) (*selection.Graph, error) {
	return s.Project.Deeps.Get(m, func() (*selection.Graph, error) {
		return selection.Load(s.Ctx, s.Project.Path(), []module.Version{m}, false, s.Look)
	})
}

// newerImporter looks for the first release of a required module that no longer imports a package which a moved module has no more,
// and has it raised to that: what imports the package is as free to move as what had it.
func (s *resolver) newerImporter(c candidate, k *tidying.Pkg) (bool, error) {
	by := k.By
	if by == nil || !by.External() || len(k.Several) > 1 || !imports.OfModule(c.m.Path, k.Path) || by.Module.Path == c.m.Path ||
		!slices.ContainsFunc(s.subjects, func(o *subject) bool { return o.req.Name == by.Module.Path }) {
		return false, nil
	}
	h, err := s.Registry.History(s.Ctx, by.Module.Path)
	if protocol.IsMissing(err) || err == nil && h.Newest() == "" {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	after := slices.DeleteFunc(slices.Clone(h.Versions), func(v string) bool {
		return selection.CompareVersions(by.Module.Path, v, by.Module.Version) <= 0 || registry.IsPreview(v)
	})
	var failed error
	imported := func(v string) bool {
		i, err := s.IndexFor(module.Version{Path: by.Module.Path, Version: v})
		if err != nil {
			failed = err
			return false
		}
		p := i.Packages[imports.Below(by.Module.Path, by.Path)]
		return p != nil && slices.Contains(p.Code, k.Path)
	}
	if len(after) == 0 || imported(after[len(after)-1]) {
		return false, failed
	}
	at := sort.Search(len(after)-1, func(i int) bool { return !imported(after[i]) })
	if failed != nil {
		return false, failed
	}
	need := module.Version{Path: by.Module.Path, Version: after[at]}
	s.learned(lesson{of: c.m, need: need, text: fmt.Sprintf(
		"%s %s has no package %s, which %s imports below %s", c.m.Path, c.m.Version, k.Path, by.Module.Path, need.Version,
	)})
	return true, nil
}

// partTo looks for the first release of a module that no longer has a package
// which another module has as well, since it was split off, and has it raised
// to that.
func (s *resolver) partTo(c candidate, pkg string, part, whole module.Version) (bool, error) {
	h, err := s.Registry.History(s.Ctx, whole.Path)
	if protocol.IsMissing(err) || err == nil && h.Newest() == "" {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	var failed error
	has := func(v string) bool {
		i, err := s.IndexFor(module.Version{Path: whole.Path, Version: v})
		if err != nil {
			failed = err
			return false
		}
		return i.Packages[imports.Below(whole.Path, pkg)] != nil
	}
	after := slices.DeleteFunc(slices.Clone(h.Versions), func(v string) bool {
		return selection.CompareVersions(whole.Path, v, whole.Version) <= 0 || registry.IsPreview(v)
	})
	if len(after) == 0 || has(after[len(after)-1]) {
		return false, failed
	}
	at := sort.Search(len(after)-1, func(i int) bool { return !has(after[i]) })
	need := module.Version{Path: whole.Path, Version: after[at]}
	text := fmt.Sprintf(
		"%s %s comes with %s, whose package %s is in %s below %s, too", c.m.Path, c.m.Version, part.Path, pkg, whole.Path, need.Version,
	)
	if slices.ContainsFunc(s.subjects, func(o *subject) bool { return o.req.Name == need.Path }) {
		s.learned(lesson{of: c.m, need: need, text: text})
	} else {
		s.raised = append(s.raised, need)
		s.told = append(s.told, fmt.Sprintf("%s goes to %s: %s", need.Path, need.Version, text))
	}
	return true, failed
}

// compare notes where the selected version is not the chosen one.
func (s *resolver) compare(chosen []candidate, i int, c candidate, l *tidying.Loader) {
	count := len(s.lessons)
	got := l.Needs.Selected[c.m.Path]
	if c.m.Path == "go" && selection.CompareGo(got, c.m.Version) <= 0 || got == c.m.Version {
		return
	}
	if selection.CompareVersions(c.m.Path, got, c.m.Version) < 0 {
		if sub := s.subjects[i]; sub.req.Asked && slices.Contains(s.ask.First, sub.req.Name) && sub.candidates[sub.at].m != c.m {
			s.learned(
				lesson{of: c.m, text: fmt.Sprintf("no package of %s is imported, so that a requirement of %s would not stay", c.m.Path, c.m.Version)},
			)
		}
		return
	}
	if s.subjects[i].req.Name != c.m.Path && selection.CompareVersions(c.m.Path, got, c.m.Version) > 0 {
		return // another major that is there already, and higher
	}
	need := module.Version{Path: c.m.Path, Version: got}
	for _, by := range chosen {
		// What raised it may be pruned away in the graph of a root alone.
		if by.m.Path == "go" {
			continue
		}
		if g, err := s.deep(by.m); err == nil && slices.Contains(g.Order, need) {
			s.learned(lesson{of: by.m, need: need, text: chained(g.Chain(need))})
		}
	}
	if len(s.lessons) == count {
		by := l.Needs.Asker[need]
		if by.Path == "" {
			by = s.Raisers[need]
		}
		s.learned(
			lesson{
				of:   c.m,
				text: fmt.Sprintf("%s, which is needed besides, so %s cannot be at %s", chained([]module.Version{by, need}), c.m.Path, c.m.Version),
			},
		)
	}
	s.extra = append(s.extra, need)
}

// olderGo is the Go before pruning, with which go mod tidy wants a module that states go
// 1.17 to agree ("go help mod tidy", -compat).
const olderGo = "1.16"

// readsBoth tells whether a module's go line says 1.17, so that Go 1.16 has to be able to
// build it, too.
func readsBoth(goVersion string) bool {
	return selection.Prunes(goVersion) && selection.CompareGo(goVersion, "1.18") < 0
}

// agree raises what the Go before pruning would select higher, and tells whether there was
// anything.
func (s *resolver) agree(chosen []candidate, l *tidying.Loader) (bool, error) {
	if !readsBoth(l.Needs.Selected["go"]) {
		return false, nil
	}
	whole, err := s.Requirements(l.Needs.List, l.Needs.Direct, false)
	if err != nil {
		return false, err
	}
	lessons, raised := len(s.lessons), len(s.raised)
	for _, k := range l.List {
		need := module.Version{Path: k.Module.Path, Version: whole.Selected[k.Module.Path]}
		if !k.External() || selection.CompareVersions(need.Path, need.Version, k.Module.Version) <= 0 || slices.Contains(s.raised, need) {
			continue
		}
		text := fmt.Sprintf("go %s would select %s %s", olderGo, need.Path, need.Version)
		if i := slices.IndexFunc(s.subjects, func(o *subject) bool { return o.req.Name == need.Path }); i < 0 {
			s.raised = append(s.raised, need)
			s.told = append(
				s.told, fmt.Sprintf("%s goes to %s: %s, and with go %s both have to agree", need.Path, need.Version, text, l.Needs.Selected["go"]),
			)
			continue
		}
		for _, by := range chosen {
			if g, err := s.deep(by.m); by.m.Path != "go" && err == nil && slices.Contains(g.Order, need) {
				s.extra = append(s.extra, need)
				s.learned(lesson{of: by.m, need: need, text: text + ", since " + chained(g.Chain(need))})
			}
		}
	}
	return len(s.lessons) > lessons || len(s.raised) > raised, nil
}

// tellHeldBack says of what was to be as new as can be why it is not newer, in
// one sentence each.
func (s *resolver) tellHeldBack(chosen []candidate) {
	var behind []string // what needs a newer Go
	var stated model.Requirement
	wanted := ""
	for i, sub := range s.subjects {
		if !s.ask.Bounds[sub.req.Name].Newest || sub.req.Subject == project.RuntimeGo {
			continue
		}
		order := sub.want.Preference(&s.ask.Goal)
		best := slices.IndexFunc(order, func(c int) bool { return sub.allowed[c] })
		if best < 0 {
			continue
		}
		c := sub.candidates[order[best]]
		g, err := s.reach(c.m)
		if c.m == chosen[i].m || c.m.Path != chosen[i].m.Path || err != nil {
			continue
		}
		switch k, need := s.obstacle(chosen, i, g); {
		case k < 0:
		case need.Path == "go":
			stated = s.subjects[k].req
			behind = append(behind, fmt.Sprintf("%s %s (go %s)", c.m.Path, c.m.Version, need.Version))
			if selection.CompareGo(need.Version, wanted) > 0 {
				wanted = need.Version
			}
		default:
			s.notices = append(
				s.notices,
				fmt.Sprintf(
					"%s goes to %s only: %s, and %s is at %s", sub.req.Name, chosen[i].m.Version, chained(g.Chain(need)), need.Path,
					chosen[k].m.Version,
				),
			)
		}
	}
	if len(behind) > 0 {
		s.notices = append(
			s.notices,
			fmt.Sprintf(
				"%s states go %s, and a newer one is needed for %s; --to go@%s would raise it", stated.Site, stated.Locked,
				strings.Join(behind, ", "), wanted,
			),
		)
	}
}

// obstacle is the subject that does not meet what the graph requires of it; Go
// before all others, since with it all of them could move.
func (s *resolver) obstacle(chosen []candidate, but int, g *selection.Graph) (int, module.Version) {
	found, least := -1, module.Version{}
	for k, other := range s.subjects {
		need := module.Version{Path: other.req.Name, Version: g.Selected[other.req.Name]}
		if k == but || need.Version == "" || selection.CompareVersions(need.Path, need.Version, chosen[k].m.Version) <= 0 {
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
func (s *resolver) importer(k *tidying.Pkg) string {
	if k.By != nil && k.By.Own {
		if all := s.Own.Imported(func(pkg string) bool { return pkg == k.Path }); len(all) > 0 {
			return all[0].Site.String()
		}
	}
	return k.Stack()
}
