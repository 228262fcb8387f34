package pom

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/mavenrepo"
)

// Elsewhere is where a package says that it goes on.
func (e *Effective) Elsewhere() (to mavenrepo.Coordinates, moved bool) {
	at := e.Root.At("distributionManagement", "relocation")
	if at == nil {
		return to, false
	}
	to.Group = cmp.Or(e.Expand(at.Value("groupId")), e.Coords.Group)
	to.Artifact = cmp.Or(e.Expand(at.Value("artifactId")), e.Coords.Artifact)
	return to, to != e.Coords
}

// Effective is a project with all that it inherits and imports.
type Effective struct {
	*Pom
	Lineage      []*Pom // the project itself, its parent, and so on
	managed      []*Dependency
	ByKey        map[string]*Dependency // of managed, the first of each key
	Dependencies []*Dependency
	asking       []asking // those, once they are put into words; see asks
	Repositories []mavenrepo.Repository
	Config       *Config
}

// Finder finds files of projects: in the project itself, and in repositories.
type Finder struct {
	Files   fs.FS
	Ask     func(ctx context.Context, repositories []mavenrepo.Repository, c mavenrepo.Coordinates, version string) ([]byte, error)
	Foreign map[string]*Effective
	Begun   map[string]bool                // those of foreign that are being built
	Own     map[mavenrepo.Coordinates]*Pom // the project's own
	Base    []mavenrepo.Repository         // what the settings name, and the central one
	Config  *Config
	read    sync.Map  // the project's own, by their files
	Parsed  *sync.Map // what repositories have, by coordinates and version, read once; nil for reading it each time
}

// exists tells for a file of the project's own whether others are there beside it.
func (s *Finder) exists(file string) func(string) bool {
	return func(name string) bool {
		name = strings.TrimPrefix(strings.NewReplacer("${project.basedir}/", "", "${basedir}/", "").Replace(name), "./")
		_, err := fs.Stat(s.Files, path.Join(path.Dir(file), name))
		return err == nil
	}
}

// The bounds of what leads to a project: ancestors, and lists that import lists.
const (
	maxLineage = 64
	maxImports = 16
)

// Effective builds a project with what it inherits and imports. Deep is how many lists lead to it.
func (s *Finder) Effective(ctx context.Context, p *Pom, deep int) (*Effective, error) {
	e := &Effective{
		Pom:          p,
		ByKey:        map[string]*Dependency{},
		Repositories: slices.Clone(s.Base),
		Config:       s.Config,
	}
	for at := p; at != nil; {
		if len(e.Lineage) == maxLineage || slices.ContainsFunc(e.Lineage, func(o *Pom) bool { return o.File == at.File }) {
			return nil, &model.Fault{
				Doing: "reading a pom",
				File:  p.File,
				Line:  1,
				Wrong: "its parents lead to each other, or there is no end of them",
			}
		}
		e.Lineage = append(e.Lineage, at)
		for _, r := range at.repositories {
			one := mavenrepo.ReadRepository(r, e.Expand)
			one.Declared = true
			known := slices.ContainsFunc(e.Repositories, func(o mavenrepo.Repository) bool { return o.ID == one.ID })
			switch {
			case one.URL == "":
			case at.Src != nil: // the project's own come before what it inherits
				e.Repositories = mavenrepo.Declare(e.Repositories, one)
			case !known: // those of others come after all that the project has
				e.Repositories = append(e.Repositories, one)
			}
		}
		if at.Parent == nil {
			break
		}
		up, err := s.parentOf(ctx, at, e)
		if err != nil {
			return nil, err
		}
		at = up
	}
	for _, at := range e.Lineage {
		e.Dependencies = append(e.Dependencies, at.Dependencies...)
		e.managed = append(e.managed, at.Managed...)
	}
	return e, s.imports(ctx, e, deep)
}

// parentOf is the parent of a file: where it says that it lies in the project, if that is the one, else in a
// repository.
func (s *Finder) parentOf(ctx context.Context, p *Pom, e *Effective) (*Pom, error) {
	coords := p.Parent.Coords
	version := e.Expand(p.Parent.Version.Text)
	if p.Src != nil && p.Parent.relative != "" {
		name := path.Join(path.Dir(p.File), p.Parent.relative)
		if info, err := fs.Stat(s.Files, name); err == nil && info.IsDir() {
			name = path.Join(name, "pom.xml")
		}
		if up, err := s.InProject(name); err == nil && up.Coords == coords {
			return up, nil
		} else if err != nil && !IsMissing(err) {
			return nil, err
		}
	}
	return s.Fetched(ctx, e.Repositories, coords, version)
}

