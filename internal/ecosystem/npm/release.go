package npm

import (
	"slices"
	"time"

	"github.com/fxamacker/cbor/v2"

	"bellwether/internal/core/version"
)

// pkg is a package with its releases in ascending order, ready for
// resolving.
type pkg struct {
	name     string
	base     string // the registry's address
	source   string // the value that asks for it from a repository; empty for what a registry has
	tags     map[string]string
	releases []*release
	versions []string // of releases
	bodies   []cbor.RawMessage
	decoded  []*body
	terms    []terms
	ranges   map[string][]bool
	wanted   []string // what peers gives; nil until it is asked for
	asks     map[asking][]bool
}

// asking is what a release asks of one of its peers.
type asking struct {
	peer, wants string
	optional    bool
}

// asking tells for each release whether it asks that of a peer. It is found out once.
func (p *pkg) asking(a asking) []bool {
	if found, ok := p.asks[a]; ok {
		return found
	}
	byTerms := make([]bool, len(p.terms))
	for i := range p.terms {
		t := &p.terms[i]
		text, has := t.Peers[a.peer]
		byTerms[i] = has && text == a.wants && !slices.Contains(t.Own, a.peer) && slices.Contains(t.PeerOptional, a.peer) == a.optional
	}
	found := make([]bool, len(p.releases))
	for i, r := range p.releases {
		found[i] = byTerms[r.Terms]
	}
	if p.asks == nil {
		p.asks = map[asking][]bool{}
	}
	p.asks[a] = found
	return found
}

// release is one version of a package.
type release struct {
	pkg       *pkg
	index     int // among its package's releases
	parsed    version.Version
	text      string
	published time.Time
	compactRelease
}

func openPackage(payload []byte) (*pkg, error) {
	var c compactPackage
	if err := cbor.Unmarshal(payload, &c); err != nil {
		return nil, err
	}
	p := &pkg{
		name: c.Name, base: c.Base, tags: c.Tags, bodies: c.Bodies, decoded: make([]*body, len(c.Bodies)), terms: c.Terms,
		ranges: map[string][]bool{},
	}
	for _, r := range c.Releases {
		v, err := version.NPM{}.Parse(r.Version)
		if err != nil {
			continue
		}
		rel := &release{pkg: p, parsed: v, text: r.Version, compactRelease: r}
		if r.Published != 0 {
			rel.published = time.Unix(r.Published, 0).UTC()
		}
		p.releases = append(p.releases, rel)
	}
	p.sort()
	return p, nil
}

func (p *pkg) sort() {
	slices.SortStableFunc(p.releases, func(a, b *release) int { return a.parsed.Compare(b.parsed) })
	p.versions = make([]string, len(p.releases))
	for i, r := range p.releases {
		r.index = i
		p.versions[i] = r.text
	}
}

// copied gives the package with releases of its own.
func (p *pkg) copied() *pkg {
	c := &pkg{name: p.name, base: p.base, tags: p.tags, bodies: p.bodies, decoded: p.decoded, terms: p.terms, ranges: map[string][]bool{}}
	for _, r := range p.releases {
		own := *r
		own.pkg = c
		c.releases = append(c.releases, &own)
	}
	return c
}

// keep gives the package with only the releases that keep admits.
func (p *pkg) keep(keep func(*release) bool) *pkg {
	if !slices.ContainsFunc(p.releases, func(r *release) bool { return !keep(r) }) {
		return p
	}
	kept := p.copied()
	kept.releases = slices.DeleteFunc(kept.releases, func(r *release) bool { return !keep(r) })
	kept.sort()
	return kept
}

// terms give what the release asks of its surroundings.
func (r *release) terms() *terms { return &r.pkg.terms[r.Terms] }

// body gives what the release's package.json says.
func (r *release) body() *body {
	b := r.pkg.decoded[r.Body]
	if b == nil {
		b = &body{}
		// The bytes were checked as a whole when the document was opened.
		_ = cbor.Unmarshal(r.pkg.bodies[r.Body], b)
		r.pkg.decoded[r.Body] = b
	}
	whole := *b
	whole.terms = *r.terms()
	return &whole
}

// peers are the names of what any release wants to meet, each once.
func (p *pkg) peers() []string {
	if p.wanted == nil {
		seen := map[string]bool{}
		for i := range p.terms {
			for _, name := range p.terms[i].peers() {
				seen[name] = true
			}
		}
		p.wanted = append([]string{}, collated(seen)...)
	}
	return p.wanted
}

// find gives the release of a version, nil if there is none.
func (p *pkg) find(text string) *release {
	for _, r := range p.releases {
		if r.text == text {
			return r
		}
	}
	return nil
}

// satisfying tells for each release whether it is in the range or is what the
// tag points at. Each text is evaluated once.
func (p *pkg) satisfying(s spec) []bool {
	if found, ok := p.ranges[s.text]; ok {
		return found
	}
	found := make([]bool, len(p.releases))
	for i, r := range p.releases {
		switch {
		case s.rng != nil:
			found[i] = s.rng.Contains(r.parsed)
		case s.kind == specTag:
			found[i] = p.tags[s.text] == r.text
		case s.kind == specGit:
			found[i] = p.source == s.text
		}
	}
	p.ranges[s.text] = found
	return found
}
