package gem

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/url"
	"path"
	"slices"
	"strings"
	"sync"
	"time"
	"unique"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
)

// registry answers from the gem servers of a component.
type registry struct {
	around  ecosystem.Surroundings
	config  config
	project *project          // as it was when it connected
	sources []string          // the addresses of the global sources
	direct  map[string]string // the source of a gem that the Gemfile gives one of its own
	scoped  sync.Once
	ruby    version.Version // the Ruby at hand; nil for none
	client  version.Version // its RubyGems; nil for none

	requirements sync.Map // what was read of requirements, by their texts

	mu      sync.Mutex
	own     map[string]string // the source of a gem that has one of its own, or is needed by one
	known   map[string]*pending
	all     map[string]*listing // what a source lists of all its gems
	heard   map[asked][]*variant
	doubled map[string][]string // gems that several sources know, with their addresses as they are shown
}

// asked is a gem that a source was asked for.
type asked struct{ source, gem string }

// pending is a gem's list of releases, which is there or on its way.
type pending struct {
	once   sync.Once
	list   []*variant
	groups map[string][]*variant // by version
	err    error
}

// variant is a release for one platform.
type variant struct {
	version  string
	v        version.Version
	platform string // "ruby" for one that is for all
	deps     []dep
	ruby     string // required_ruby_version
	rubygems string
	sha256   string
	source   string // the address of the source that lists it

	published time.Time // zero where the source does not say
	gone      bool      // the lock has it, and no source lists it any more
}

func connect(ctx context.Context, s ecosystem.Surroundings, dir string) (ecosystem.Registry, error) {
	c, err := readProject(s.Files, dir)
	if err != nil {
		return nil, err
	}
	config, err := readConfig(s, dir)
	if err != nil {
		return nil, err
	}
	s.Client.Trust(config.authorities, config.person("ssl_verify_mode") == "0")
	if config.proxy != "" && config.proxy != ":no_proxy" {
		if err := s.Client.Proxy(config.proxy, nil); err != nil {
			return nil, &model.Fault{Doing: "reading RubyGems' settings (http_proxy)", Wrong: err.Error()}
		}
	}
	r := &registry{
		around: s,
		config: config,
		own:    map[string]string{},
		known:  map[string]*pending{},
		all:    map[string]*listing{},
		heard:  map[asked][]*variant{},
	}
	r.doubled = map[string][]string{}
	p := c.Detail.(*project)
	r.project = p
	for _, source := range p.gemfile.sources {
		r.sources = append(r.sources, withSlash(source))
	}
	if len(r.sources) == 0 && p.lock != nil {
		if gems := p.lock.section("GEM"); gems != nil {
			r.sources = gems.remotes()
		}
	}
	for _, d := range p.gemfile.gems {
		if d.source != "" {
			r.own[d.name] = withSlash(d.source)
		}
	}
	r.direct = maps.Clone(r.own)
	if text, err := s.Ask(ctx, "ruby", "--version"); err == nil {
		if m := rubyVersion.FindStringSubmatch(text); m != nil {
			r.ruby, _ = version.Gem{}.Parse(m[1])
		}
	}
	if text, err := s.Ask(ctx, "gem", "--version"); err == nil {
		r.client, _ = version.Gem{}.Parse(text)
	}
	return r, nil
}

var (
	rubyVersion = lazyregexp.New(`^ruby ([0-9]+(?:\.[0-9]+)+)`)
	gemName     = lazyregexp.New(`^[A-Za-z0-9._-]+$`)

	platformName = lazyregexp.New(`^[A-Za-z0-9._-]+$`)
	sha256Text   = lazyregexp.New(`^[0-9a-f]{64}$`)
)

// variants are the releases of a gem, from its own source or else from the global ones.
func (r *registry) variants(ctx context.Context, name string) ([]*variant, error) {
	p := r.listed(ctx, name)
	return p.list, p.err
}

// release is the variants of a gem's version; nil for none.
func (r *registry) release(ctx context.Context, name, version string) ([]*variant, error) {
	p := r.listed(ctx, name)
	return p.groups[version], p.err
}

func (r *registry) listed(ctx context.Context, name string) *pending {
	r.scoped.Do(func() { r.scope(ctx) })
	r.mu.Lock()
	p := r.known[name]
	if p == nil {
		p = &pending{}
		r.known[name] = p
	}
	r.mu.Unlock()
	p.once.Do(func() {
		p.list, p.err = r.ask(ctx, name)
		p.list = r.inTime(r.withLocked(p.list, name), name)
		p.groups = map[string][]*variant{}
		for _, group := range byVersion(p.list) {
			p.groups[group[0].version] = group
		}
	})
	return p
}

// withLocked are the releases of a gem and what the lock has of it though it was taken back since, so
// that it is known from where it goes.
func (r *registry) withLocked(list []*variant, name string) []*variant {
	if r.project.lock == nil || list == nil {
		return list
	}
	one := r.project.lock.served[name]
	if one == nil || slices.ContainsFunc(list, func(o *variant) bool { return o.version == one.version }) {
		return list
	}
	v, err := version.Gem{}.Parse(one.version)
	if err != nil {
		return list
	}
	list = append(list, &variant{version: one.version, v: v, platform: cmp.Or(one.platform, "ruby"), deps: one.deps, gone: true})
	slices.SortStableFunc(list, func(a, b *variant) int { return a.v.Compare(b.v) })
	return list
}

