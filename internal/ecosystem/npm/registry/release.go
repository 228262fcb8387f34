package registry

import (
	"slices"
	"time"

	"github.com/fxamacker/cbor/v2"

	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/npm/packagejson"
)

// Package is a package with its releases in ascending order, ready for
// resolving.
type Package struct {
	Name     string
	base     string // the registry's address
	Source   string // the value that asks for it from a repository; empty for what a registry has
	Tags     map[string]string
	Releases []*Release
	Versions []string // of releases
	bodies   []cbor.RawMessage
	Decoded  []*packagejson.Body
	Terms    []packagejson.Terms
	ranges   map[string][]bool
	wanted   []string // what peers gives; nil until it is asked for
	asks     map[Asking][]bool
}

// Asking is what a release asks of one of its peers.
type Asking struct {
	Peer, Wants string
	Optional    bool
}

// Asking tells for each release whether it asks that of a peer. It is found out once.
func (p *Package) Asking(a Asking) []bool {
	if found, ok := p.asks[a]; ok {
		return found
	}
	byTerms := make([]bool, len(p.Terms))
	for i := range p.Terms {
		t := &p.Terms[i]
		text, has := t.Peers[a.Peer]
		byTerms[i] = has && text == a.Wants && !slices.Contains(t.Own, a.Peer) && slices.Contains(t.PeerOptional, a.Peer) == a.Optional
	}
	found := make([]bool, len(p.Releases))
	for i, r := range p.Releases {
		found[i] = byTerms[r.Terms]
	}
	if p.asks == nil {
		p.asks = map[Asking][]bool{}
	}
	p.asks[a] = found
	return found
}

// Release is one version of a package.
type Release struct {
	Pkg       *Package
	Index     int // among its package's releases
	Parsed    version.Version
	Text      string
	published time.Time
	compactRelease
}

// openPackage reads the compact form of a package.
func openPackage(payload []byte) (*Package, error) {
	var c compactPackage
	if err := cbor.Unmarshal(payload, &c); err != nil {
		return nil, err
	}
	p := &Package{
		Name: c.Name, base: c.Base, Tags: c.Tags, bodies: c.Bodies, Decoded: make([]*packagejson.Body, len(c.Bodies)), Terms: c.Terms,
		ranges: map[string][]bool{},
	}
	for _, r := range c.Releases {
		v, err := version.NPM{}.Parse(r.Version)
		if err != nil {
			continue
		}
		rel := &Release{Pkg: p, Parsed: v, Text: r.Version, compactRelease: r}
		if r.Published != 0 {
			rel.published = time.Unix(r.Published, 0).UTC()
		}
		p.Releases = append(p.Releases, rel)
	}
	p.Sort()
	return p, nil
}

// Sort puts the releases into ascending order and numbers them.
func (p *Package) Sort() {
	slices.SortStableFunc(p.Releases, func(a, b *Release) int { return a.Parsed.Compare(b.Parsed) })
	p.Versions = make([]string, len(p.Releases))
	for i, r := range p.Releases {
		r.Index = i
		p.Versions[i] = r.Text
	}
}

// Copied gives the package with releases of its own.
func (p *Package) Copied() *Package {
	c := &Package{Name: p.Name, base: p.base, Tags: p.Tags, bodies: p.bodies, Decoded: p.Decoded, Terms: p.Terms, ranges: map[string][]bool{}}
	for _, r := range p.Releases {
		own := *r
		own.Pkg = c
		c.Releases = append(c.Releases, &own)
	}
	return c
}

// keep gives the package with only the releases that keep admits.
func (p *Package) keep(keep func(*Release) bool) *Package {
	if !slices.ContainsFunc(p.Releases, func(r *Release) bool { return !keep(r) }) {
		return p
	}
	kept := p.Copied()
	kept.Releases = slices.DeleteFunc(kept.Releases, func(r *Release) bool { return !keep(r) })
	kept.Sort()
	return kept
}

// Asks give what the release asks of its surroundings.
func (r *Release) Asks() *packagejson.Terms { return &r.Pkg.Terms[r.Terms] }

// Manifest gives what the release's package.json says.
func (r *Release) Manifest() *packagejson.Body {
	b := r.Pkg.Decoded[r.Body]
	if b == nil {
		b = &packagejson.Body{}
		// The bytes were checked as a whole when the document was opened.
		_ = cbor.Unmarshal(r.Pkg.bodies[r.Body], b)
		r.Pkg.Decoded[r.Body] = b
	}
	whole := *b
	whole.Terms = *r.Asks()
	return &whole
}

// Peers are the names of what any release wants to meet, each once.
func (p *Package) Peers() []string {
	if p.wanted == nil {
		seen := map[string]bool{}
		for i := range p.Terms {
			for _, name := range p.Terms[i].PeerNames() {
				seen[name] = true
			}
		}
		p.wanted = append([]string{}, packagejson.Collated(seen)...)
	}
	return p.wanted
}

// Find gives the release of a version, nil if there is none.
func (p *Package) Find(text string) *Release {
	for _, r := range p.Releases {
		if r.Text == text {
			return r
		}
	}
	return nil
}

// Satisfying tells for each release whether it is in the range or is what the
// tag points at. Each text is evaluated once.
func (p *Package) Satisfying(s packagejson.Spec) []bool {
	if found, ok := p.ranges[s.Text]; ok {
		return found
	}
	found := make([]bool, len(p.Releases))
	for i, r := range p.Releases {
		switch {
		case s.Range != nil:
			found[i] = s.Range.Contains(r.Parsed)
		case s.Kind == packagejson.SpecTag:
			found[i] = p.Tags[s.Text] == r.Text
		case s.Kind == packagejson.SpecGit:
			found[i] = p.Source == s.Text
		}
	}
	p.ranges[s.Text] = found
	return found
}
