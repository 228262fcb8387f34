// Package registry asks npm registries: package documents, archives, and repositories of the source.
package registry

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/npm/npmrc"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/host/fetch"
)

// Registry answers from the npm registries that a project uses.
type Registry struct {
	Settings *npmrc.Settings
	Around   ecosystem.Surroundings
	Node     version.Version // the Node.js at hand; nil if there is none
	fitting  sync.Mutex
	engines  map[string]bool // for each engines.node seen, whether node is in it

	Mu       sync.Mutex
	Packages map[string]*Pending
	sources  map[string]*Package // what repositories hold, by the value that asks for it
}

// Pending is a package that is there or on its way.
type Pending struct {
	Once sync.Once
	Pkg  *Package
	err  error
}

// Connect gives the registries that the settings read for the project in dir name.
func Connect(ctx context.Context, s ecosystem.Surroundings, read *npmrc.Settings, dir string) (*Registry, error) {
	r := &Registry{
		Settings: read,
		Around:   s, Packages: map[string]*Pending{}, sources: map[string]*Package{}, engines: map[string]bool{},
	}
	s.Client.Trust(func() ([]byte, error) { return r.Settings.Authorities(s.Files, dir, s.Env) }, r.Settings.Get("strict-ssl") == "false")
	s.Client.Patience(r.Settings.Patience())
	if address := cmp.Or(r.Settings.Get("https-proxy"), r.Settings.Get("proxy")); address != "" && address != "null" && address != "false" {
		if err := s.Client.Proxy(address, strings.Split(r.Settings.Get("noproxy"), ",")); err != nil {
			return nil, &model.Fault{Doing: "reading npm's settings (https-proxy, proxy)", Wrong: err.Error()}
		}
	}
	if text, err := s.Ask(ctx, "node", "--version"); err == nil {
		if v, err := packagejson.ParseVersion(strings.TrimPrefix(text, "v")); err == nil {
			r.Node = v
		}
	}
	if r.Settings.Get("registry") == "" || len(r.Settings.Waiting) > 0 && r.Settings.Own["registry"] == "" {
		// Where nothing is set, npm's own configuration has the last word.
		text, err := s.Ask(ctx, "npm", "config", "get", "registry")
		if r.Settings.Get("registry") == "" && (err != nil || !strings.HasPrefix(text, "http")) {
			return nil, &model.Fault{
				Doing: "looking for the npm registry", Wrong: "no .npmrc names one, and npm cannot be asked",
				Next: "install npm, or set registry= in .npmrc",
			}
		}
		if err == nil {
			r.Settings.Own["registry"] = text
			r.Settings.FillKnown(s.Env)
		}
		if r.Settings.Get("registry") == "" {
			r.Settings.Values["registry"] = text
		}
	}
	for _, said := range r.Settings.Said() {
		s.Note(said)
	}
	return r, nil
}

// Package gives a package, fetching it at most once. All that was published too
// late for --as-of or min-age is left out.
func (r *Registry) Package(ctx context.Context, name string) (*Package, error) {
	r.Mu.Lock()
	p := r.Packages[name]
	if p == nil {
		p = &Pending{}
		r.Packages[name] = p
	}
	r.Mu.Unlock()
	p.Once.Do(func() { p.Pkg, p.err = r.fetch(ctx, name) })
	return p.Pkg, p.err
}

func (r *Registry) fetch(ctx context.Context, name string) (*Package, error) {
	if err := packagejson.CheckName(name); err != nil {
		return nil, err
	}
	base := r.Settings.Registry(name)
	address := base + url.PathEscape(name)
	payload, err := r.Around.Client.Document(ctx, fetch.Request{
		URL: address, Accept: "application/json", Authorization: r.Authorization(name, address),
		Distil: distil(name, base), Form: compactForm,
	})
	if err != nil {
		return nil, fmt.Errorf("asking the registry for %s: %w", name, err)
	}
	p, err := openPackage(payload)
	if err != nil {
		return nil, fmt.Errorf("reading the cached document of %s: %w", name, err)
	}
	return p.keep(func(rel *Release) bool { return r.Around.InTime(rel.published) }), nil
}

// Authorization is the login that an address gets in whose registry's name a package is
// asked for; one that is not sent is told.
func (r *Registry) Authorization(name, address string) string {
	header, refused := r.Settings.Authorization(address)
	if base := r.Settings.Registry(name); header == "" && refused == "" && strings.HasPrefix(address, base) {
		if header = r.Settings.InAddress(name); header != "" && !fetch.Private(address) {
			header, refused = "", "the login in the address of the registry "+base+" is not sent: it would go over plain HTTP; use https"
		}
	}
	if refused != "" {
		r.Around.Note(refused)
	}
	return header
}

