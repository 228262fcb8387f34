package resolving

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/mediate"
	"bellwether/internal/core/model"
	"bellwether/internal/core/overlay"
	"bellwether/internal/ecosystem/maven/graph"
	"bellwether/internal/ecosystem/maven/linked"
	"bellwether/internal/ecosystem/maven/pom"
	"bellwether/internal/ecosystem/maven/project"
	"bellwether/internal/ecosystem/maven/registry"
	"bellwether/internal/ecosystem/mavenrepo"
)

// after tells what a state changes below what the project itself asks for: other versions, and those that
// end up lower than some library asks for. Old is the component before its manifest was rewritten for the state.
// Its trees are judged first, and then what
// its archives lack.
func after(
	ctx context.Context, r *registry.Registry, old, c *model.Component, s *contract.State,
	judge func(was, is []graph.Tree) error, short func(is []graph.Tree, all []linked.Short) error,
) error {
	p := c.Detail.(*project.Project)
	texts := map[string][]byte{}
	for _, e := range p.Poms {
		texts[e.File] = e.Src
	}
	before := overlay.New(r.Around.Files, texts)
	then, err := project.Read(overlay.With(before, s.Edits), p.Dir)
	if err != nil {
		return err
	}
	was, err := graph.Trees(ctx, r, old.Detail.(*project.Project))
	if err != nil {
		return err
	}
	is, err := graph.Trees(ctx, r, then.Detail.(*project.Project))
	if err != nil {
		return err
	}
	if err := judge(was, is); err != nil {
		return err
	}
	had, low := map[string][]string{}, below(was)
	for _, t := range was {
		for _, w := range t.Won {
			had[w.Coords.String()] = append(had[w.Coords.String()], w.Version)
		}
	}
	seen, there := map[string]bool{}, map[string]bool{}
	for _, t := range is {
		for _, w := range t.Won {
			name := w.Coords.String()
			there[name] = true
			if seen[name+w.Version] || slices.Contains(had[name], w.Version) {
				continue
			}
			seen[name+w.Version] = true
			m := model.Move{Subject: model.Subject{Kind: mavenrepo.Type, Name: name}, Name: name, To: w.Version}
			if len(had[name]) > 0 {
				m.From = had[name][0]
			}
			s.Carried = append(s.Carried, m)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(had)) {
		if !there[name] {
			gone := model.Move{Subject: model.Subject{Kind: mavenrepo.Type, Name: name}, Name: name, From: had[name][0]}
			s.Carried = append(s.Carried, gone)
		}
	}
	s.Carried = slices.DeleteFunc(s.Carried, func(m model.Move) bool {
		return slices.ContainsFunc(s.Moves, func(o model.Move) bool { return o.Name == m.Name })
	})
	model.SortMoves(s.Carried)
	for _, text := range below(is) {
		if !slices.Contains(low, text) {
			s.Notable = append(s.Notable, text)
		}
	}
	s.Notable = append(s.Notable, torn(ctx, r, was, is)...)
	s.Notable = append(s.Notable, elsewhere(ctx, r, then, s.Moves)...)
	loss, err := linked.Lost(ctx, r, was, is)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		s.Notices = append(s.Notices, fmt.Sprintf("what is in the archives was not looked at: %v", err))
		return nil
	}
	if err := short(is, loss.Short); err != nil {
		return err
	}
	s.Notable, s.Cures = append(s.Notable, loss.Told...), loss.Cures
	for _, name := range loss.Hollow {
		at := slices.IndexFunc(s.Moves, func(m model.Move) bool { return m.Name == name })
		if at < 0 {
			continue
		}
		release := name + " " + s.Moves[at].To + " "
		text := release + "has no classes any more, and does not say where they went"
		if said := slices.IndexFunc(s.Notable, func(text string) bool { return strings.HasPrefix(text, release) }); said >= 0 {
			text = s.Notable[said]
		} else {
			s.Notable = append(s.Notable, text)
		}
		s.Hollow = append(s.Hollow, contract.Hollow{Name: name, Text: text})
	}
	return nil
}

