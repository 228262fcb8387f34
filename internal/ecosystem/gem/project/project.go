// Package project is a Gemfile with its gemspecs and its lock.
package project

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gem/gemfile"
	"bellwether/internal/ecosystem/gem/lock"
)

// Name is the ecosystem's name and Package URL type.
const Name = "gem"

// Project is what the ecosystem keeps of a component between reading and resolving.
type Project struct {
	Dir      string
	Gemfile  *gemfile.Gemfile
	manifest []byte
	Lock     *lock.Lock // nil for none
	LockText []byte
	asked    []model.Requirement // what has a line among the lock's dependencies
	Specced  []gemfile.Declared  // what the gemspecs declare
	// Stated are what the gems of the project itself ask for in their gemspecs, by gem and name.
	Stated   map[string]map[string]model.Requirement
	StatedIn map[string]string // those gemspecs, by gem
	vague    map[string]bool   // those whose gemspec asks for something under a condition, or computes it
}

// readSpecs reads the requirements of the gemspec in a folder: they are its users', and are
// met by the lock.
func readSpecs(files fs.FS, dir string, p *Project) (all []model.Requirement, err error) {
	entries, err := fs.ReadDir(files, dir)
	if err != nil {
		return nil, nil
	}
	for _, e := range entries {
		if path.Ext(e.Name()) != ".gemspec" {
			continue
		}
		name := path.Join(dir, e.Name())
		src, err := fs.ReadFile(files, name)
		if err != nil {
			return nil, &model.Fault{Doing: "reading a gemspec", File: name, Wrong: model.Reason(err)}
		}
		p.Gemfile.Texts[name] = src
		own := strings.TrimSuffix(e.Name(), ".gemspec")
		p.StatedIn[own] = name
		p.Stated[own] = map[string]model.Requirement{}
		spec := gemfile.SpecDependencies(name, string(src), nil)
		p.vague[own] = spec.Computes.File != ""
		p.Gemfile.Notes = append(p.Gemfile.Notes, spec.Notes...)
		if p.Gemfile.Computes.File == "" {
			p.Gemfile.Computes = spec.Computes
		}
		for _, d := range spec.Gems {
			p.Specced = append(p.Specced, d)
			q := p.requirement(d)
			all = append(all, q)
			p.state(own, q)
		}
	}
	return all, nil
}

// state keeps what a gemspec asks for: for itself, or for those who develop it.
func (p *Project) state(gem string, q model.Requirement) {
	if q.Fixed != "" {
		return
	}
	if q.Group == gemfile.Development {
		p.asked = append(p.asked, q)
		return
	}
	if _, twice := p.Stated[gem][q.Name]; !twice {
		p.Stated[gem][q.Name] = q
	}
}

// Read reads the component in a folder.
func Read(files fs.FS, dir string) (*model.Component, error) {
	c := &model.Component{Kind: Name, Type: Name, Dir: dir, Manifest: path.Join(dir, "Gemfile")}
	src, err := fs.ReadFile(files, c.Manifest)
	if errors.Is(err, fs.ErrNotExist) {
		c.Manifest = path.Join(dir, "gems.rb")
		src, err = fs.ReadFile(files, c.Manifest)
	}
	if err != nil {
		return nil, &model.Fault{Doing: "reading the Gemfile", File: c.Manifest, Wrong: model.Reason(err)}
	}
	p := &Project{
		Dir:      dir,
		manifest: src,
		Stated:   map[string]map[string]model.Requirement{},
		StatedIn: map[string]string{},
		vague:    map[string]bool{},
	}
	if p.Gemfile, err = gemfile.Read(files, c.Manifest, src); err != nil {
		return nil, err
	}
	p.Gemfile.Rakefile = exists(files, path.Join(dir, "Rakefile"))
	p.Gemfile.Tests = exists(files, path.Join(dir, "test"))
	name := lock.For(c.Manifest)
	p.LockText, err = fs.ReadFile(files, name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		p.LockText = nil
	case err != nil:
		return nil, &model.Fault{Doing: "reading the lock of Bundler", File: name, Wrong: model.Reason(err)}
	default:
		c.Locks = []model.Lock{{File: name}}
		if p.Lock, err = lock.Read(name, p.LockText); err != nil {
			return nil, err
		}
	}
	c.Detail = p
	for _, d := range p.Gemfile.Gems {
		if p.off(d) {
			c.Notes = append(c.Notes, fmt.Sprintf(
				"%s asks for %s %s under a condition that did not hold when the lock was written: it is left as it is", d.Site, d.Name, d.Rng,
			))
			continue
		}
		c.Requirements = append(c.Requirements, p.requirement(d))
	}
	p.asked = slices.Clone(c.Requirements)
	for _, spec := range p.Gemfile.Specs {
		more, err := readSpecs(files, spec, p)
		if err != nil {
			return nil, err
		}
		c.Requirements = append(c.Requirements, more...)
	}
	c.Notes = append(p.Gemfile.Notes, c.Notes...)
	return c, nil
}

