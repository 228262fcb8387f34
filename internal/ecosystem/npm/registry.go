package npm

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
	"bellwether/internal/host/fetch"
)

// registry answers from the npm registries that a project uses.
type registry struct {
	settings *settings
	around   ecosystem.Surroundings
	node     version.Version // the Node.js at hand; nil if there is none
	fitting  sync.Mutex
	engines  map[string]bool // for each engines.node seen, whether node is in it

	mu       sync.Mutex
	packages map[string]*pending
	sources  map[string]*pkg // what repositories hold, by the value that asks for it
}

// pending is a package that is there or on its way.
type pending struct {
	once sync.Once
	pkg  *pkg
	err  error
}

func connect(ctx context.Context, s ecosystem.Surroundings, read *settings, dir string) (ecosystem.Registry, error) {
	r := &registry{
		settings: read,
		around:   s, packages: map[string]*pending{}, sources: map[string]*pkg{}, engines: map[string]bool{},
	}
	s.Client.Trust(func() ([]byte, error) { return r.settings.authorities(s.Files, dir, s.Env) }, r.settings.get("strict-ssl") == "false")
	s.Client.Patience(r.settings.patience())
	if address := cmp.Or(r.settings.get("https-proxy"), r.settings.get("proxy")); address != "" && address != "null" && address != "false" {
		if err := s.Client.Proxy(address, strings.Split(r.settings.get("noproxy"), ",")); err != nil {
			return nil, &model.Fault{Doing: "reading npm's settings (https-proxy, proxy)", Wrong: err.Error()}
		}
	}
	if text, err := s.Ask(ctx, "node", "--version"); err == nil {
		if v, err := parseVersion(strings.TrimPrefix(text, "v")); err == nil {
			r.node = v
		}
	}
	if r.settings.get("registry") == "" || len(r.settings.waiting) > 0 && r.settings.own["registry"] == "" {
		// Where nothing is set, npm's own configuration has the last word.
		text, err := s.Ask(ctx, "npm", "config", "get", "registry")
		if r.settings.get("registry") == "" && (err != nil || !strings.HasPrefix(text, "http")) {
			return nil, &model.Fault{
				Doing: "looking for the npm registry", Wrong: "no .npmrc names one, and npm cannot be asked",
				Next: "install npm, or set registry= in .npmrc",
			}
		}
		if err == nil {
			r.settings.own["registry"] = text
			r.settings.fillKnown(s.Env)
		}
		if r.settings.get("registry") == "" {
			r.settings.values["registry"] = text
		}
	}
	for _, said := range r.settings.said() {
		s.Note(said)
	}
	return r, nil
}

// pkg gives a package, fetching it at most once. All that was published too
// late for --as-of or min-age is left out.
func (r *registry) pkg(ctx context.Context, name string) (*pkg, error) {
	r.mu.Lock()
	p := r.packages[name]
	if p == nil {
		p = &pending{}
		r.packages[name] = p
	}
	r.mu.Unlock()
	p.once.Do(func() { p.pkg, p.err = r.fetch(ctx, name) })
	return p.pkg, p.err
}

func (r *registry) fetch(ctx context.Context, name string) (*pkg, error) {
	if err := checkName(name); err != nil {
		return nil, err
	}
	base := r.settings.registry(name)
	address := base + url.PathEscape(name)
	payload, err := r.around.Client.Document(ctx, fetch.Request{
		URL: address, Accept: "application/json", Authorization: r.authorization(name, address),
		Distil: distil(name, base), Form: compactForm,
	})
	if err != nil {
		return nil, fmt.Errorf("asking the registry for %s: %w", name, err)
	}
	p, err := openPackage(payload)
	if err != nil {
		return nil, fmt.Errorf("reading the cached document of %s: %w", name, err)
	}
	return p.keep(func(rel *release) bool { return r.around.InTime(rel.published) }), nil
}

// authorization is the login that an address gets in whose registry's name a package is
// asked for; one that is not sent is told.
func (r *registry) authorization(name, address string) string {
	header, refused := r.settings.authorization(address)
	if base := r.settings.registry(name); header == "" && refused == "" && strings.HasPrefix(address, base) {
		if header = r.settings.inAddress(name); header != "" && !fetch.Private(address) {
			header, refused = "", "the login in the address of the registry "+base+" is not sent: it would go over plain HTTP; use https"
		}
	}
	if refused != "" {
		r.around.Note(refused)
	}
	return header
}

// fits tells whether a release runs on the Node.js at hand.
func (r *registry) fits(rel *release) bool {
	wants := rel.terms().Node
	if wants == "" || r.node == nil {
		return true
	}
	r.fitting.Lock()
	defer r.fitting.Unlock()
	fits, known := r.engines[wants]
	if !known {
		rng, err := version.NPM{}.ParseRange(wants)
		fits = err != nil || rng.Contains(r.node)
		r.engines[wants] = fits
	}
	return fits
}

