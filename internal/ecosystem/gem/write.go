package gem

import (
	"context"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"bellwether/internal/core/flat"
	"bellwether/internal/core/harmless"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
)

// source is a file of the component as it was read.
func (p *project) source(file string, s ecosystem.Surroundings) ([]byte, error) {
	if p.gemfile.main == file {
		return p.manifest, nil
	}
	return fs.ReadFile(s.Files, file)
}

// quotedLike is a requirement as its line writes it: each part in quotes of its own, as the old
// ones were, where there were several.
func (p *project) quotedLike(q model.Requirement, fresh string) string {
	old := q.Site.Text
	if !strings.ContainsAny(old, `"'`) {
		return fresh
	}
	mark := old[strings.IndexAny(old, `"'`):][:1]
	return strings.ReplaceAll(fresh, ", ", mark+", "+mark)
}

// restatements are requirements as they are written anew, by their places.
type restatements map[model.Site]string

// now is a requirement as it is written then.
func (p *project) now(q model.Requirement, ranges restatements) string {
	if fresh, ok := ranges[q.Site]; ok {
		return fresh
	}
	return p.versions(q)
}

// relocked is the lock of a state without the requirements that are gone. Entries that say the
// same as before keep their bytes.
func (x index) relocked(ctx context.Context, result *flat.Result, ranges restatements, gone []string) (_ []byte, err error) {
	l := &lock{file: x.project.lock.file, platforms: x.project.lock.platforms}
	placed := map[string]bool{}
	into := map[*section]*section{} // of the lock as it was, what it becomes
	for _, s := range withSources(x.project.lock.sections, x.fresh) {
		fresh := &section{kind: s.kind, head: s.head, lines: s.lines}
		into[s] = fresh
		switch s.kind {
		case "GIT", "PATH", "PLUGIN SOURCE":
			for _, one := range s.specs {
				if s.kind == "GIT" && (x.fixed[one.name] != one || result.Of(flat.Key{Name: one.name}) == nil) {
					continue // it comes from elsewhere by now, or nobody needs it
				}
				fresh.specs = append(fresh.specs, x.project.restatedIn(one, ranges))
				placed[one.name] = true
			}
			if s.kind == "GIT" && len(fresh.specs) == 0 {
				continue
			}
		case "GEM":
			for _, one := range s.specs {
				c := result.Of(flat.Key{Name: one.name})
				if c != nil && c.Version == one.version && c.Was == c.Version && x.fixed[one.name] == nil && x.belongs(one.name, s) {
					fresh.specs = append(fresh.specs, one)
					placed[one.name] = true
				}
			}
		case "DEPENDENCIES":
			fresh.lines = x.project.dependencies(s.lines, ranges, gone)
		}
		l.sections = append(l.sections, fresh)
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
		section.specs = append(section.specs, specs...)
	}
	for _, s := range l.sections {
		if s.kind == "GEM" {
			slices.SortStableFunc(s.specs, func(a, b *spec) int { return strings.Compare(a.full(), b.full()) })
		}
		if s.kind == "CHECKSUMS" {
			s.lines = x.checksums(ctx, s.lines, result)
		}
	}
	text := l.write()
	if strings.Contains(string(x.project.lockText), "\r\n") {
		text = []byte(strings.ReplaceAll(string(text), "\n", "\r\n"))
	}
	return text, nil
}

func (s *spec) full() string { return s.name + "-" + fullName(s.version, s.platform) }

// belongs tells whether a gem can be in a section: one with a source of its own is in that of its source.
func (x index) belongs(name string, s *section) bool {
	own := x.ownSource(name)
	return own == "" || slices.Contains(s.remotes(), own)
}

// sectionFor is the section that a new gem belongs to: that of its own source, or of the global one.
func (x index) sectionFor(l *lock, name string) *section {
	wanted := x.sources
	if own := x.ownSource(name); own != "" {
		wanted = []string{own}
	}
	for _, s := range l.sections {
		if s.kind == "GEM" && slices.ContainsFunc(s.remotes(), func(r string) bool { return slices.Contains(wanted, withSlash(r)) }) {
			return s
		}
	}
	fresh := &section{kind: "GEM"}
	for _, address := range wanted {
		plain, _ := harmless.WithoutLogin(address)
		fresh.head = append(fresh.head, "remote: "+plain)
	}
	fresh.head = append(fresh.head, "specs:")
	l.sections = slices.Insert(l.sections, l.placeFor(fresh), fresh)
	return fresh
}