// requirement is a gem line as a requirement of the component.
func (p *Project) requirement(d gemfile.Declared) model.Requirement {
	q := model.Requirement{
		Subject: model.Subject{Kind: Name, Name: d.Name}, Name: d.Name, Group: d.Group, Range: d.Rng, Site: d.Site, Fixed: d.Fixed,
		When: d.When,
	}
	if d.Git.Address != "" {
		q.Range = d.Git.String()
	}
	if p.Lock != nil {
		q.Locked = p.Lock.Version(d.Name)
	}
	return q
}

// off tells whether a line is one of several for a gem, under a condition that did not hold when the lock was written: that
// has another one of them.
func (p *Project) off(d gemfile.Declared) bool {
	if p.Lock == nil || d.Fixed != gemfile.Conditional || p.Lock.AsksForAs(d.Name, d.Rng) {
		return false
	}
	return slices.ContainsFunc(p.Gemfile.Gems, func(o gemfile.Declared) bool { return o.Name == d.Name && p.Lock.AsksForAs(o.Name, o.Rng) })
}

func exists(files fs.FS, name string) bool {
	_, err := fs.Stat(files, name)
	return err == nil
}

// InEffect tells whether a line of the Gemfile is for any platform of the lock: Bundler lists what is
// not among the dependencies alone.
func (p *Project) InEffect(q model.Requirement) bool {
	if p.Lock.Has(q.Name) {
		return true
	}
	return (q.Fixed == "" || q.Fixed == "git source") && !p.Lock.AsksFor(q.Name) && gemfile.Holds(q.When, p.Lock.Platforms)
}

// Versions are those that a requirement takes: of a gem from a repository, those that stand beside it.
func (p *Project) Versions(q model.Requirement) string {
	if !strings.HasPrefix(q.Range, gemfile.SourceMark) {
		return q.Range
	}
	for _, d := range p.Gemfile.Gems {
		if d.Name == q.Name {
			return d.Rng
		}
	}
	return ""
}

// Outdated tells whether the lock has a version that its Gemfile does not take any more.
func (p *Project) Outdated(name string, rng version.Range) bool {
	v, err := version.Gem{}.Parse(p.Lock.Version(name))
	return err == nil && p.Lock.Has(name) && !rng.Contains(v)
}

// Addition is a new line of the Gemfile.
func (p *Project) Addition(change contract.Change) model.Splice {
	main := p.Gemfile.Main
	src := p.Gemfile.Texts[main]
	end := "\n"
	if bytes.Contains(src, []byte("\r\n")) {
		end = "\r\n"
	}
	var lines []gemfile.Declared
	for _, d := range p.Gemfile.Gems {
		if d.File == main && !d.Nested && d.Literal() {
			lines = append(lines, d)
		}
	}
	mark := `"`
	if len(lines) > 0 {
		mark = lines[len(lines)-1].Quote(src)
	}
	text := "gem " + gemfile.ArgumentsFor(change, mark)
	sorted := slices.IsSortedFunc(lines, func(a, b gemfile.Declared) int { return strings.Compare(a.Name, b.Name) })
	for _, d := range lines {
		if sorted && len(lines) > 1 && d.Name > change.New {
			return gemfile.Splice(main, src, d.Start, d.Start, text+end)
		}
	}
	at := len(src)
	if len(lines) > 0 {
		at = lines[len(lines)-1].End
		for at < len(src) && src[at] != '\n' {
			at++
		}
		at = min(at+1, len(src))
	}
	if at > 0 && src[at-1] != '\n' {
		text = end + text
	}
	return gemfile.Splice(main, src, at, at, text+end)
}

// InEffectAt tells whether a section GIT is what the Gemfile asks for. Of a Gemfile that computes
// every one may be.
func (p *Project) InEffectAt(s *lock.Section) bool {
	if p.Gemfile.Computes.File != "" {
		return true
	}
	return slices.ContainsFunc(p.Gemfile.Gems, func(d gemfile.Declared) bool { return d.Git.Address != "" && Meets(d.Git, s) })
}

