package resolving

import (
	"fmt"
	"slices"

	"bellwether/internal/core/want"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/registry"
)

// wanted is a dependency of a top in the words that requirements of all ecosystems have.
func (s *resolver) wanted(d packagejson.Dependency, p *registry.Package, locked string) *want.Want {
	w := s.choice(d.Name, p, locked)
	w.Key = s.keyOf(d)
	inRange := p.Satisfying(d.Spec)
	for i := range w.Candidates {
		w.Candidates[i].InRange = inRange[i]
	}
	if slices.Contains(s.ask.Apart, d.Name) {
		w.Stays = func(i int) bool { return i == w.At }
	}
	w.Promised, w.Strict = d.Kind.IsPeer(), s.Registry.Settings.On("engine-strict")
	w.Asks = fmt.Sprintf("%s asks for %s %s", d.Site, d.Name, packagejson.Shown(d.Spec.Text))
	w.Down = fmt.Sprintf("%s is at %s (%s), and nobody asked for an older one", d.Name, locked, d.Site)
	w.Hidden = func(allowed []bool) string { return s.hidden(w, allowed) }
	return w
}

// choice is a package with its releases, and the order in which they are tried. Without a
// lock it is what npm would take.
func (s *resolver) choice(name string, p *registry.Package, locked string) *want.Want {
	w := &want.Want{Name: name, At: -1, Newest: true, Candidates: make([]want.Candidate, len(p.Releases))}
	for i, rel := range p.Releases {
		w.Candidates[i] = want.Candidate{
			Text: rel.Text, Version: rel.Parsed, Shunned: rel.Deprecated != "" || rel.Parsed.Preview(), Unfit: !s.Registry.Fits(rel),
		}
		if rel.Text == locked {
			w.At = i
		}
	}
	if v, err := packagejson.ParseVersion(locked); err == nil {
		w.Locked = v
	}
	w.Unlocked = func(a, b int) int { return s.Registry.Better(p.Releases[a], p.Releases[b]) }
	return w
}

// hidden tells of newer releases that are not allowed, and why.
func (s *resolver) hidden(w *want.Want, allowed []bool) (text string) {
	unfit, previews := "", ""
	for i, c := range w.Candidates {
		switch {
		case allowed[i] || w.Locked == nil || c.Version.Compare(w.Locked) <= 0:
		case c.Version.Preview():
			previews = c.Text
		default:
			unfit = c.Text
		}
	}
	if unfit != "" {
		text += fmt.Sprintf("; newer ones, up to %s, do not run on node %s", unfit, s.Registry.Node)
	}
	if previews != "" {
		text += fmt.Sprintf("; --preview %s would add pre-releases up to %s", w.Name, previews)
	}
	return text
}

// rank lets the asked-for packages be decided first, then those that many
// others name as a peer: they set the frame for the rest.
func (s *resolver) rank() {
	named := map[string]int{}
	for _, w := range s.wishes {
		for _, name := range w.pkg.Peers() {
			named[name]++
		}
	}
	for _, w := range s.wishes {
		w.want.Weight = named[w.name]
		s.problem.Rank(w.id, w.want.Rank(&s.ask.Goal))
	}
}
