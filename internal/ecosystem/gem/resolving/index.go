package resolving

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/flat"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/gem/lock"
	"bellwether/internal/ecosystem/gem/project"
	"bellwether/internal/ecosystem/gem/registry"
)

// index is the gem servers as the resolver asks them. What comes from a repository or a folder has
// the one version that the lock has.
type index struct {
	*registry.Registry
	project *project.Project
	fixed   map[string]*lock.Spec    // gems from elsewhere
	within  map[string]*lock.Section // the section of the lock that a gem of a server is in
	fresh   []*lock.Section          // repositories that the lock does not have
	preview *previews
}

func newIndex(ctx context.Context, r *registry.Registry, p *project.Project, changes []contract.Change) (x index, err error) {
	x = index{r, p, map[string]*lock.Spec{}, map[string]*lock.Section{}, nil, newPreviews(p)}
	if x.fresh, err = sourcedAnew(ctx, r, p, changes); err != nil {
		return x, err
	}
	for _, s := range p.Lock.Sections {
		for _, one := range s.Specs {
			switch {
			case s.Kind == "PATH", s.Kind == "GIT" && p.InEffectAt(s):
				x.fixed[one.Name] = one
			case s.Kind == "GEM":
				x.within[one.Name] = s
			}
		}
	}
	for _, s := range x.fresh {
		for _, one := range s.Specs {
			x.fixed[one.Name] = one
		}
	}
	return x, nil
}

// Releases are the versions that there are. Of those that a platform of the lock cannot have, Needs
// says so.
func (x index) Releases(ctx context.Context, k flat.Key) (all []flat.Release, err error) {
	if s := x.fixed[k.Name]; s != nil {
		v, err := version.Gem{}.Parse(s.Version)
		if err != nil {
			return nil, err
		}
		return []flat.Release{{Text: s.Version, Version: v}}, nil
	}
	list, err := x.Variants(ctx, k.Name)
	if text := x.project.Lock.Version(k.Name); err == registry.ErrUnknown && text != "" { // it stays as the lock has it
		v, verr := version.Gem{}.Parse(text)
		return []flat.Release{{Text: text, Version: v}}, verr
	}
	if err != nil {
		return nil, err
	}
	for _, group := range registry.ByVersion(list) {
		unfit := !x.runs(group)
		all = append(all, flat.Release{
			Text: group[0].Version, Version: group[0].V, Unfit: unfit, Shunned: unfit || group[0].Gone,
		})
	}
	return all, nil
}

// runs tells whether a version runs on the Ruby at hand, in the variants that the lock's platforms get.
func (x index) runs(group []*registry.Variant) bool {
	chosen := x.chosen(group)
	return chosen != nil && !slices.ContainsFunc(chosen, func(v *registry.Variant) bool { return !x.Fits(v) })
}

// AtHand is true: a gem's list has the needs of all its releases.
func (x index) AtHand(flat.Key) bool { return true }

// chosen are the variants of a version that the platforms of the lock have; nil if one has none.
func (x index) chosen(group []*registry.Variant) (chosen []*registry.Variant) {
	for _, platform := range x.project.Lock.Platforms {
		best := registry.BestFor(group, platform)
		if best == nil {
			return nil
		}
		if !slices.Contains(chosen, best) {
			chosen = append(chosen, best)
		}
	}
	if len(x.project.Lock.Platforms) == 0 {
		return group
	}
	return chosen
}

// general is the platform of files that are for all.
const general = "ruby"

// fallen says for which platforms of the lock a version has only the general file, where the one before had their own.
func (x index) fallen(ctx context.Context, name, was, is string) (told []string) {
	before, err := x.Release(ctx, name, was)
	if err != nil {
		return nil
	}
	after, err := x.Release(ctx, name, is)
	if err != nil {
		return nil
	}
	for _, platform := range x.project.Lock.Platforms {
		had, has := registry.BestFor(before, platform), registry.BestFor(after, platform)
		if had != nil && has != nil && had.Platform != general && has.Platform == general {
			told = append(told, fmt.Sprintf(
				"%s %s has no file of its own for %s any more, which %s had: what of it has to be compiled is compiled where it is installed",
				name, is, platform, was,
			))
		}
	}
	return told
}

// Needs are the gems that a version needs on any platform of the lock.
func (x index) Needs(ctx context.Context, k flat.Key, release string) (needs []flat.Need, err error) {
	if group, err := x.Release(ctx, k.Name, release); err == nil && len(group) > 0 && x.fixed[k.Name] == nil {
		if group[0].Gone {
			needs = append(needs, flat.Need{Text: "to be listed by a source, which it is not any more"})
		}
		if platform := registry.Unserved(x.project, group); platform != "" && release != x.project.Lock.Version(k.Name) {
			needs = append(needs, flat.Need{Text: "a file for " + platform + ", a platform of the lock, and has none"})
		}
	}
	for _, d := range x.deps(ctx, k.Name, release) {
		if d.Name == "bundler" { // it is there, since it is what installs
			continue
		}
		said := read(x.Registry, d.Rng)
		if said.err != nil {
			return nil, fmt.Errorf("%s %s: %w", k.Name, release, said.err)
		}
		needs = append(needs, flat.Need{
			Options: []flat.Option{
				{Key: flat.Key{Name: d.Name}, Allows: x.allows(ctx, d.Name, said.rng, false)},
			}, Text: strings.TrimSpace(d.Name + " " + said.text),
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
func read(r *registry.Registry, rng string) *requirement {
	if known, ok := r.Requirements.Load(rng); ok {
		return known.(*requirement)
	}
	said := &requirement{text: lock.LockRange(rng)}
	parsed, err := version.Gem{}.ParseRange(rng)
	if said.err = err; err == nil {
		said.rng = parsed.(*version.GemRange)
	}
	r.Requirements.Store(rng, said)
	return said
}

// allows tells which versions a requirement takes. A pre-release is taken where somebody names one, where it is locked,
// and where there is nothing else. Own is for a requirement of the project itself.
func (x index) allows(ctx context.Context, name string, rng *version.GemRange, own bool) func(v version.Version) bool {
	locked := x.project.Lock.Version(name)
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
	list, err := x.Variants(ctx, name)
	return err == nil && !slices.ContainsFunc(list, func(v *registry.Variant) bool { return !v.V.Preview() })
}

// deps are what a version depends on, on any platform of the lock, each once.
func (x index) deps(ctx context.Context, name, release string) (all []lock.Dep) {
	if s := x.fixed[name]; s != nil {
		return slices.DeleteFunc(slices.Clone(s.Deps), func(d lock.Dep) bool { return x.project.States(name, d.Name) })
	}
	group, err := x.Release(ctx, name, release)
	if err != nil {
		return nil
	}
	for _, v := range x.chosen(group) {
		for _, d := range v.Deps {
			if !slices.Contains(all, d) {
				all = append(all, d)
			}
		}
	}
	return all
}
