// Package registry asks gem servers: lists of releases, the compact index, archives.
package registry

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"path"
	"slices"
	"strings"
	"sync"
	"time"
	"unique"

	"bellwether/internal/core/flat"
	"bellwether/internal/core/harmless"
	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gem/gemfile"
	"bellwether/internal/ecosystem/gem/lock"
	"bellwether/internal/ecosystem/gem/project"
	"bellwether/internal/host/fetch"
)

var (
	// ErrUnknown is the error of a gem that no source has, ErrMissing of a release that none has any more.
	ErrUnknown = flat.ErrUnknown
	ErrMissing = errors.New("the gem server does not list it any more")
)

// Unserved is a platform of the lock that can have none of a version's variants, empty for none.
func Unserved(p *project.Project, group []*Variant) string {
	if p.Lock == nil {
		return ""
	}
	for _, platform := range p.Lock.Platforms {
		if BestFor(group, platform) == nil {
			return platform
		}
	}
	return ""
}

// BestFor is the variant that a platform gets: one made for it before one that is for all.
func BestFor(group []*Variant, platform string) (best *Variant) {
	score := func(v *Variant) int {
		switch {
		case v.Platform == platform:
			return 3
		case v.Platform == "ruby":
			return 1
		case sameCPU(v.Platform, platform):
			return 2
		}
		return 0
	}
	for _, v := range group {
		if s := score(v); s > 0 && (best == nil || s > score(best)) {
			best = v
		}
	}
	return best
}

// sameCPU tells whether a gem's platform is a platform but for the version of its system: a gem of
// "arm64-darwin" runs on "arm64-darwin-23", one of "x86_64-linux" on "x86_64-linux-gnu", one of "universal-darwin" on both.
func sameCPU(of, platform string) bool {
	if strings.Contains(platform, "musl") != strings.Contains(of, "musl") {
		return false
	}
	if system, all := strings.CutPrefix(of, "universal-"); all {
		_, own, _ := strings.Cut(platform, "-")
		return own == system || strings.HasPrefix(own, system+"-")
	}
	return strings.HasPrefix(platform, of+"-") || strings.TrimSuffix(platform, "-gnu") == strings.TrimSuffix(of, "-gnu")
}

// Registry answers from the gem servers of a component.
type Registry struct {
	Around  ecosystem.Surroundings
	config  Config
	project *project.Project  // as it was when it connected
	Sources []string          // the addresses of the global sources
	direct  map[string]string // the source of a gem that the Gemfile gives one of its own
	scoped  sync.Once
	ruby    version.Version // the Ruby at hand; nil for none
	client  version.Version // its RubyGems; nil for none

	Requirements sync.Map // what was read of requirements, by their texts

	mu      sync.Mutex
	own     map[string]string // the source of a gem that has one of its own, or is needed by one
	known   map[string]*pending
	all     map[string]*listing // what a source lists of all its gems
	heard   map[asked][]*Variant
	doubled map[string][]string // gems that several sources know, with their addresses as they are shown
}

// asked is a gem that a source was asked for.
type asked struct{ source, gem string }

// pending is a gem's list of releases, which is there or on its way.
type pending struct {
	once   sync.Once
	list   []*Variant
	groups map[string][]*Variant // by version
	err    error
}

// Variant is a release for one platform.
type Variant struct {
	Version  string
	V        version.Version
	Platform string // "ruby" for one that is for all
	Deps     []lock.Dep
	Ruby     string // required_ruby_version
	rubygems string
	Sha256   string
	source   string // the address of the source that lists it

	published time.Time // zero where the source does not say
	Gone      bool      // the lock has it, and no source lists it any more
}

// Connect gives the gem servers that the settings and the project in dir name.
func Connect(ctx context.Context, s ecosystem.Surroundings, dir string) (*Registry, error) {
	c, err := project.Read(s.Files, dir)
	if err != nil {
		return nil, err
	}
	config, err := ReadConfig(s, dir)
	if err != nil {
		return nil, err
	}
	s.Client.Trust(config.authorities, config.person("ssl_verify_mode") == "0")
	if config.Proxy != "" && config.Proxy != ":no_proxy" {
		if err := s.Client.Proxy(config.Proxy, nil); err != nil {
			return nil, &model.Fault{Doing: "reading RubyGems' settings (http_proxy)", Wrong: err.Error()}
		}
	}
	r := &Registry{
		Around: s,
		config: config,
		own:    map[string]string{},
		known:  map[string]*pending{},
		all:    map[string]*listing{},
		heard:  map[asked][]*Variant{},
	}
	r.doubled = map[string][]string{}
	p := c.Detail.(*project.Project)
	r.project = p
	for _, source := range p.Gemfile.Sources {
		r.Sources = append(r.Sources, WithSlash(source))
	}
	if len(r.Sources) == 0 && p.Lock != nil {
		if gems := p.Lock.Section("GEM"); gems != nil {
			r.Sources = gems.Remotes()
		}
	}
	for _, d := range p.Gemfile.Gems {
		if d.Source != "" {
			r.own[d.Name] = WithSlash(d.Source)
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
	// GemName and PlatformName are what may be in an address and in a lock.
	GemName      = lazyregexp.New(`^[A-Za-z0-9._-]+$`)
	PlatformName = lazyregexp.New(`^[A-Za-z0-9._-]+$`)
	sha256Text   = lazyregexp.New(`^[0-9a-f]{64}$`)
)

// Variants are the releases of a gem, from its own source or else from the global ones.
func (r *Registry) Variants(ctx context.Context, name string) ([]*Variant, error) {
	p := r.listed(ctx, name)
	return p.list, p.err
}

// Release is the variants of a gem's version; nil for none.
func (r *Registry) Release(ctx context.Context, name, version string) ([]*Variant, error) {
	p := r.listed(ctx, name)
	return p.groups[version], p.err
}

func (r *Registry) listed(ctx context.Context, name string) *pending {
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
		p.groups = map[string][]*Variant{}
		for _, group := range ByVersion(p.list) {
			p.groups[group[0].Version] = group
		}
	})
	return p
}

