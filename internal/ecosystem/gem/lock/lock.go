// Package lock reads and writes the lock of Bundler.
package lock

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/model"
)

// For is the lock that belongs to a manifest.
func For(manifest string) string {
	if path.Base(manifest) == "gems.rb" {
		return path.Join(path.Dir(manifest), "gems.locked")
	}
	return manifest + ".lock"
}

// FullName is how a lock and an index name a gem of a platform: "1.14.2-x86_64-linux".
func FullName(version, platform string) string {
	if platform == "" || platform == "ruby" {
		return version
	}
	return version + "-" + platform
}

// SplitPlatform parts a version from a platform behind it. A version has no hyphen in what gem
// servers list.
func SplitPlatform(text string) (version, platform string) {
	version, platform, _ = strings.Cut(text, "-")
	return version, platform
}

// Lock is a lock of Bundler, section by section in the order of the file.
type Lock struct {
	File      string
	Sections  []*Section
	Platforms []string
	All       []*Spec          // each gem once, of whatever platform
	Named     map[string]*Spec // those by name
	Served    map[string]*Spec // those of gem servers, by name
}

// Section is a part of a lock: its heading, and its lines.
type Section struct {
	Kind  string   // "GEM", "GIT", "PATH", "PLATFORMS", "DEPENDENCIES", …
	Head  []string // of one with specs: the lines before them
	Specs []*Spec
	Lines []string // of one without specs
}

// Spec is a gem with what it depends on.
type Spec struct {
	Name, Version, Platform string
	Deps                    []Dep
}

// Dep is a dependency as the lock has it.
type Dep struct{ Name, Rng string }

// Read reads a lock. Conflict markers are refused with their place.
func Read(file string, src []byte) (*Lock, error) {
	l := &Lock{File: file, Named: map[string]*Spec{}, Served: map[string]*Spec{}}
	var now *Section
	fault := func(n int, wrong, next string) error {
		return &model.Fault{Doing: "reading the lock of Bundler", File: file, Line: n, Wrong: wrong, Next: next}
	}
	for i, line := range strings.Split(strings.ReplaceAll(string(src), "\r\n", "\n"), "\n") {
		n := i + 1
		line = strings.TrimRight(line, "\r")
		bare := strings.TrimLeft(line, " ")
		indent := len(line) - len(bare)
		switch {
		case strings.HasPrefix(line, "<<<<<<<"), strings.HasPrefix(line, ">>>>>>>"), line == "=======":
			return nil, fault(n, "a merge left its conflict markers here", "merge it, or write the lock anew with bundle lock")
		case bare == "":
		case indent == 0:
			now = &Section{Kind: bare}
			l.Sections = append(l.Sections, now)
		case now == nil:
			return nil, fault(n, "this stands in no section", "write the lock anew with bundle lock")
		case now.Kind == "GEM" || now.Kind == "GIT" || now.Kind == "PATH" || now.Kind == "PLUGIN SOURCE":
			if err := now.line(bare, indent); err != nil {
				return nil, fault(n, err.Error(), "write the lock anew with bundle lock")
			}
		default:
			now.Lines = append(now.Lines, line)
			if now.Kind == "PLATFORMS" {
				l.Platforms = append(l.Platforms, bare)
			}
		}
	}
	for _, s := range l.Sections {
		for _, one := range s.Specs {
			if s.Kind == "GEM" {
				l.Served[one.Name] = one
			}
			if l.Named[one.Name] == nil {
				l.Named[one.Name] = one
				l.All = append(l.All, one)
			}
		}
	}
	return l, nil
}

// line reads a line of a section with specs.
func (s *Section) line(bare string, indent int) error {
	switch indent {
	case 2:
		s.Head = append(s.Head, bare)
		return nil
	case 4:
		name, rest, ok := strings.Cut(bare, " (")
		if !ok || !strings.HasSuffix(rest, ")") {
			return fmt.Errorf("%q is no gem with its version", bare)
		}
		one := &Spec{Name: name}
		one.Version, one.Platform = SplitPlatform(strings.TrimSuffix(rest, ")"))
		s.Specs = append(s.Specs, one)
		return nil
	case 6:
		if len(s.Specs) == 0 {
			return fmt.Errorf("%q depends on nothing", bare)
		}
		name, rest, _ := strings.Cut(strings.TrimSuffix(bare, "!"), " (")
		last := s.Specs[len(s.Specs)-1]
		last.Deps = append(last.Deps, Dep{name, strings.TrimSuffix(rest, ")")})
		return nil
	}
	return fmt.Errorf("%q is indented in no known way", bare)
}

// Remotes are the addresses of a section.
func (s *Section) Remotes() (all []string) {
	for _, h := range s.Head {
		if address, ok := strings.CutPrefix(h, "remote: "); ok {
			all = append(all, address)
		}
	}
	return all
}

