package npm

import (
	"fmt"
	"slices"

	"bellwether/internal/core/want"
)

// wanted is a dependency of a top in the words that requirements of all ecosystems have.
func (s *resolver) wanted(d dependency, p *pkg, locked string) *want.Want {
	w := s.choice(d.name, p, locked)
	w.Key = s.keyOf(d)
	inRange := p.satisfying(d.spec)
	for i := range w.Candidates {
		w.Candidates[i].InRange = inRange[i]
	}
	if slices.Contains(s.ask.Apart, d.name) {
		w.Stays = func(i int) bool { return i == w.At }
	}
	w.Promised, w.Strict = d.kind.peer(), s.reg.settings.on("engine-strict")
	w.Asks = fmt.Sprintf("%s asks for %s %s", d.site, d.name, shown(d.spec.text))
	w.Down = fmt.Sprintf("%s is at %s (%s), and nobody asked for an older one", d.name, locked, d.site)
	w.Hidden = func(allowed []bool) string { return s.hidden(w, allowed) }
	return w
}

// choice is a package with its releases, and the order in which they are tried. Without a
// lock it is what npm would take.
func (s *resolver) choice(name string, p *pkg, locked string) *want.Want {
	w := &want.Want{Name: name, At: -1, Newest: true, Candidates: make([]want.Candidate, len(p.releases))}
	for i, rel := range p.releases {
		w.Candidates[i] = want.Candidate{
			Text: rel.text, Version: rel.parsed, Shunned: rel.Deprecated != "" || rel.parsed.Preview(), Unfit: !s.reg.fits(rel),
		}
		if rel.text == locked {
			w.At = i
		}
	}
	if v, err := parseVersion(locked); err == nil {
		w.Locked = v
	}
	w.Unlocked = func(a, b int) int { return s.reg.better(p.releases[a], p.releases[b]) }
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
		text += fmt.Sprintf("; newer ones, up to %s, do not run on node %s", unfit, s.reg.node)
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
		for _, name := range w.pkg.peers() {
			named[name]++
		}
	}
	for _, w := range s.wishes {
		w.want.Weight = named[w.name]
		s.problem.Rank(w.id, w.want.Rank(&s.ask.Goal))
	}
}