// torn says of packages of one group that they were at one version before, and no longer are, though there is a release of
// each: they were made for each other, and a state that mixes them was tried by nobody.
func torn(ctx context.Context, r *registry.Registry, was, is []graph.Tree) (all []string) {
	before := map[string][]string{} // all versions of a group's packages
	for _, t := range was {
		for _, w := range t.Won {
			before[w.Coords.Group] = append(before[w.Coords.Group], w.Version)
		}
	}
	for _, t := range is {
		newest := map[string]string{}
		for _, w := range t.Won {
			if now := newest[w.Coords.Group]; now == "" || mavenrepo.Compare(w.Version, now) > 0 {
				newest[w.Coords.Group] = w.Version
			}
		}
		for _, w := range t.Won {
			versions, most := before[w.Coords.Group], newest[w.Coords.Group]
			if len(versions) < 2 || len(slices.Compact(slices.Clone(versions))) > 1 || mavenrepo.Compare(w.Version, most) == 0 {
				continue
			}
			if list, err := r.Client.Versions(ctx, r.Repositories(), w.Coords); err != nil || !slices.Contains(list, most) {
				continue // it goes by other numbers
			}
			text := fmt.Sprintf("%s comes at %s, and others of its group at %s; there is %s of it, too, which the project can state itself",
				w.Coords, w.Version, most, most)
			if !slices.Contains(all, text) {
				all = append(all, text)
			}
		}
	}
	return all
}

// elsewhere says of packages that move which of them say that they are called otherwise by now, or that their classes are in
// another package, which they do not bring along.
func elsewhere(ctx context.Context, r *registry.Registry, after *model.Component, moves []model.Move) (all []string) {
	poms := r.Finder(after.Detail.(*project.Project))
	for _, m := range moves {
		c, ok := mavenrepo.Read(m.Subject.Name)
		if !ok || m.To == "" {
			continue
		}
		e, err := poms.Of(ctx, r.Repositories(), c, m.To, 0)
		if err != nil || e == nil {
			continue
		}
		if to, moved := e.Elsewhere(); moved {
			all = append(all, fmt.Sprintf("%s %s is called %s by now; newer releases are there", c, m.To, to))
		}
		text, err := r.Client.POM(ctx, r.Repositories(), c, m.To)
		if err != nil {
			continue
		}
		at, err := r.Client.Module(ctx, r.Repositories(), c, m.To, text)
		asked := slices.ContainsFunc(e.Dependencies, func(d *pom.Dependency) bool { return e.CoordsOf(d) == at.Elsewhere })
		if err == nil && at.Elsewhere != (mavenrepo.Coordinates{}) && !asked && !after.Declares(at.Elsewhere.String()) {
			all = append(all, fmt.Sprintf(
				"%s %s has its classes for Java in %s, and does not bring it along: a Maven project states that one in its place",
				c, m.To, at.Elsewhere,
			))
		}
	}
	return all
}

// below says of packages that get a lower version than some library asks for who asks for it, and why that does
// not count.
func below(trees []graph.Tree) (all []string) {
	for _, t := range trees {
		for _, w := range t.Won {
			var most *mediate.Lost
			for _, l := range w.Below(mavenrepo.Compare) {
				if most == nil || mavenrepo.Compare(l.Version, most.Version) > 0 {
					most = &l
				}
			}
			if most == nil {
				if text := managedDown(t, w); text != "" && !slices.Contains(all, text) {
					all = append(all, text)
				}
				continue
			}
			text := fmt.Sprintf("%s gets %s, below the %s that %s asks for: %s", w.Coords, w.Version, most.Version, most.By(), most.Because)
			if !slices.Contains(all, text) {
				all = append(all, text)
			}
		}
	}
	return all
}

// managedDown says of a package which the project manages that some library in the tree asks for a newer one; of several
// for the newest. Empty for none.
func managedDown(t graph.Tree, w graph.Won) (text string) {
	newest := w.Version
	for _, by := range t.Won {
		asked := t.Overruled[graph.Statement{By: by.Module, Name: w.Name}]
		if asked == "" || mavenrepo.Compare(asked, newest) <= 0 {
			continue
		}
		newest = asked
		text = fmt.Sprintf("%s gets %s, as the project manages it, below the %s that %s asks for", w.Coords, w.Version, asked, by.Module)
	}
	return text
}
