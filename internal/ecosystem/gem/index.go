package gem

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/flat"
	"bellwether/internal/core/version"
)

var (
	errUnknown = flat.ErrUnknown
	errMissing = errors.New("the gem server does not list it any more")
)

// index is the gem servers as the resolver asks them. What comes from a repository or a folder has
// the one version that the lock has.
type index struct {
	*registry
	project *project
	fixed   map[string]*spec    // gems from elsewhere
	within  map[string]*section // the section of the lock that a gem of a server is in
	fresh   []*section          // repositories that the lock does not have
	preview *previews
}

func newIndex(ctx context.Context, r *registry, p *project, changes []contract.Change) (x index, err error) {
	x = index{r, p, map[string]*spec{}, map[string]*section{}, nil, newPreviews(p)}
	if x.fresh, err = r.sourcedAnew(ctx, p, changes); err != nil {
		return x, err
	}
	for _, s := range p.lock.sections {
		for _, one := range s.specs {
			switch {
			case s.kind == "PATH", s.kind == "GIT" && p.inEffectAt(s):
				x.fixed[one.name] = one
			case s.kind == "GEM":
				x.within[one.name] = s
			}
		}
	}
	for _, s := range x.fresh {
		for _, one := range s.specs {
			x.fixed[one.name] = one
		}
	}
	return x, nil
}

// Releases are the versions that there are. Of those that a platform of the lock cannot have, Needs
// says so.
func (x index) Releases(ctx context.Context, k flat.Key) (all []flat.Release, err error) {
	if s := x.fixed[k.Name]; s != nil {
		v, err := version.Gem{}.Parse(s.version)
		if err != nil {
			return nil, err
		}
		return []flat.Release{{Text: s.version, Version: v}}, nil
	}
	list, err := x.variants(ctx, k.Name)
	if text := x.project.lock.version(k.Name); err == errUnknown && text != "" { // it stays as the lock has it
		v, verr := version.Gem{}.Parse(text)
		return []flat.Release{{Text: text, Version: v}}, verr
	}
	if err != nil {
		return nil, err
	}
	for _, group := range byVersion(list) {
		unfit := !x.runs(group)
		all = append(all, flat.Release{
			Text: group[0].version, Version: group[0].v, Unfit: unfit, Shunned: unfit || group[0].gone,
		})
	}
	return all, nil
}

// runs tells whether a version runs on the Ruby at hand, in the variants that the lock's platforms get.
func (x index) runs(group []*variant) bool {
	chosen := x.chosen(group)
	return chosen != nil && !slices.ContainsFunc(chosen, func(v *variant) bool { return !x.fits(v) })
}

// AtHand is true: a gem's list has the needs of all its releases.
func (x index) AtHand(flat.Key) bool { return true }

// chosen are the variants of a version that the platforms of the lock have; nil if one has none.
func (x index) chosen(group []*variant) (chosen []*variant) {
	for _, platform := range x.project.lock.platforms {
		best := bestFor(group, platform)
		if best == nil {
			return nil
		}
		if !slices.Contains(chosen, best) {
			chosen = append(chosen, best)
		}
	}
	if len(x.project.lock.platforms) == 0 {
		return group
	}
	return chosen
}

// unserved is a platform of the lock that can have none of a version's variants, empty for none.
func (p *project) unserved(group []*variant) string {
	if p.lock == nil {
		return ""
	}
	for _, platform := range p.lock.platforms {
		if bestFor(group, platform) == nil {
			return platform
		}
	}
	return ""
}

// bestFor is the variant that a platform gets: one made for it before one that is for all.
func bestFor(group []*variant, platform string) (best *variant) {
	score := func(v *variant) int {
		switch {
		case v.platform == platform:
			return 3
		case v.platform == "ruby":
			return 1
		case sameCPU(v.platform, platform):
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

// Needs are the gems that a version needs on any platform of the lock.
func (x index) Needs(ctx context.Context, k flat.Key, release string) (needs []flat.Need, err error) {
	if group, err := x.release(ctx, k.Name, release); err == nil && len(group) > 0 && x.fixed[k.Name] == nil {
		if group[0].gone {
			needs = append(needs, flat.Need{Text: "to be listed by a source, which it is not any more"})
		}
		if platform := x.project.unserved(group); platform != "" && release != x.project.lock.version(k.Name) {
			needs = append(needs, flat.Need{Text: "a file for " + platform + ", a platform of the lock, and has none"})
		}
	}
	for _, d := range x.deps(ctx, k.Name, release) {
		if d.name == "bundler" { // it is there, since it is what installs
			continue
		}
		said := x.read(d.rng)
		if said.err != nil {
			return nil, fmt.Errorf("%s %s: %w", k.Name, release, said.err)
		}
		needs = append(needs, flat.Need{
			Options: []flat.Option{
				{Key: flat.Key{Name: d.name}, Allows: x.allows(ctx, d.name, said.rng, false)},
			}, Text: strings.TrimSpace(d.name + " " + said.text),
		})
	}
	return needs, nil
}

// requirement is one that was read.
type requirement struct {
	rng  *version.GemRange
	text string // as a lock has it
	err  error
}

// read reads a requirement. Many releases say the same.
func (r *registry) read(rng string) *requirement {
	if known, ok := r.requirements.Load(rng); ok {
		return known.(*requirement)
	}
	said := &requirement{text: lockRange(rng)}
	parsed, err := version.Gem{}.ParseRange(rng)
	if said.err = err; err == nil {
		said.rng = parsed.(*version.GemRange)
	}
	r.requirements.Store(rng, said)
	return said
}

// allows tells which versions a requirement takes. A pre-release is taken where somebody names one, where it is locked,
// and where there is nothing else. Own is for a requirement of the project itself.
func (x index) allows(ctx context.Context, name string, rng *version.GemRange, own bool) func(v version.Version) bool {
	locked := x.project.lock.version(name)
	named := rng.Preview()
	if named {
		x.preview.name(name)
	}
	return func(v version.Version) bool {
		return rng.Contains(v) && (!v.Preview() || named || v.String() == locked || x.preview.allowed(name, own) || x.only(ctx, name))
	}
}

// only tells whether there is nothing but pre-releases of a gem.
func (x index) only(ctx context.Context, name string) bool {
	if x.fixed[name] != nil {
		return true
	}
	list, err := x.variants(ctx, name)
	return err == nil && !slices.ContainsFunc(list, func(v *variant) bool { return !v.v.Preview() })
}

// deps are what a version depends on, on any platform of the lock, each once.
func (x index) deps(ctx context.Context, name, release string) (all []dep) {
	if s := x.fixed[name]; s != nil {
		return slices.DeleteFunc(slices.Clone(s.deps), func(d dep) bool { return x.project.states(name, d.name) })
	}
	group, err := x.release(ctx, name, release)
	if err != nil {
		return nil
	}
	for _, v := range x.chosen(group) {
		for _, d := range v.deps {
			if !slices.Contains(all, d) {
				all = append(all, d)
			}
		}
	}
	return all
}