// inTime leaves out what is too young for --as-of and --min-age, but for what is locked. Where a source does not say when a
// release was made, that is told.
func (r *registry) inTime(list []*variant, name string) []*variant {
	if r.around.AsOf.IsZero() && r.around.MinAge == 0 {
		return list
	}
	locked := ""
	if r.project.lock != nil {
		locked = r.project.lock.version(name)
	}
	return slices.DeleteFunc(list, func(v *variant) bool {
		if v.published.IsZero() && !v.gone {
			r.around.Note(
				harmless.Address(v.source) + " tells no dates of releases, so that --as-of and --min-age let all its gems through",
			)
		}
		return v.version != locked && !r.around.InTime(v.published)
	})
}

// takenBack says of a gem that the lock has that no source lists its version any more; empty for others.
func (r *registry) takenBack(ctx context.Context, name, version string) string {
	if group, err := r.release(ctx, name, version); err == nil && len(group) > 0 && group[0].gone {
		return fmt.Sprintf("%s %s is locked, and no source lists it any more: it was taken back, and cannot be installed", name, version)
	}
	return ""
}

// address is where a file of a source is, and the login for it: that of the configuration, or one
// that stands in the source's own address.
func (r *registry) address(source, file string) (address, header string) {
	base := r.config.mirror(source)
	plain, _ := harmless.WithoutLogin(base)
	header, refused := r.config.authorization(plain)
	if u, err := url.Parse(base); header == "" && refused == "" && err == nil && u.User != nil {
		if header = basic(u.User.String()); !fetch.Private(plain) {
			refused = "the login in the address of " + harmless.Address(plain) + " is not sent: it would go over plain HTTP; use https"
			header = ""
		}
	}
	if refused != "" {
		r.around.Note(refused)
	}
	return withSlash(plain) + file, header
}

// readInfo reads a gem's list of releases: a line each, "1.0.0-java dep:>= 1&< 2,other:>= 0|checksum:…,ruby:>= 2.5". Of a
// release that stands twice the last line counts. A line that says no release is an error: the list is damaged.
func readInfo(text string) (all []*variant, err error) {
	text = "\n" + text
	head, text, _ := strings.Cut(text, "\n---\n")
	n := strings.Count(head, "\n") + 1
	at := map[string]int{}
	for line := range strings.Lines(text) {
		n++
		line = strings.TrimRight(line, "\r\n")
		if strings.TrimSpace(line) == "" {
			continue
		}
		if head, _, _ := strings.Cut(line, " "); !ecosystem.ListedVersion(head) {
			continue
		}
		if err := ecosystem.CheckReleases(len(all) + 1); err != nil {
			return nil, err
		}
		v, err := readRelease(line)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", n, err)
		}
		full := fullName(v.version, v.platform)
		if k, twice := at[full]; twice {
			all[k] = v
			continue
		}
		at[full] = len(all)
		all = append(all, v)
	}
	slices.SortStableFunc(all, func(a, b *variant) int { return a.v.Compare(b.v) })
	return all, nil
}

// readRelease reads a line of a gem's list.
func readRelease(line string) (*variant, error) {
	head, rest, _ := strings.Cut(line, " ")
	v := &variant{platform: "ruby"}
	var platform string
	if v.version, platform = splitPlatform(head); platform != "" {
		v.platform = platform
	}
	var err error
	if v.v, err = (version.Gem{}).Parse(v.version); err != nil || v.version == "" || !platformName.MatchString(v.platform) {
		return nil, fmt.Errorf("%q is no version of a gem", head)
	}
	deps, needs, _ := strings.Cut(rest, "|")
	for field := range strings.SplitSeq(deps, ",") {
		name, rng, ok := strings.Cut(strings.TrimSpace(field), ":")
		if !ok {
			continue
		}
		if !gemName.MatchString(name) {
			return nil, fmt.Errorf("%q is no name of a gem", name)
		}
		v.deps = append(v.deps, dep{unique.Make(name).Value(), unique.Make(strings.ReplaceAll(rng, "&", ", ")).Value()})
	}
	for field := range strings.SplitSeq(needs, ",") {
		name, value, _ := strings.Cut(field, ":")
		switch name {
		case "checksum":
			if !sha256Text.MatchString(value) {
				return nil, fmt.Errorf("the checksum of %s is no SHA-256", head)
			}
			v.sha256 = value
		case "created_at":
			v.published, _ = time.Parse(time.RFC3339, value)
		case "ruby":
			v.ruby = unique.Make(strings.ReplaceAll(value, "&", ", ")).Value()
		case "rubygems":
			v.rubygems = strings.ReplaceAll(value, "&", ", ")
		}
	}
	return v, nil
}

// fits tells whether a release runs on the Ruby and RubyGems at hand.
func (r *registry) fits(v *variant) bool { return r.unfit(v) == "" }