// Gems are all gems of the lock, each once, of whatever platform.
func (l *Lock) Gems() []*Spec { return l.All }

// Has tells whether a gem is in the lock.
func (l *Lock) Has(name string) bool { return l.Named[name] != nil }

// AsksFor tells whether a gem is among the dependencies of the project itself.
func (l *Lock) AsksFor(name string) bool {
	s := l.Section("DEPENDENCIES")
	return s != nil && slices.ContainsFunc(s.Lines, func(line string) bool { return DependencyOf(line) == name })
}

// AsksForAs tells whether a gem is among the dependencies of the project itself with a requirement of the Gemfile.
func (l *Lock) AsksForAs(name, rng string) bool {
	s := l.Section("DEPENDENCIES")
	return s != nil && slices.ContainsFunc(s.Lines, func(line string) bool {
		_, asked, _ := strings.Cut(strings.TrimSuffix(strings.TrimSpace(line), "!"), " ")
		return DependencyOf(line) == name && strings.Trim(asked, "()") == LockRange(rng)
	})
}

// DependencyOf is the gem of a line of DEPENDENCIES.
func DependencyOf(line string) string {
	name, _, _ := strings.Cut(strings.TrimSpace(strings.TrimSuffix(line, "!")), " ")
	return name
}

// Version is the version of a gem, "" for one that is not there.
func (l *Lock) Version(name string) string {
	if s := l.Named[name]; s != nil {
		return s.Version
	}
	return ""
}

// Section is the first of a kind; nil for none.
func (l *Lock) Section(kind string) *Section {
	for _, s := range l.Sections {
		if s.Kind == kind {
			return s
		}
	}
	return nil
}

// led is what leads to a gem from a requirement.
type led struct {
	Path []string
	Site int // the requirement, -1 for none
}

// Via finds what leads to each gem, by the shortest way from a requirement.
func (l *Lock) Via(requirements []model.Requirement) map[string]led {
	found := map[string]led{}
	specs := l.Named
	var queue []string
	for i, q := range requirements {
		if _, known := found[q.Name]; !known && specs[q.Name] != nil {
			found[q.Name] = led{Site: i}
			queue = append(queue, q.Name)
		}
	}
	for len(queue) > 0 {
		name := queue[0]
		queue = queue[1:]
		s := specs[name]
		for _, d := range s.Deps {
			if _, known := found[d.Name]; !known && specs[d.Name] != nil {
				found[d.Name] = led{append(slices.Clone(found[name].Path), s.Name+" "+s.Version), found[name].Site}
				queue = append(queue, d.Name)
			}
		}
	}
	for name := range specs {
		if _, known := found[name]; !known {
			found[name] = led{Site: -1}
		}
	}
	return found
}

// Write is the lock as text, as Bundler writes it.
func (l *Lock) Write() []byte {
	var parts []string
	for _, s := range l.Sections {
		var b strings.Builder
		b.WriteString(s.Kind + "\n")
		for _, h := range s.Head {
			b.WriteString("  " + h + "\n")
		}
		for _, one := range s.Specs {
			fmt.Fprintf(&b, "    %s (%s)\n", one.Name, FullName(one.Version, one.Platform))
			for _, d := range one.Deps {
				b.WriteString("      " + d.Name)
				if d.Rng != "" {
					b.WriteString(" (" + d.Rng + ")")
				}
				b.WriteString("\n")
			}
		}
		for _, line := range s.Lines {
			b.WriteString(line + "\n")
		}
		parts = append(parts, b.String())
	}
	return []byte(strings.Join(parts, "\n"))
}

// LockRange is a requirement as a lock has it: its parts in the reverse order of their texts, and
// nothing for any version.
func LockRange(rng string) string {
	var parts []string
	for part := range strings.SplitSeq(rng, ",") {
		part = strings.TrimSpace(part)
		if part == "" || part == ">= 0" {
			continue
		}
		if c := part[0]; c >= '0' && c <= '9' {
			part = "= " + part
		}
		parts = append(parts, part)
	}
	slices.Sort(parts)
	slices.Reverse(parts)
	return strings.Join(parts, ", ")
}

// NewDep is a line of what a gem depends on, as a lock writes it.
func NewDep(name, rng string) Dep { return Dep{name, LockRange(rng)} }

// Full is the name of a gem with its version and platform.
func (s *Spec) Full() string { return s.Name + "-" + FullName(s.Version, s.Platform) }

// PlaceFor is where a new section GEM goes: among those that are there, by their addresses.
func (l *Lock) PlaceFor(fresh *Section) int {
	at := 0
	for i, s := range l.Sections {
		switch s.Kind {
		case "GIT", "PATH", "PLUGIN SOURCE":
			at = i + 1
		case "GEM":
			if strings.Join(s.Remotes(), " ") < strings.Join(fresh.Remotes(), " ") {
				at = i + 1
			}
		}
	}
	return at
}