// better orders two releases by what npm would rather install: what runs
// here, what is not deprecated, what the tag "latest" points at, the newest.
func (r *registry) better(a, b *release) int {
	score := func(rel *release) int {
		s := 0
		if r.fits(rel) {
			s += 4
		}
		if rel.Deprecated == "" {
			s += 2
		}
		if rel.pkg.tags["latest"] == rel.text {
			s++
		}
		return s
	}
	if d := score(b) - score(a); d != 0 {
		return d
	}
	return b.index - a.index
}

// pick is the best release for which all specs hold, nil if there is none.
func (r *registry) pick(p *pkg, specs ...spec) *release {
	return r.pickWhere(p, func(*release) bool { return true }, specs)
}

// pickWhere is pick among the releases that keep admits.
func (r *registry) pickWhere(p *pkg, keep func(*release) bool, specs []spec) *release {
	holds := func(rel *release) bool {
		return keep(rel) && !slices.ContainsFunc(specs, func(s spec) bool { return !p.satisfying(s)[rel.index] })
	}
	good := func(rel *release) bool { return rel.Deprecated == "" && r.fits(rel) }
	if latest := p.find(p.tags["latest"]); latest != nil && holds(latest) && good(latest) {
		return latest
	}
	var best *release
	for _, rel := range slices.Backward(p.releases) {
		if !holds(rel) {
			continue
		}
		if good(rel) {
			return rel
		}
		if best == nil || r.better(rel, best) < 0 {
			best = rel
		}
	}
	return best
}

// hole is an optional dependency of a release of which no release was ever
// published, "" if there is none. npm writes such a package to a lock, and
// then refuses the lock.
func (r *registry) hole(ctx context.Context, rel *release) string {
	b := rel.body()
	if len(b.Optional) == 0 {
		return ""
	}
	names := collated(b.Optional)
	r.load(ctx, names)
	for _, name := range names {
		s := readSpec(name, b.Optional[name])
		if s.kind > specTag {
			continue
		}
		p, err := r.pkg(ctx, s.name)
		if isAbsent(err) || err == nil && !slices.Contains(p.satisfying(s), true) {
			return name + " " + shown(s.text)
		}
	}
	return ""
}

// Releases gives all releases of a package, oldest version first.
func (r *registry) Releases(ctx context.Context, s model.Subject) ([]model.Release, error) {
	p, err := r.pkg(ctx, s.Name)
	if isAbsent(err) {
		err = ecosystem.Unknown(err)
	}
	if err != nil {
		return nil, err
	}
	all := make([]model.Release, len(p.releases))
	for i, rel := range p.releases {
		b := rel.terms()
		all[i] = model.Release{Version: rel.text, Published: rel.published, Deprecated: rel.Deprecated}
		for _, name := range b.peers() {
			if !slices.Contains(b.PeerOptional, name) {
				all[i].Peers = append(all[i].Peers, name)
			}
		}
		if b.Node != "" {
			all[i].Needs = []model.Need{{Subject: model.Subject{Kind: "runtime", Name: "node"}, Range: b.Node}}
		}
		if !r.fits(rel) {
			all[i].Unfit = fmt.Sprintf("it needs node %s, and %s is installed", b.Node, r.node)
		}
	}
	return all, nil
}

// parallel is how many documents are asked for at a time.
const parallel = 32

// load fetches many packages at once, so that later calls find them. Errors
// come back when the package is asked for by itself.
func (r *registry) load(ctx context.Context, names []string) {
	var g errgroup.Group
	g.SetLimit(parallel)
	for _, name := range names {
		g.Go(func() error {
			_, _ = r.pkg(ctx, name)
			return nil
		})
	}
	_ = g.Wait()
}

// crawl fetches ahead, many at a time, what resolving from these edges will
// most likely ask for: the best release of each, and what it depends on.
func (r *registry) crawl(ctx context.Context, edges []edge) {
	var (
		g    errgroup.Group
		mu   sync.Mutex
		seen = map[string]bool{}
	)
	g.SetLimit(parallel)
	for work := edges; len(work) > 0 && ctx.Err() == nil; {
		list := work
		work = nil
		for _, e := range list {
			key := e.spec.name + "\x00" + e.spec.text
			if seen[key] || e.spec.kind > specTag || e.kind == peerOptionalEdge {
				continue
			}
			seen[key] = true
			g.Go(func() error {
				p, err := r.pkg(ctx, e.spec.name)
				if err != nil {
					return nil
				}
				mu.Lock()
				defer mu.Unlock()
				if rel := r.pick(p, e.spec); rel != nil {
					work = append(work, bodyEdges(rel.body(), nil)...)
				}
				return nil
			})
		}
		_ = g.Wait()
	}
}

// isAbsent tells whether an error means that the registry has no such package.
func isAbsent(err error) bool {
	var status *fetch.Status
	return errors.As(err, &status) && (status.Code == 404 || status.Code == 410)
}