// withLocked are the releases of a gem and what the lock has of it though it was taken back since, so
// that it is known from where it goes.
func (r *Registry) withLocked(list []*Variant, name string) []*Variant {
	if r.project.Lock == nil || list == nil {
		return list
	}
	one := r.project.Lock.Served[name]
	if one == nil || slices.ContainsFunc(list, func(o *Variant) bool { return o.Version == one.Version }) {
		return list
	}
	v, err := version.Gem{}.Parse(one.Version)
	if err != nil {
		return list
	}
	list = append(list, &Variant{Version: one.Version, V: v, Platform: cmp.Or(one.Platform, "ruby"), Deps: one.Deps, Gone: true})
	slices.SortStableFunc(list, func(a, b *Variant) int { return a.V.Compare(b.V) })
	return list
}

// inTime leaves out what is too young for --as-of and --min-age, but for what is locked. Where a source does not say when a
// release was made, that is told.
func (r *Registry) inTime(list []*Variant, name string) []*Variant {
	if r.Around.AsOf.IsZero() && r.Around.MinAge == 0 {
		return list
	}
	locked := ""
	if r.project.Lock != nil {
		locked = r.project.Lock.Version(name)
	}
	return slices.DeleteFunc(list, func(v *Variant) bool {
		if v.published.IsZero() && !v.Gone {
			r.Around.Note(
				harmless.Address(v.source) + " tells no dates of releases, so that --as-of and --min-age let all its gems through",
			)
		}
		return v.Version != locked && !r.Around.InTime(v.published)
	})
}

// TakenBack says of a gem that the lock has that no source lists its version any more; empty for others.
func (r *Registry) TakenBack(ctx context.Context, name, version string) string {
	if group, err := r.Release(ctx, name, version); err == nil && len(group) > 0 && group[0].Gone {
		return fmt.Sprintf("%s %s is locked, and no source lists it any more: it was taken back, and cannot be installed", name, version)
	}
	return ""
}

// address is where a file of a source is, and the login for it: that of the configuration, or one
// that stands in the source's own address.
func (r *Registry) address(source, file string) (address, header string) {
	base := r.config.mirror(source)
	plain, _ := harmless.WithoutLogin(base)
	header, refused := r.config.Authorization(plain)
	if u, err := url.Parse(base); header == "" && refused == "" && err == nil && u.User != nil {
		if header = basic(u.User.String()); !fetch.Private(plain) {
			refused = "the login in the address of " + harmless.Address(plain) + " is not sent: it would go over plain HTTP; use https"
			header = ""
		}
	}
	if refused != "" {
		r.Around.Note(refused)
	}
	return WithSlash(plain) + file, header
}

// ReadInfo reads a gem's list of releases: a line each, "1.0.0-java dep:>= 1&< 2,other:>= 0|checksum:…,ruby:>= 2.5". Of a
// release that stands twice the last line counts. A line that says no release is an error: the list is damaged.
func ReadInfo(text string) (all []*Variant, err error) {
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
		full := lock.FullName(v.Version, v.Platform)
		if k, twice := at[full]; twice {
			all[k] = v
			continue
		}
		at[full] = len(all)
		all = append(all, v)
	}
	slices.SortStableFunc(all, func(a, b *Variant) int { return a.V.Compare(b.V) })
	return all, nil
}

// readRelease reads a line of a gem's list.
func readRelease(line string) (*Variant, error) {
	head, rest, _ := strings.Cut(line, " ")
	v := &Variant{Platform: "ruby"}
	var platform string
	if v.Version, platform = lock.SplitPlatform(head); platform != "" {
		v.Platform = platform
	}
	var err error
	if v.V, err = (version.Gem{}).Parse(v.Version); err != nil || v.Version == "" || !PlatformName.MatchString(v.Platform) {
		return nil, fmt.Errorf("%q is no version of a gem", head)
	}
	deps, needs, _ := strings.Cut(rest, "|")
	for field := range strings.SplitSeq(deps, ",") {
		name, rng, ok := strings.Cut(strings.TrimSpace(field), ":")
		if !ok {
			continue
		}
		if !GemName.MatchString(name) {
			return nil, fmt.Errorf("%q is no name of a gem", name)
		}
		v.Deps = append(v.Deps, lock.Dep{Name: unique.Make(name).Value(), Rng: unique.Make(strings.ReplaceAll(rng, "&", ", ")).Value()})
	}
	for field := range strings.SplitSeq(needs, ",") {
		name, value, _ := strings.Cut(field, ":")
		switch name {
		case "checksum":
			if !sha256Text.MatchString(value) {
				return nil, fmt.Errorf("the checksum of %s is no SHA-256", head)
			}
			v.Sha256 = value
		case "created_at":
			v.published, _ = time.Parse(time.RFC3339, value)
		case "ruby":
			v.Ruby = unique.Make(strings.ReplaceAll(value, "&", ", ")).Value()
		case "rubygems":
			v.rubygems = strings.ReplaceAll(value, "&", ", ")
		}
	}
	return v, nil
}