// Meets tells whether a section GIT is of a repository and of the branch, tag or ref that is asked for.
func Meets(r gemfile.Repository, s *lock.Section) bool {
	key, at := "", ""
	for _, line := range s.Head {
		if k, v, ok := strings.Cut(line, ": "); ok && slices.Contains([]string{"branch", "tag", "ref"}, k) {
			key, at = k, v
		}
	}
	return slices.Contains(s.Remotes(), r.Address) && key == r.Key && at == r.At
}

// Source is a file of the component as it was read.
func (p *Project) Source(file string, s ecosystem.Surroundings) ([]byte, error) {
	if p.Gemfile.Main == file {
		return p.manifest, nil
	}
	return fs.ReadFile(s.Files, file)
}

// QuotedLike is a requirement as its line writes it: each part in quotes of its own, as the old
// ones were, where there were several.
func (p *Project) QuotedLike(q model.Requirement, fresh string) string {
	old := q.Site.Text
	if !strings.ContainsAny(old, `"'`) {
		return fresh
	}
	mark := old[strings.IndexAny(old, `"'`):][:1]
	return strings.ReplaceAll(fresh, ", ", mark+", "+mark)
}

// Restatements are requirements as they are written anew, by their places.
type Restatements map[model.Site]string

// now is a requirement as it is written then.
func (p *Project) now(q model.Requirement, ranges Restatements) string {
	if fresh, ok := ranges[q.Site]; ok {
		return fresh
	}
	return p.Versions(q)
}

// States tells whether a gem of the project itself asks for another one in a gemspec that was read.
func (p *Project) States(name, other string) bool {
	_, ok := p.Stated[name][other]
	return ok
}

// RestatedIn is a gem of the project as its gemspec has it now: what it asks for is what the
// gemspec says.
func (p *Project) RestatedIn(one *lock.Spec, ranges Restatements) *lock.Spec {
	said := p.Stated[one.Name]
	if said == nil {
		return one
	}
	fresh := *one
	fresh.Deps = nil
	if !p.vague[one.Name] {
		for name, q := range said {
			fresh.Deps = append(fresh.Deps, lock.NewDep(name, p.now(q, ranges)))
		}
		slices.SortFunc(fresh.Deps, func(a, b lock.Dep) int { return strings.Compare(a.Name, b.Name) })
		return &fresh
	}
	for _, d := range one.Deps {
		if q, ok := said[d.Name]; ok {
			d.Rng = lock.LockRange(p.now(q, ranges))
		}
		fresh.Deps = append(fresh.Deps, d)
	}
	return &fresh
}

// unread are the reasons for which the lock's word about a dependency counts, and not the Gemfile's.
var unread = []string{gemfile.Conditional, gemfile.ComputedVersion, gemfile.UnknownSource}

// Dependencies are the lines of DEPENDENCIES: what the Gemfile and its gemspecs ask for, and what
// the lock has of gems whose lines are computed.
func (p *Project) Dependencies(lines []string, ranges Restatements, gone []string) (fresh []string) {
	asked := map[string]string{}
	for _, q := range p.asked {
		if _, twice := asked[q.Name]; twice || slices.Contains(unread, q.Fixed) {
			continue
		}
		line := "  " + q.Name
		if text := lock.LockRange(p.now(q, ranges)); text != "" {
			line += " (" + text + ")"
		}
		asked[q.Name] = line
	}
	for _, line := range lines {
		name := lock.DependencyOf(line)
		now, known := asked[name]
		delete(asked, name)
		switch {
		case known && p.Gemfile.Pinned[name]:
			fresh = append(fresh, now+"!")
		case known:
			fresh = append(fresh, now)
		case slices.Contains(gone, name):
		case p.Gemfile.Computes.File != "" || p.own(name):
			fresh = append(fresh, line)
		}
	}
	for name, line := range asked {
		if p.Gemfile.Pinned[name] {
			line += "!"
		}
		fresh = append(fresh, line)
	}
	slices.SortFunc(fresh, func(a, b string) int { return strings.Compare(lock.DependencyOf(a), lock.DependencyOf(b)) })
	return fresh
}

// own tells whether a gem is the project's own: it comes from a folder of it.
func (p *Project) own(name string) bool {
	for _, s := range p.Lock.Sections {
		if s.Kind == "PATH" && slices.ContainsFunc(s.Specs, func(one *lock.Spec) bool { return one.Name == name }) {
			return true
		}
	}
	return false
}