// unfit says why a release does not run here, empty if it does.
func (r *registry) unfit(v *variant) string {
	for _, need := range []struct {
		what, rng string
		have      version.Version
	}{{"ruby", v.ruby, r.ruby}, {"RubyGems", v.rubygems, r.client}} {
		if need.rng == "" || need.have == nil {
			continue
		}
		if rng, err := (version.Gem{}).ParseRange(need.rng); err == nil && !rng.Contains(need.have) {
			return fmt.Sprintf("needs %s %s, and %s is installed", need.what, need.rng, need.have)
		}
	}
	return ""
}

// needs are the runtimes that a release states.
func (v *variant) needs() []model.Need {
	if v.ruby == "" || v.ruby == ">= 0" {
		return nil
	}
	return []model.Need{{Subject: model.Subject{Kind: "runtime", Name: "ruby"}, Range: strings.ReplaceAll(v.ruby, ",", "")}}
}

// Releases are all releases of a gem, each once.
func (r *registry) Releases(ctx context.Context, s model.Subject) (all []model.Release, err error) {
	list, err := r.variants(ctx, s.Name)
	if err == errUnknown {
		return nil, ecosystem.Unknown(fmt.Errorf("no source of the Gemfile knows %s", s.Name))
	}
	if err != nil {
		return nil, err
	}
	for _, group := range byVersion(list) {
		v := group[0]
		release := model.Release{Version: v.version, Needs: v.needs(), Published: v.published}
		if v.gone {
			release.Retracted, release.Because = true, "no source lists it any more"
		} else if platform := r.project.unserved(group); platform != "" {
			release.Unfit = "has no file for " + platform + ", a platform of the lock"
		} else if !slices.ContainsFunc(group, r.fits) {
			release.Unfit = r.unfit(v)
		}
		all = append(all, release)
	}
	return all, nil
}

// byVersion groups the variants of each version, ascending.
func byVersion(list []*variant) (groups [][]*variant) {
	for _, v := range list {
		if n := len(groups); n > 0 && groups[n-1][0].version == v.version {
			groups[n-1] = append(groups[n-1], v)
			continue
		}
		groups = append(groups, []*variant{v})
	}
	return groups
}

// Copies is the copy of a gem that the lock has.
func (r *registry) Copies(_ context.Context, c *model.Component, name string) ([]model.LockedCopy, error) {
	p := c.Detail.(*project)
	if p.lock == nil || !p.lock.has(name) {
		return nil, nil
	}
	copied := model.LockedCopy{Version: p.lock.version(name), Where: c.LockFiles()}
	for _, q := range c.Requirements {
		if q.Name == name {
			copied.Askers = append(copied.Askers, fmt.Sprintf("%s asks for %s", q.Site, orAny(q.Range)))
		}
	}
	for _, s := range p.lock.gems() {
		for _, d := range s.deps {
			if d.name == name {
				copied.Askers = append(copied.Askers, fmt.Sprintf("%s %s needs %s", s.name, s.version, orAny(d.rng)))
			}
		}
	}
	return []model.LockedCopy{copied}, nil
}

func orAny(rng string) string {
	if rng == "" {
		return "any version"
	}
	return rng
}

// Families are gems of which one needs others at its very version.
func (r *registry) Families(_ context.Context, c *model.Component) (families [][]string, err error) {
	p := c.Detail.(*project)
	if p.lock == nil {
		return nil, nil
	}
	direct := map[string]bool{}
	for _, q := range c.Requirements {
		direct[q.Name] = true
	}
	for _, s := range p.lock.gems() {
		family := []string{}
		for _, d := range s.deps {
			if d.rng == "= "+s.version && direct[d.name] {
				family = append(family, d.name)
			}
		}
		if direct[s.name] && len(family) > 0 {
			families = append(families, append([]string{s.name}, family...))
		}
	}
	return families, nil
}

// Effective are the gems of the lock, with what their releases state that they run on, as far as
// the gem servers tell.
func (e Ecosystem) Effective(ctx context.Context, reg ecosystem.Registry, c *model.Component) ([]model.Package, error) {
	all := e.Packages(c)
	r, ok := reg.(*registry)
	if !ok {
		return all, nil
	}
	var wait sync.WaitGroup
	limit := make(chan struct{}, 16)
	for i := range all {
		wait.Add(1)
		limit <- struct{}{}
		go func() {
			defer func() { <-limit; wait.Done() }()
			list, err := r.variants(ctx, all[i].Subject.Name)
			if err != nil {
				return // what cannot be asked for states nothing
			}
			if text := r.takenBack(ctx, all[i].Subject.Name, all[i].Version); text != "" {
				r.around.Note(text)
			}
			for _, v := range list {
				if v.version == all[i].Version {
					all[i].Needs = v.needs()
				}
			}
		}()
	}
	wait.Wait()
	return all, ctx.Err()
}

// archiveName is the file of a release on a gem server.
func archiveName(name string, v *variant) string {
	return path.Join("gems", name+"-"+fullName(v.version, v.platform)+".gem")
}