// Fits tells whether a release runs on the Ruby and RubyGems at hand.
func (r *Registry) Fits(v *Variant) bool { return r.unfit(v) == "" }

// unfit says why a release does not run here, empty if it does.
func (r *Registry) unfit(v *Variant) string {
	for _, need := range []struct {
		what, rng string
		have      version.Version
	}{{"ruby", v.Ruby, r.ruby}, {"RubyGems", v.rubygems, r.client}} {
		if need.rng == "" || need.have == nil {
			continue
		}
		if rng, err := (version.Gem{}).ParseRange(need.rng); err == nil && !rng.Contains(need.have) {
			return fmt.Sprintf("needs %s %s, and %s is installed", need.what, need.rng, need.have)
		}
	}
	return ""
}

// Needs are the runtimes that a release states.
func (v *Variant) Needs() []model.Need {
	if v.Ruby == "" || v.Ruby == ">= 0" {
		return nil
	}
	return []model.Need{{Subject: model.Subject{Kind: "runtime", Name: "ruby"}, Range: strings.ReplaceAll(v.Ruby, ",", "")}}
}

// Releases are all releases of a gem, each once.
func (r *Registry) Releases(ctx context.Context, s model.Subject) (all []model.Release, err error) {
	list, err := r.Variants(ctx, s.Name)
	if err == ErrUnknown {
		return nil, ecosystem.Unknown(fmt.Errorf("no source of the Gemfile knows %s", s.Name))
	}
	if err != nil {
		return nil, err
	}
	for _, group := range ByVersion(list) {
		v := group[0]
		release := model.Release{Version: v.Version, Needs: v.Needs(), Published: v.published}
		if v.Gone {
			release.Retracted, release.Because = true, "no source lists it any more"
		} else if platform := Unserved(r.project, group); platform != "" {
			release.Unfit = "has no file for " + platform + ", a platform of the lock"
		} else if !slices.ContainsFunc(group, r.Fits) {
			release.Unfit = r.unfit(v)
		}
		all = append(all, release)
	}
	return all, nil
}

// ByVersion groups the variants of each version, ascending.
func ByVersion(list []*Variant) (groups [][]*Variant) {
	for _, v := range list {
		if n := len(groups); n > 0 && groups[n-1][0].Version == v.Version {
			groups[n-1] = append(groups[n-1], v)
			continue
		}
		groups = append(groups, []*Variant{v})
	}
	return groups
}

// Copies is the copy of a gem that the lock has.
func (r *Registry) Copies(_ context.Context, c *model.Component, name string) ([]model.LockedCopy, error) {
	p := c.Detail.(*project.Project)
	if p.Lock == nil || !p.Lock.Has(name) {
		return nil, nil
	}
	copied := model.LockedCopy{Version: p.Lock.Version(name), Where: c.LockFiles()}
	for _, q := range c.Requirements {
		if q.Name == name {
			copied.Askers = append(copied.Askers, fmt.Sprintf("%s asks for %s", q.Site, gemfile.OrAny(q.Range)))
		}
	}
	for _, s := range p.Lock.Gems() {
		for _, d := range s.Deps {
			if d.Name == name {
				copied.Askers = append(copied.Askers, fmt.Sprintf("%s %s needs %s", s.Name, s.Version, gemfile.OrAny(d.Rng)))
			}
		}
	}
	return []model.LockedCopy{copied}, nil
}

// Families are gems of which one needs others at its very version.
func (r *Registry) Families(_ context.Context, c *model.Component) (families [][]string, err error) {
	p := c.Detail.(*project.Project)
	if p.Lock == nil {
		return nil, nil
	}
	direct := map[string]bool{}
	for _, q := range c.Requirements {
		direct[q.Name] = true
	}
	for _, s := range p.Lock.Gems() {
		family := []string{}
		for _, d := range s.Deps {
			if d.Rng == "= "+s.Version && direct[d.Name] {
				family = append(family, d.Name)
			}
		}
		if direct[s.Name] && len(family) > 0 {
			families = append(families, append([]string{s.Name}, family...))
		}
	}
	return families, nil
}

// archiveName is the file of a release on a gem server.
func archiveName(name string, v *Variant) string {
	return path.Join("gems", name+"-"+lock.FullName(v.Version, v.Platform)+".gem")
}