// InProject is a file of the project, read once.
func (s *Finder) InProject(name string) (*Pom, error) {
	if known, ok := s.read.Load(name); ok {
		return known.(*Pom), nil
	}
	src, err := fs.ReadFile(s.Files, name)
	if err != nil {
		return nil, &model.Fault{Doing: "reading a pom", File: name, Wrong: model.Reason(err), Cause: err}
	}
	if len(src) > mavenrepo.MaxPOM {
		return nil, &model.Fault{
			Doing: "reading a pom", File: name, Line: 1,
			Wrong: fmt.Sprintf("it has %.1f MB, and no more than %d MB are read of one", float64(len(src))/(1<<20), mavenrepo.MaxPOM>>20),
		}
	}
	p, err := ReadPOM(name, src, true, s.Config, s.exists(name))
	if err != nil {
		return nil, err
	}
	s.read.Store(name, p)
	return p, nil
}

// IsMissing tells whether a file of the project cannot be read at all.
func IsMissing(err error) bool {
	var fault *model.Fault
	return errors.As(err, &fault) && fault.Cause != nil
}

// Fetched is a file of a repository; nil where none is to be asked.
func (s *Finder) Fetched(ctx context.Context, repositories []mavenrepo.Repository, c mavenrepo.Coordinates, version string) (*Pom, error) {
	if s.Ask == nil {
		return nil, nil
	}
	key := c.String() + ":" + version
	if s.Parsed != nil {
		if known, ok := s.Parsed.Load(key); ok {
			return known.(*Pom), nil
		}
	}
	src, err := s.Ask(ctx, repositories, c, version)
	if err != nil {
		return nil, err
	}
	p, err := ReadPOM(key, src, false, s.Config, nil)
	if err != nil {
		return nil, err
	}
	if s.Parsed != nil {
		s.Parsed.Store(key, p)
	}
	return p, nil
}

// imports puts the versions of imported lists behind those that are stated. Of several for the same, the first counts.
func (s *Finder) imports(ctx context.Context, e *Effective, deep int) error {
	var lists []*Dependency
	var stated []*Dependency
	for _, d := range e.managed {
		if d.Scope == "import" && d.Kind == "pom" {
			lists = append(lists, d)
		} else {
			stated = append(stated, d)
		}
	}
	e.managed = stated
	var all []Release
	for _, l := range lists {
		all = append(all, Release{e.CoordsOf(l), e.Expand(l.Version.Text)})
	}
	s.Ahead(ctx, e.Repositories, all)
	for _, l := range lists {
		if deep == maxImports {
			return &model.Fault{
				Doing: "reading a pom",
				File:  e.File,
				Line:  max(l.Line, 1),
				Wrong: "its lists import each other without end",
			}
		}
		c, version := e.CoordsOf(l), e.Expand(l.Version.Text)
		list, err := s.Of(ctx, e.Repositories, c, version, deep+1)
		if err == nil && list == nil {
			continue
		}
		if err != nil && deep > 0 {
			return err // the first one that imports is told
		}
		if err != nil {
			return fmt.Errorf("%s:%d imports %s: %w", l.Of.File, l.Line, c, err)
		}
		for _, d := range list.managed {
			// What a list manages is said in its own words.
			fixed := *d
			fixed.Coords = list.CoordsOf(d)
			fixed.Version.Text = list.Expand(d.Version.Text)
			e.managed = append(e.managed, &fixed)
		}
	}
	for _, d := range e.managed {
		one := *d
		one.Coords = e.CoordsOf(d)
		if k := one.Key(); e.ByKey[k] == nil {
			e.ByKey[k] = d
		}
	}
	return nil
}

// Release is a version of a package.
type Release struct {
	Coords  mavenrepo.Coordinates
	Version string
}

// Ahead asks at once for descriptions that are read one after the other then; what cannot be had is told there. What has no
// plain version is left out.
func (s *Finder) Ahead(ctx context.Context, repositories []mavenrepo.Repository, all []Release) {
	if s.Ask == nil || len(all) < 2 {
		return
	}
	var group errgroup.Group
	group.SetLimit(16)
	for _, one := range all {
		if one.Version == "" || strings.ContainsAny(one.Version, "[(,$") || s.Own[one.Coords] != nil {
			continue
		}
		group.Go(func() error {
			_, _ = s.Ask(ctx, repositories, one.Coords, one.Version)
			return nil
		})
	}
	_ = group.Wait()
}

// Of is the effective project of a version that the project or a repository has; nil where none is to be asked.
func (s *Finder) Of(
	ctx context.Context, repositories []mavenrepo.Repository, c mavenrepo.Coordinates, version string, deep int,
) (*Effective, error) {
	key := c.String() + ":" + version
	if known := s.Foreign[key]; known != nil {
		return known, nil
	}
	p := s.Own[c]
	if p == nil || p.version != version && !strings.Contains(p.version, "${") {
		var err error
		if p, err = s.Fetched(ctx, repositories, c, version); err != nil || p == nil {
			return nil, err
		}
	}
	if s.Begun[key] {
		return nil, &model.Fault{Doing: "reading a pom", File: p.File, Line: 1, Wrong: "its lists import each other"}
	}
	s.Begun[key] = true
	defer delete(s.Begun, key)
	e, err := s.Effective(ctx, p, deep)
	if err == nil {
		s.Foreign[key] = e
	}
	return e, err
}