// placeFor is where a new section GEM goes: among those that are there, by their addresses.
func (l *lock) placeFor(fresh *section) int {
	at := 0
	for i, s := range l.sections {
		switch s.kind {
		case "GIT", "PATH", "PLUGIN SOURCE":
			at = i + 1
		case "GEM":
			if strings.Join(s.remotes(), " ") < strings.Join(fresh.remotes(), " ") {
				at = i + 1
			}
		}
	}
	return at
}

// specs are the entries of a gem's version, one a variant.
func (x index) specs(ctx context.Context, name, release string) (specs []*spec, err error) {
	group, err := x.release(ctx, name, release)
	if err != nil {
		return nil, err
	}
	for _, v := range x.chosen(group) {
		one := &spec{name: name, version: v.version, platform: v.platform}
		for _, d := range v.deps {
			one.deps = append(one.deps, dep{d.name, lockRange(d.rng)})
		}
		slices.SortFunc(one.deps, func(a, b dep) int { return strings.Compare(a.name, b.name) })
		specs = append(specs, one)
	}
	if specs == nil {
		return nil, fmt.Errorf("%s %s: %w", name, release, errMissing)
	}
	return specs, nil
}

// states tells whether a gem of the project itself asks for another one in a gemspec that was read.
func (p *project) states(name, other string) bool {
	_, ok := p.stated[name][other]
	return ok
}

// restatedIn is a gem of the project as its gemspec has it now: what it asks for is what the
// gemspec says.
func (p *project) restatedIn(one *spec, ranges restatements) *spec {
	said := p.stated[one.name]
	if said == nil {
		return one
	}
	fresh := *one
	fresh.deps = nil
	if !p.vague[one.name] {
		for name, q := range said {
			fresh.deps = append(fresh.deps, newDep(name, p.now(q, ranges)))
		}
		slices.SortFunc(fresh.deps, func(a, b dep) int { return strings.Compare(a.name, b.name) })
		return &fresh
	}
	for _, d := range one.deps {
		if q, ok := said[d.name]; ok {
			d.rng = lockRange(p.now(q, ranges))
		}
		fresh.deps = append(fresh.deps, d)
	}
	return &fresh
}

// dependencies are the lines of DEPENDENCIES: what the Gemfile and its gemspecs ask for, and what
// the lock has of gems whose lines are computed.
func (p *project) dependencies(lines []string, ranges restatements, gone []string) (fresh []string) {
	asked := map[string]string{}
	for _, q := range p.asked {
		if _, twice := asked[q.Name]; twice || q.Fixed == conditional || q.Fixed == computedVersion {
			continue
		}
		line := "  " + q.Name
		if text := lockRange(p.now(q, ranges)); text != "" {
			line += " (" + text + ")"
		}
		asked[q.Name] = line
	}
	for _, line := range lines {
		name := dependencyOf(line)
		now, known := asked[name]
		delete(asked, name)
		switch {
		case known && p.gemfile.pinned[name]:
			fresh = append(fresh, now+"!")
		case known:
			fresh = append(fresh, now)
		case slices.Contains(gone, name):
		case p.gemfile.computes.File != "" || p.own(name):
			fresh = append(fresh, line)
		}
	}
	for name, line := range asked {
		if p.gemfile.pinned[name] {
			line += "!"
		}
		fresh = append(fresh, line)
	}
	slices.SortFunc(fresh, func(a, b string) int { return strings.Compare(dependencyOf(a), dependencyOf(b)) })
	return fresh
}

// own tells whether a gem is the project's own: it comes from a folder of it.
func (p *project) own(name string) bool {
	for _, s := range p.lock.sections {
		if s.kind == "PATH" && slices.ContainsFunc(s.specs, func(one *spec) bool { return one.name == name }) {
			return true
		}
	}
	return false
}

// checksums are the lines of CHECKSUMS of a state: those of gems that stay, and of new ones as the
// gem server states them.
func (x index) checksums(ctx context.Context, lines []string, result *flat.Result) (fresh []string) {
	for _, line := range lines {
		name, rest, _ := strings.Cut(strings.TrimSpace(line), " (")
		release, _, _ := strings.Cut(rest, ")")
		bare, _ := splitPlatform(release)
		if c := result.Of(flat.Key{Name: name}); c != nil && c.Version == bare {
			fresh = append(fresh, line)
		}
	}
	for _, c := range result.Chosen {
		if c.Was == c.Version || x.fixed[c.Key.Name] != nil {
			continue
		}
		group, err := x.release(ctx, c.Key.Name, c.Version)
		if err != nil {
			continue
		}
		for _, v := range x.chosen(group) {
			line := fmt.Sprintf("  %s (%s)", c.Key.Name, fullName(v.version, v.platform))
			if v.sha256 != "" {
				line += " sha256=" + v.sha256
			}
			fresh = append(fresh, line)
		}
	}
	slices.Sort(fresh)
	return fresh
}