// Fits tells whether a release runs on the Node.js at hand.
func (r *Registry) Fits(rel *Release) bool {
	wants := rel.Asks().Node
	if wants == "" || r.Node == nil {
		return true
	}
	r.fitting.Lock()
	defer r.fitting.Unlock()
	fits, known := r.engines[wants]
	if !known {
		rng, err := version.NPM{}.ParseRange(wants)
		fits = err != nil || rng.Contains(r.Node)
		r.engines[wants] = fits
	}
	return fits
}

// Better orders two releases by what npm would rather install: what runs
// here, what is not deprecated, what the tag "latest" points at, the newest.
func (r *Registry) Better(a, b *Release) int {
	score := func(rel *Release) int {
		s := 0
		if r.Fits(rel) {
			s += 4
		}
		if rel.Deprecated == "" {
			s += 2
		}
		if rel.Pkg.Tags["latest"] == rel.Text {
			s++
		}
		return s
	}
	if d := score(b) - score(a); d != 0 {
		return d
	}
	return b.Index - a.Index
}

// Pick is the best release for which all specs hold, nil if there is none.
func (r *Registry) Pick(p *Package, specs ...packagejson.Spec) *Release {
	return r.PickWhere(p, func(*Release) bool { return true }, specs)
}

// PickWhere is pick among the releases that keep admits.
func (r *Registry) PickWhere(p *Package, keep func(*Release) bool, specs []packagejson.Spec) *Release {
	holds := func(rel *Release) bool {
		return keep(rel) && !slices.ContainsFunc(specs, func(s packagejson.Spec) bool { return !p.Satisfying(s)[rel.Index] })
	}
	good := func(rel *Release) bool { return rel.Deprecated == "" && r.Fits(rel) }
	if latest := p.Find(p.Tags["latest"]); latest != nil && holds(latest) && good(latest) {
		return latest
	}
	var best *Release
	for _, rel := range slices.Backward(p.Releases) {
		if !holds(rel) {
			continue
		}
		if good(rel) {
			return rel
		}
		if best == nil || r.Better(rel, best) < 0 {
			best = rel
		}
	}
	return best
}

// Hole is an optional dependency of a release of which no release was ever
// published, "" if there is none. npm writes such a package to a lock, and
// then refuses the lock.
func (r *Registry) Hole(ctx context.Context, rel *Release) string {
	b := rel.Manifest()
	if len(b.Optional) == 0 {
		return ""
	}
	names := packagejson.Collated(b.Optional)
	r.Load(ctx, names)
	for _, name := range names {
		s := packagejson.ReadSpec(name, b.Optional[name])
		if s.Kind > packagejson.SpecTag {
			continue
		}
		p, err := r.Package(ctx, s.Name)
		if IsAbsent(err) || err == nil && !slices.Contains(p.Satisfying(s), true) {
			return name + " " + packagejson.Shown(s.Text)
		}
	}
	return ""
}

// Releases gives all releases of a package, oldest version first.
func (r *Registry) Releases(ctx context.Context, s model.Subject) ([]model.Release, error) {
	p, err := r.Package(ctx, s.Name)
	if IsAbsent(err) {
		err = ecosystem.Unknown(err)
	}
	if err != nil {
		return nil, err
	}
	all := make([]model.Release, len(p.Releases))
	for i, rel := range p.Releases {
		b := rel.Asks()
		all[i] = model.Release{Version: rel.Text, Published: rel.published, Deprecated: rel.Deprecated}
		for _, name := range b.PeerNames() {
			if !slices.Contains(b.PeerOptional, name) {
				all[i].Peers = append(all[i].Peers, name)
			}
		}
		if b.Node != "" {
			all[i].Needs = []model.Need{{Subject: model.Subject{Kind: "runtime", Name: "node"}, Range: b.Node}}
		}
		if !r.Fits(rel) {
			all[i].Unfit = fmt.Sprintf("it needs node %s, and %s is installed", b.Node, r.Node)
		}
	}
	return all, nil
}

// Parallel is how many documents are asked for at a time.
const Parallel = 32

// Load fetches many packages at once, so that later calls find them. Errors
// come back when the package is asked for by itself.
func (r *Registry) Load(ctx context.Context, names []string) {
	var g errgroup.Group
	g.SetLimit(Parallel)
	for _, name := range names {
		g.Go(func() error {
			_, _ = r.Package(ctx, name)
			return nil
		})
	}
	_ = g.Wait()
}

// IsAbsent tells whether an error means that the registry has no such package.
func IsAbsent(err error) bool {
	var status *fetch.Status
	return errors.As(err, &status) && (status.Code == 404 || status.Code == 410)
}