// CoordsOf are the coordinates that a dependency names, with properties filled in.
func (e *Effective) CoordsOf(d *Dependency) mavenrepo.Coordinates {
	return mavenrepo.Coordinates{Group: e.Expand(d.Coords.Group), Artifact: e.Expand(d.Coords.Artifact)}
}

// lookUp is the value of a property, of the project itself ("project.version") or stated.
func (e *Effective) lookUp(name string) (Value, bool) {
	for _, prefix := range []string{"project.", "pom."} {
		if rest, is := strings.CutPrefix(name, prefix); is {
			switch rest {
			case "version":
				return Value{Text: e.version, Of: e.Pom}, true
			case "groupId":
				return Value{Text: e.Coords.Group, Of: e.Pom}, true
			case "artifactId":
				return Value{Text: e.Coords.Artifact, Of: e.Pom}, true
			case "parent.version":
				if e.Parent != nil {
					return e.Parent.Version, true
				}
			case "parent.groupId":
				if e.Parent != nil {
					return Value{Text: e.Parent.Coords.Group, Of: e.Pom}, true
				}
			}
		}
	}
	if name == "basedir" || name == "project.basedir" {
		return Value{Text: mavenrepo.ProjectFolder + path.Dir(e.File), Of: e.Pom}, e.Src != nil
	}
	given, isGiven := e.Config.properties[name]
	if isGiven && e.Src != nil {
		return given, true
	}
	for _, at := range e.Lineage {
		if v, ok := at.properties[name]; ok {
			return v, true
		}
	}
	return given, isGiven
}

// maxExpansions bounds how many properties a text may be made of: some could be made of others without end.
const maxExpansions = 1000

// maxValue bounds the value of a property that is put into another text, in bytes.
const maxValue = 1 << 14

// Expand puts the values of properties into a text. What has none stays as it is.
func (e *Effective) Expand(text string) string {
	left := maxExpansions
	return e.expanded(text, &left)
}

func (e *Effective) expanded(text string, left *int) string {
	before, rest, found := strings.Cut(text, "${")
	name, after, closed := strings.Cut(rest, "}")
	if *left == 0 || !found || !closed {
		return text
	}
	*left--
	with := "${" + name + "}"
	if v, ok := e.lookUp(name); ok && len(v.Text) < maxValue {
		with = e.expanded(v.Text, left)
	}
	return before + with + e.expanded(after, left)
}

// Stated is where a version is stated in the end: where it stands itself, or where the property that it is stands. Why
// says why it cannot be changed there; empty if it can.
func (e *Effective) Stated(v Value) (at Value, why string) {
	for range 20 {
		name := reference(v.Text)
		switch {
		case name == "" && strings.Contains(v.Text, "${"):
			return v, "its version is put together from several texts"
		case name == "" && v.Of.Src == nil:
			return v, v.Of.File + " states it"
		case name == "" && v.Site.End == v.Site.Start:
			return v, "its version does not stand in one piece"
		case name == "":
			return v, ""
		}
		next, ok := e.lookUp(name)
		switch {
		case !ok:
			return v, "nothing states ${" + name + "}"
		case strings.HasPrefix(name, "project.") || strings.HasPrefix(name, "pom."):
			return v, "it has the version of the project itself"
		}
		v = next
	}
	return v, "its properties lead to each other"
}

// InProfile is what a profile that is not active states for the property that a version is made of; ok is false where it does not.
func (e *Effective) InProfile(v Value, profile *Pom) (at Value, ok bool) {
	at, ok = profile.properties[reference(v.Text)]
	return at, ok
}

// asking is a dependency in its own project's words: with what its properties, and its management, say.
type asking struct {
	Dependency
	As       *Dependency // as it is written
	Key      string
	Stated   bool // its version stands with it
	Version  string
	Scope    string
	Optional string
}

// Asks are the dependencies of a project, put into words once.
func (e *Effective) Asks() []asking {
	if e.asking != nil {
		return e.asking
	}
	e.asking = make([]asking, 0, len(e.Dependencies))
	for _, d := range e.Dependencies {
		a := asking{Dependency: *d, As: d, Version: e.Expand(d.Version.Text), Scope: e.Expand(d.Scope), Optional: e.Expand(d.Optional)}
		a.Coords = e.CoordsOf(d)
		a.Key, a.Stated = a.Dependency.Key(), a.Version != ""
		if own := e.ByKey[a.Key]; own != nil {
			if a.Scope == "" {
				a.Scope = e.Expand(own.Scope)
			}
			if !a.Stated {
				a.Version = e.Expand(own.Version.Text)
			}
		}
		e.asking = append(e.asking, a)
	}
	return e.asking
}
