package gem

import (
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/model"
)

// lock is a lock of Bundler, section by section in the order of the file.
type lock struct {
	file      string
	sections  []*section
	platforms []string
	all       []*spec          // each gem once, of whatever platform
	named     map[string]*spec // those by name
	served    map[string]*spec // those of gem servers, by name
}

// section is a part of a lock: its heading, and its lines.
type section struct {
	kind  string   // "GEM", "GIT", "PATH", "PLATFORMS", "DEPENDENCIES", …
	head  []string // of one with specs: the lines before them
	specs []*spec
	lines []string // of one without specs
}

// spec is a gem with what it depends on.
type spec struct {
	name, version, platform string
	deps                    []dep
}

// dep is a dependency as the lock has it.
type dep struct{ name, rng string }

// readLock reads a lock. Conflict markers are refused with their place.
func readLock(file string, src []byte) (*lock, error) {
	l := &lock{file: file, named: map[string]*spec{}, served: map[string]*spec{}}
	var now *section
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
			now = &section{kind: bare}
			l.sections = append(l.sections, now)
		case now == nil:
			return nil, fault(n, "this stands in no section", "write the lock anew with bundle lock")
		case now.kind == "GEM" || now.kind == "GIT" || now.kind == "PATH" || now.kind == "PLUGIN SOURCE":
			if err := now.line(bare, indent); err != nil {
				return nil, fault(n, err.Error(), "write the lock anew with bundle lock")
			}
		default:
			now.lines = append(now.lines, line)
			if now.kind == "PLATFORMS" {
				l.platforms = append(l.platforms, bare)
			}
		}
	}
	for _, s := range l.sections {
		for _, one := range s.specs {
			if s.kind == "GEM" {
				l.served[one.name] = one
			}
			if l.named[one.name] == nil {
				l.named[one.name] = one
				l.all = append(l.all, one)
			}
		}
	}
	return l, nil
}

// line reads a line of a section with specs.
func (s *section) line(bare string, indent int) error {
	switch indent {
	case 2:
		s.head = append(s.head, bare)
		return nil
	case 4:
		name, rest, ok := strings.Cut(bare, " (")
		if !ok || !strings.HasSuffix(rest, ")") {
			return fmt.Errorf("%q is no gem with its version", bare)
		}
		one := &spec{name: name}
		one.version, one.platform = splitPlatform(strings.TrimSuffix(rest, ")"))
		s.specs = append(s.specs, one)
		return nil
	case 6:
		if len(s.specs) == 0 {
			return fmt.Errorf("%q depends on nothing", bare)
		}
		name, rest, _ := strings.Cut(strings.TrimSuffix(bare, "!"), " (")
		last := s.specs[len(s.specs)-1]
		last.deps = append(last.deps, dep{name, strings.TrimSuffix(rest, ")")})
		return nil
	}
	return fmt.Errorf("%q is indented in no known way", bare)
}

// remotes are the addresses of a section.
func (s *section) remotes() (all []string) {
	for _, h := range s.head {
		if address, ok := strings.CutPrefix(h, "remote: "); ok {
			all = append(all, address)
		}
	}
	return all
}

// gems are all gems of the lock, each once, of whatever platform.
func (l *lock) gems() []*spec { return l.all }

func (l *lock) has(name string) bool { return l.named[name] != nil }

// asksFor tells whether a gem is among the dependencies of the project itself.
func (l *lock) asksFor(name string) bool {
	s := l.section("DEPENDENCIES")
	return s != nil && slices.ContainsFunc(s.lines, func(line string) bool { return dependencyOf(line) == name })
}

// dependencyOf is the gem of a line of DEPENDENCIES.
func dependencyOf(line string) string {
	name, _, _ := strings.Cut(strings.TrimSpace(strings.TrimSuffix(line, "!")), " ")
	return name
}

// version is the version of a gem, "" for one that is not there.
func (l *lock) version(name string) string {
	if s := l.named[name]; s != nil {
		return s.version
	}
	return ""
}

// section is the first of a kind; nil for none.
func (l *lock) section(kind string) *section {
	for _, s := range l.sections {
		if s.kind == kind {
			return s
		}
	}
	return nil
}

// led is what leads to a gem from a requirement.
type led struct {
	path []string
	site int // the requirement, -1 for none
}

// via finds what leads to each gem, by the shortest way from a requirement.
func (l *lock) via(requirements []model.Requirement) map[string]led {
	found := map[string]led{}
	specs := l.named
	var queue []string
	for i, q := range requirements {
		if _, known := found[q.Name]; !known && specs[q.Name] != nil {
			found[q.Name] = led{site: i}
			queue = append(queue, q.Name)
		}
	}
	for len(queue) > 0 {
		name := queue[0]
		queue = queue[1:]
		s := specs[name]
		for _, d := range s.deps {
			if _, known := found[d.name]; !known && specs[d.name] != nil {
				found[d.name] = led{append(slices.Clone(found[name].path), s.name+" "+s.version), found[name].site}
				queue = append(queue, d.name)
			}
		}
	}
	for name := range specs {
		if _, known := found[name]; !known {
			found[name] = led{site: -1}
		}
	}
	return found
}

// write is the lock as text, as Bundler writes it.
func (l *lock) write() []byte {
	var parts []string
	for _, s := range l.sections {
		var b strings.Builder
		b.WriteString(s.kind + "\n")
		for _, h := range s.head {
			b.WriteString("  " + h + "\n")
		}
		for _, one := range s.specs {
			fmt.Fprintf(&b, "    %s (%s)\n", one.name, fullName(one.version, one.platform))
			for _, d := range one.deps {
				b.WriteString("      " + d.name)
				if d.rng != "" {
					b.WriteString(" (" + d.rng + ")")
				}
				b.WriteString("\n")
			}
		}
		for _, line := range s.lines {
			b.WriteString(line + "\n")
		}
		parts = append(parts, b.String())
	}
	return []byte(strings.Join(parts, "\n"))
}
