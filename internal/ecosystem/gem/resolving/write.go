package resolving

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/flat"
	"bellwether/internal/core/harmless"
	"bellwether/internal/ecosystem/gem/lock"
	"bellwether/internal/ecosystem/gem/project"
	"bellwether/internal/ecosystem/gem/registry"
)

// relocked is the lock of a state without the requirements that are gone. Entries that say the
// same as before keep their bytes.
func (x index) relocked(ctx context.Context, result *flat.Result, ranges project.Restatements, gone []string) (_ []byte, err error) {
	l := &lock.Lock{File: x.project.Lock.File, Platforms: x.project.Lock.Platforms}
	placed := map[string]bool{}
	into := map[*lock.Section]*lock.Section{} // of the lock as it was, what it becomes
	for _, s := range withSources(x.project.Lock.Sections, x.fresh) {
		fresh := &lock.Section{Kind: s.Kind, Head: s.Head, Lines: s.Lines}
		into[s] = fresh
		switch s.Kind {
		case "GIT", "PATH", "PLUGIN SOURCE":
			for _, one := range s.Specs {
				if s.Kind == "GIT" && (x.fixed[one.Name] != one || result.Of(flat.Key{Name: one.Name}) == nil) {
					continue // it comes from elsewhere by now, or nobody needs it
				}
				fresh.Specs = append(fresh.Specs, x.project.RestatedIn(one, ranges))
				placed[one.Name] = true
			}
			if s.Kind == "GIT" && len(fresh.Specs) == 0 {
				continue
			}
		case "GEM":
			for _, one := range s.Specs {
				c := result.Of(flat.Key{Name: one.Name})
				if c != nil && c.Version == one.Version && c.Was == c.Version && x.fixed[one.Name] == nil && x.belongs(one.Name, s) {
					fresh.Specs = append(fresh.Specs, one)
					placed[one.Name] = true
				}
			}
		case "DEPENDENCIES":
			fresh.Lines = x.project.Dependencies(s.Lines, ranges, gone)
		}
		l.Sections = append(l.Sections, fresh)
	}
	for _, c := range result.Chosen {
		if placed[c.Key.Name] {
			continue
		}
		section := into[x.within[c.Key.Name]]
		if section == nil || !x.belongs(c.Key.Name, section) {
			section = x.sectionFor(l, c.Key.Name)
		}
		specs, err := x.specs(ctx, c.Key.Name, c.Version)
		if err != nil {
			return nil, err
		}
		section.Specs = append(section.Specs, specs...)
	}
	for _, s := range l.Sections {
		if s.Kind == "GEM" {
			slices.SortStableFunc(s.Specs, func(a, b *lock.Spec) int { return strings.Compare(a.Full(), b.Full()) })
		}
		if s.Kind == "CHECKSUMS" {
			s.Lines = x.checksums(ctx, s.Lines, result)
		}
	}
	text := l.Write()
	if strings.Contains(string(x.project.LockText), "\r\n") {
		text = []byte(strings.ReplaceAll(string(text), "\n", "\r\n"))
	}
	return text, nil
}

// belongs tells whether a gem can be in a section: one with a source of its own is in that of its source.
func (x index) belongs(name string, s *lock.Section) bool {
	own := x.OwnSource(name)
	return own == "" || slices.Contains(s.Remotes(), own)
}

// sectionFor is the section that a new gem belongs to: that of its own source, or of the global one.
func (x index) sectionFor(l *lock.Lock, name string) *lock.Section {
	wanted := x.Sources
	if own := x.OwnSource(name); own != "" {
		wanted = []string{own}
	}
	for _, s := range l.Sections {
		if s.Kind == "GEM" && slices.ContainsFunc(s.Remotes(), func(r string) bool { return slices.Contains(wanted, registry.WithSlash(r)) }) {
			return s
		}
	}
	fresh := &lock.Section{Kind: "GEM"}
	for _, address := range wanted {
		plain, _ := harmless.WithoutLogin(address)
		fresh.Head = append(fresh.Head, "remote: "+plain)
	}
	fresh.Head = append(fresh.Head, "specs:")
	l.Sections = slices.Insert(l.Sections, l.PlaceFor(fresh), fresh)
	return fresh
}

// specs are the entries of a gem's version, one a variant.
func (x index) specs(ctx context.Context, name, release string) (specs []*lock.Spec, err error) {
	group, err := x.Release(ctx, name, release)
	if err != nil {
		return nil, err
	}
	for _, v := range x.chosen(group) {
		one := &lock.Spec{Name: name, Version: v.Version, Platform: v.Platform}
		for _, d := range v.Deps {
			one.Deps = append(one.Deps, lock.Dep{Name: d.Name, Rng: lock.LockRange(d.Rng)})
		}
		slices.SortFunc(one.Deps, func(a, b lock.Dep) int { return strings.Compare(a.Name, b.Name) })
		specs = append(specs, one)
	}
	if specs == nil {
		return nil, fmt.Errorf("%s %s: %w", name, release, registry.ErrMissing)
	}
	return specs, nil
}

// checksums are the lines of CHECKSUMS of a state: those of gems that stay, and of new ones as the
// gem server states them.
func (x index) checksums(ctx context.Context, lines []string, result *flat.Result) (fresh []string) {
	for _, line := range lines {
		name, rest, _ := strings.Cut(strings.TrimSpace(line), " (")
		release, _, _ := strings.Cut(rest, ")")
		bare, _ := lock.SplitPlatform(release)
		if c := result.Of(flat.Key{Name: name}); c != nil && c.Version == bare {
			fresh = append(fresh, line)
		}
	}
	for _, c := range result.Chosen {
		if c.Was == c.Version || x.fixed[c.Key.Name] != nil {
			continue
		}
		group, err := x.Release(ctx, c.Key.Name, c.Version)
		if err != nil {
			continue
		}
		for _, v := range x.chosen(group) {
			line := fmt.Sprintf("  %s (%s)", c.Key.Name, lock.FullName(v.Version, v.Platform))
			if v.Sha256 != "" {
				line += " sha256=" + v.Sha256
			}
			fresh = append(fresh, line)
		}
	}
	slices.Sort(fresh)
	return fresh
}
