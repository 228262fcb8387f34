package maven

import (
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

// effective is a project with all that it inherits and imports.
type effective struct {
	*pom
	lineage      []*pom // the project itself, its parent, and so on
	managed      []*dependency
	byKey        map[string]*dependency // of managed, the first of each key
	dependencies []*dependency
	asking       []asking // those, once they are put into words; see asks
	repositories []mavenrepo.Repository
	config       *config
}

// poms finds files of projects: in the project itself, and in repositories.
type poms struct {
	files   fs.FS
	ask     func(ctx context.Context, repositories []mavenrepo.Repository, c mavenrepo.Coordinates, version string) ([]byte, error)
	foreign map[string]*effective
	begun   map[string]bool                // those of foreign that are being built
	own     map[mavenrepo.Coordinates]*pom // the project's own
	base    []mavenrepo.Repository         // what the settings name, and the central one
	config  *config
	read    sync.Map  // the project's own, by their files
	parsed  *sync.Map // what repositories have, by coordinates and version, read once; nil for reading it each time
}

// exists tells for a file of the project's own whether others are there beside it.
func (s *poms) exists(file string) func(string) bool {
	return func(name string) bool {
		name = strings.TrimPrefix(strings.NewReplacer("${project.basedir}/", "", "${basedir}/", "").Replace(name), "./")
		_, err := fs.Stat(s.files, path.Join(path.Dir(file), name))
		return err == nil
	}
}

// The bounds of what leads to a project: ancestors, and lists that import lists.
const (
	maxLineage = 64
	maxImports = 16
)

// effective builds a project with what it inherits and imports. Deep is how many lists lead to it.
func (s *poms) effective(ctx context.Context, p *pom, deep int) (*effective, error) {
	e := &effective{
		pom:          p,
		byKey:        map[string]*dependency{},
		repositories: slices.Clone(s.base),
		config:       s.config,
	}
	for at := p; at != nil; {
		if len(e.lineage) == maxLineage || slices.ContainsFunc(e.lineage, func(o *pom) bool { return o.file == at.file }) {
			return nil, &model.Fault{
				Doing: "reading a pom",
				File:  p.file,
				Line:  1,
				Wrong: "its parents lead to each other, or there is no end of them",
			}
		}
		e.lineage = append(e.lineage, at)
		for _, r := range at.repositories {
			one := mavenrepo.ReadRepository(r, e.expand)
			one.Declared = true
			known := slices.ContainsFunc(e.repositories, func(o mavenrepo.Repository) bool { return o.ID == one.ID })
			switch {
			case one.URL == "":
			case at.src != nil: // the project's own come before what it inherits
				e.repositories = mavenrepo.Declare(e.repositories, one)
			case !known: // those of others come after all that the project has
				e.repositories = append(e.repositories, one)
			}
		}
		if at.parent == nil {
			break
		}
		up, err := s.parentOf(ctx, at, e)
		if err != nil {
			return nil, err
		}
		at = up
	}
	for _, at := range e.lineage {
		e.dependencies = append(e.dependencies, at.dependencies...)
		e.managed = append(e.managed, at.managed...)
	}
	return e, s.imports(ctx, e, deep)
}

// parentOf is the parent of a file: where it says that it lies in the project, if that is the one, else in a
// repository.
func (s *poms) parentOf(ctx context.Context, p *pom, e *effective) (*pom, error) {
	coords := p.parent.coords
	version := e.expand(p.parent.version.text)
	if p.src != nil && p.parent.relative != "" {
		name := path.Join(path.Dir(p.file), p.parent.relative)
		if info, err := fs.Stat(s.files, name); err == nil && info.IsDir() {
			name = path.Join(name, "pom.xml")
		}
		if up, err := s.inProject(name); err == nil && up.coords == coords {
			return up, nil
		} else if err != nil && !isMissing(err) {
			return nil, err
		}
	}
	return s.fetched(ctx, e.repositories, coords, version)
}

// inProject is a file of the project, read once.
func (s *poms) inProject(name string) (*pom, error) {
	if known, ok := s.read.Load(name); ok {
		return known.(*pom), nil
	}
	src, err := fs.ReadFile(s.files, name)
	if err != nil {
		return nil, &model.Fault{Doing: "reading a pom", File: name, Wrong: model.Reason(err), Cause: err}
	}
	if len(src) > mavenrepo.MaxPOM {
		return nil, &model.Fault{
			Doing: "reading a pom", File: name, Line: 1,
			Wrong: fmt.Sprintf("it has %.1f MB, and no more than %d MB are read of one", float64(len(src))/(1<<20), mavenrepo.MaxPOM>>20),
		}
	}
	p, err := readPOM(name, src, true, s.config, s.exists(name))
	if err != nil {
		return nil, err
	}
	s.read.Store(name, p)
	return p, nil
}

// isMissing tells whether a file of the project cannot be read at all.
func isMissing(err error) bool {
	var fault *model.Fault
	return errors.As(err, &fault) && fault.Cause != nil
}

// fetched is a file of a repository; nil where none is to be asked.
func (s *poms) fetched(ctx context.Context, repositories []mavenrepo.Repository, c mavenrepo.Coordinates, version string) (*pom, error) {
	if s.ask == nil {
		return nil, nil
	}
	key := c.String() + ":" + version
	if s.parsed != nil {
		if known, ok := s.parsed.Load(key); ok {
			return known.(*pom), nil
		}
	}
	src, err := s.ask(ctx, repositories, c, version)
	if err != nil {
		return nil, err
	}
	p, err := readPOM(key, src, false, s.config, nil)
	if err != nil {
		return nil, err
	}
	if s.parsed != nil {
		s.parsed.Store(key, p)
	}
	return p, nil
}

// imports puts the versions of imported lists behind those that are stated. Of several for the same, the first counts.
func (s *poms) imports(ctx context.Context, e *effective, deep int) error {
	var lists []*dependency
	var stated []*dependency
	for _, d := range e.managed {
		if d.scope == "import" && d.kind == "pom" {
			lists = append(lists, d)
		} else {
			stated = append(stated, d)
		}
	}
	e.managed = stated
	var all []release
	for _, l := range lists {
		all = append(all, release{e.coordsOf(l), e.expand(l.version.text)})
	}
	s.ahead(ctx, e.repositories, all)
	for _, l := range lists {
		if deep == maxImports {
			return &model.Fault{
				Doing: "reading a pom",
				File:  e.file,
				Line:  max(l.line, 1),
				Wrong: "its lists import each other without end",
			}
		}
		c, version := e.coordsOf(l), e.expand(l.version.text)
		list, err := s.of(ctx, e.repositories, c, version, deep+1)
		if err == nil && list == nil {
			continue
		}
		if err != nil && deep > 0 {
			return err // the first one that imports is told
		}
		if err != nil {
			return fmt.Errorf("%s:%d imports %s: %w", l.of.file, l.line, c, err)
		}
		for _, d := range list.managed {
			// What a list manages is said in its own words.
			fixed := *d
			fixed.coords = list.coordsOf(d)
			fixed.version.text = list.expand(d.version.text)
			e.managed = append(e.managed, &fixed)
		}
	}
	for _, d := range e.managed {
		one := *d
		one.coords = e.coordsOf(d)
		if k := one.key(); e.byKey[k] == nil {
			e.byKey[k] = d
		}
	}
	return nil
}

// release is a version of a package.
type release struct {
	coords  mavenrepo.Coordinates
	version string
}

// ahead asks at once for descriptions that are read one after the other then; what cannot be had is told there. What has no
// plain version is left out.
func (s *poms) ahead(ctx context.Context, repositories []mavenrepo.Repository, all []release) {
	if s.ask == nil || len(all) < 2 {
		return
	}
	var group errgroup.Group
	group.SetLimit(16)
	for _, one := range all {
		if one.version == "" || strings.ContainsAny(one.version, "[(,$") || s.own[one.coords] != nil {
			continue
		}
		group.Go(func() error {
			_, _ = s.ask(ctx, repositories, one.coords, one.version)
			return nil
		})
	}
	_ = group.Wait()
}

// of is the effective project of a version that the project or a repository has; nil where none is to be asked.
func (s *poms) of(
	ctx context.Context, repositories []mavenrepo.Repository, c mavenrepo.Coordinates, version string, deep int,
) (*effective, error) {
	key := c.String() + ":" + version
	if known := s.foreign[key]; known != nil {
		return known, nil
	}
	p := s.own[c]
	if p == nil || p.version != version && !strings.Contains(p.version, "${") {
		var err error
		if p, err = s.fetched(ctx, repositories, c, version); err != nil || p == nil {
			return nil, err
		}
	}
	if s.begun[key] {
		return nil, &model.Fault{Doing: "reading a pom", File: p.file, Line: 1, Wrong: "its lists import each other"}
	}
	s.begun[key] = true
	defer delete(s.begun, key)
	e, err := s.effective(ctx, p, deep)
	if err == nil {
		s.foreign[key] = e
	}
	return e, err
}

func (e *effective) coordsOf(d *dependency) mavenrepo.Coordinates {
	return mavenrepo.Coordinates{Group: e.expand(d.coords.Group), Artifact: e.expand(d.coords.Artifact)}
}

// lookUp is the value of a property, of the project itself ("project.version") or stated.
func (e *effective) lookUp(name string) (value, bool) {
	for _, prefix := range []string{"project.", "pom."} {
		if rest, is := strings.CutPrefix(name, prefix); is {
			switch rest {
			case "version":
				return value{text: e.version, of: e.pom}, true
			case "groupId":
				return value{text: e.coords.Group, of: e.pom}, true
			case "artifactId":
				return value{text: e.coords.Artifact, of: e.pom}, true
			case "parent.version":
				if e.parent != nil {
					return e.parent.version, true
				}
			case "parent.groupId":
				if e.parent != nil {
					return value{text: e.parent.coords.Group, of: e.pom}, true
				}
			}
		}
	}
	if name == "basedir" || name == "project.basedir" {
		return value{text: mavenrepo.ProjectFolder + path.Dir(e.file), of: e.pom}, e.src != nil
	}
	given, isGiven := e.config.properties[name]
	if isGiven && e.src != nil {
		return given, true
	}
	for _, at := range e.lineage {
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

// expand puts the values of properties into a text. What has none stays as it is.
func (e *effective) expand(text string) string {
	left := maxExpansions
	return e.expanded(text, &left)
}

func (e *effective) expanded(text string, left *int) string {
	before, rest, found := strings.Cut(text, "${")
	name, after, closed := strings.Cut(rest, "}")
	if *left == 0 || !found || !closed {
		return text
	}
	*left--
	with := "${" + name + "}"
	if v, ok := e.lookUp(name); ok && len(v.text) < maxValue {
		with = e.expanded(v.text, left)
	}
	return before + with + e.expanded(after, left)
}

// stated is where a version is stated in the end: where it stands itself, or where the property that it is stands. Why
// says why it cannot be changed there; empty if it can.
func (e *effective) stated(v value) (at value, why string) {
	for range 20 {
		name := reference(v.text)
		switch {
		case name == "" && strings.Contains(v.text, "${"):
			return v, "its version is put together from several texts"
		case name == "" && v.of.src == nil:
			return v, v.of.file + " states it"
		case name == "" && v.site.End == v.site.Start:
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
