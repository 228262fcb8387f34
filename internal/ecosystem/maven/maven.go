// Package maven is the ecosystem of Maven: projects that state a version in one place and use it in many,
// inherit it from a parent or import lists of versions.
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

	"bellwether/internal/core/condition"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/mavenrepo"
)

// Name is the ecosystem's name.
const Name = "maven"

// Ecosystem implements ecosystem.Ecosystem.
type Ecosystem struct{}

// Kind is "maven".
func (Ecosystem) Kind() string { return Name }

// Type is "maven", which Gradle's packages have, too.
func (Ecosystem) Type() string { return mavenrepo.Type }

// Manifests are pom.xml.
func (Ecosystem) Manifests() []string { return []string{"pom.xml"} }

// Order is Maven's.
func (Ecosystem) Order() version.Order { return version.Stated{Order: version.Maven{}} }

// OSVName is "Maven".
func (Ecosystem) OSVName() string { return "Maven" }

// OSVVersion is the version as it is.
func (Ecosystem) OSVVersion(text string) string { return text }

// Supports a version of its own for each place that states one.
func (Ecosystem) Supports() ecosystem.Support { return ecosystem.Support{Places: true, Apart: true} }

// Tools are Maven and Java.
func (Ecosystem) Tools() [][]string { return [][]string{{"mvn", "--version"}, {"java", "-version"}} }

// Detect finds the folders of projects that are no module of another one.
func (e Ecosystem) Detect(x *ecosystem.Index) (dirs []string, err error) {
	files := x.Named(e.Manifests(), func(folder string) bool { return folder == "target" || folder[0] == '.' || folder == "node_modules" })
	module := map[string]bool{}
	for _, file := range files {
		src, err := fs.ReadFile(x.FS, file)
		if err != nil || len(src) > mavenrepo.MaxPOM {
			continue // reading it tells what is wrong
		}
		if p, err := readPOM(file, src, true, &config{environment: &mavenrepo.Environment{}}, nil); err == nil {
			for _, m := range p.allModules() {
				module[moduleFile(file, m)] = true
			}
		}
	}
	for _, file := range files {
		if !module[file] {
			dirs = append(dirs, path.Dir(file))
		}
	}
	slices.Sort(dirs)
	return slices.Compact(dirs), nil
}

// moduleFile is the file of a module that a file names: a folder, or the file itself.
func moduleFile(file, module string) string {
	name := path.Join(path.Dir(file), module)
	if path.Ext(name) == ".xml" {
		return name
	}
	return path.Join(name, "pom.xml")
}

// project is what the ecosystem keeps of a component between reading and resolving: its files, the first
// one first, each with what it inherits within the project.
type project struct {
	dir     string
	poms    []*effective
	own     map[mavenrepo.Coordinates]*pom
	wrapper string // the program that comes with the project; empty for none
	config  *config
	// extensions are those that the client loads before it reads anything.
	extensions *pom
}

// allModules are those of a file, also of profiles that are not active.
func (p *pom) allModules() []string {
	all := slices.Clone(p.modules)
	for _, o := range p.asleep {
		all = append(all, o.modules...)
	}
	return all
}

// maxModules bounds how many modules a project may have.
const maxModules = 5000

// Read reads a project with its modules.
func (Ecosystem) Read(x *ecosystem.Index, dir string) (*model.Component, error) {
	return read(x.FS, dir)
}

func read(files fs.FS, dir string) (*model.Component, error) {
	p := &project{dir: dir, own: map[mavenrepo.Coordinates]*pom{}}
	c := &model.Component{
		Kind: Name, Type: mavenrepo.Type, Dir: dir, Manifest: path.Join(dir, "pom.xml"), Lockless: true, Detail: p,
	}
	within := &poms{
		files: files, foreign: map[string]*effective{}, begun: map[string]bool{}, own: p.own, config: readConfig(files, dir),
	}
	p.config = within.config
	var own []*pom
	queue := []string{c.Manifest}
	for seen := map[string]bool{}; len(queue) > 0; queue = queue[1:] {
		file := queue[0]
		if seen[file] {
			continue
		}
		if seen[file] = true; len(seen) > maxModules {
			return nil, &model.Fault{
				Doing: "reading the modules of a project",
				File:  c.Manifest,
				Wrong: fmt.Sprintf("there are more than %d", maxModules),
			}
		}
		one, err := within.inProject(file)
		if errors.Is(err, fs.ErrNotExist) && file != c.Manifest {
			c.Notes = append(c.Notes, file+" is named as a module, and is not there")
			continue
		}
		if err != nil {
			return nil, err
		}
		own = append(own, one)
		p.own[one.coords] = one
		for _, m := range one.allModules() {
			queue = append(queue, moduleFile(file, m))
		}
	}
	c.Name = own[0].coords.String()
	var err error
	for _, f := range own {
		e, err := within.effective(context.Background(), f, 0)
		if err != nil {
			return nil, err
		}
		p.poms = append(p.poms, e)
	}
	if _, err := fs.Stat(files, path.Join(dir, "mvnw")); err == nil {
		p.wrapper = "./mvnw"
	}
	if p.extensions, err = readExtensions(files, within.config); err != nil {
		return nil, err
	}
	c.Requirements = p.requirements()
	return c, nil
}

// requirements are what the files ask for, each once in each place that states it.
func (p *project) requirements() (all []model.Requirement) {
	type place struct {
		name, file string
		start      int
	}
	seen := map[place]bool{}
	var when condition.Expr
	add := func(q model.Requirement) {
		q.When = when
		if at := (place{q.Name, q.Site.File, q.Site.Start}); !seen[at] {
			seen[at] = true
			all = append(all, q)
		}
	}
	for _, e := range p.poms {
		if up := e.parent; up != nil && p.own[up.coords] == nil {
			add(p.requirement(e, "parent", up.coords, up.version, 1))
		}
		p.stated(e, e.pom, add)
		for _, o := range e.asleep {
			when = condition.Term{Key: "profile", Op: condition.Equal, Value: o.profile}
			p.stated(e, o, add)
		}
		when = nil
	}
	if x := p.extensions; x != nil {
		e := &effective{pom: x, config: p.config}
		for _, d := range x.extensions {
			add(p.requirement(e, "extensions", e.coordsOf(d), d.version, d.line))
		}
	}
	return all
}

// stated gives what a file, or a profile of it, asks for.
func (p *project) stated(e *effective, of *pom, add func(model.Requirement)) {
	for _, list := range []struct {
		group string
		of    []*dependency
	}{
		{"dependencyManagement", of.managed}, {"dependencies", of.dependencies}, {"plugins", of.plugins}, {"extensions", of.extensions},
	} {
		for _, d := range list.of {
			c := e.coordsOf(d)
			if p.own[c] != nil {
				continue
			}
			v, group := d.version, list.group
			if d.scope == "import" {
				group = "imports"
			}
			if v.text == "" && list.group == "plugins" {
				continue
			}
			if m := e.byKey[(&dependency{coords: c, kind: d.kind, classifier: d.classifier}).key()]; v.text == "" && m != nil {
				v = m.version
			}
			q := p.requirement(e, group, c, v, d.line)
			q.Optional = d.managing && !p.uses(c)
			add(q)
		}
	}
}

// uses tells whether a file of the project uses a plug-in, for which another place may state the version. Maven asks for no
// other one.
func (p *project) uses(c mavenrepo.Coordinates) bool {
	return slices.ContainsFunc(p.poms, func(e *effective) bool {
		return slices.ContainsFunc(e.plugins, func(d *dependency) bool { return !d.managing && e.coordsOf(d) == c })
	})
}

// managedElsewhere is why what has no version of its own cannot be moved by itself.
const managedElsewhere = "a parent or an imported list states its version"

// requirement is a version that is asked for, with the place that states it.
func (p *project) requirement(e *effective, group string, c mavenrepo.Coordinates, v value, line int) model.Requirement {
	q := model.Requirement{
		Subject: model.Subject{Kind: mavenrepo.Type, Name: c.String()}, Name: c.String(), Group: group,
		Site: model.Site{File: e.file, Line: line},
	}
	if v.text == "" {
		q.Fixed = managedElsewhere
		return q
	}
	at, why := e.stated(v)
	q.Range, q.Fixed = e.expand(v.text), why
	if at.of.src != nil && at.site.End > at.site.Start {
		q.Site = at.site
	}
	if rng, err := (version.Maven{}).ParseRange(q.Range); err == nil && rng.(*version.MavenRange).Soft && !strings.Contains(q.Range, "${") {
		q.Locked = q.Range
	}
	return q
}

// Packages are what the files themselves ask for, imported lists of versions among them.
func (Ecosystem) Packages(c *model.Component) (all []model.Package) {
	for _, q := range c.Requirements {
		if q.Locked != "" && q.Group != "dependencyManagement" {
			all = append(all, model.Package{Subject: q.Subject, Version: q.Locked, Site: q.Site})
		}
	}
	return all
}

// Stages are the wrapper's, or the installed client's: compile, and verify with the tests' results.
func (Ecosystem) Stages(c *model.Component) []model.Stage {
	p := c.Detail.(*project)
	mvn := p.wrapper
	if mvn == "" {
		mvn = "mvn"
	}
	return []model.Stage{
		{Name: "fetch", Dir: c.Dir, Skip: "Maven fetches what it needs when it builds"},
		{Name: "build", Dir: c.Dir, Command: []string{mvn, "-B", "-ntp", "test-compile"}},
		{Name: "test", Dir: c.Dir, Command: []string{mvn, "-B", "-ntp", "verify"}, Results: []string{
			"**/target/surefire-reports/TEST-*.xml", "**/target/failsafe-reports/TEST-*.xml",
		}},
	}
}

// Connect gives the repositories that the component in dir uses.
func (Ecosystem) Connect(ctx context.Context, s ecosystem.Surroundings, dir string) (ecosystem.Registry, error) {
	config := readConfig(s.Files, dir)
	config.within(ctx, s)
	settings, err := mavenrepo.ReadSettings(s, config.environment)
	if err != nil {
		return nil, err
	}
	if config.settings != "" {
		if text, err := fs.ReadFile(s.Files, config.settings); err == nil {
			if err := settings.TakeProject(config.settings, text, s, config.environment); err != nil {
				return nil, err
			}
		}
	}
	if err := settings.Reach(s.Client); err != nil {
		return nil, &model.Fault{Doing: "reading Maven's settings (proxies)", Wrong: err.Error()}
	}
	c, err := read(s.Files, dir)
	if err != nil {
		return nil, err
	}
	r := &registry{
		around:   s,
		client:   mavenrepo.New(s, settings),
		settings: settings,
		config:   config,
		central:  true,
		inUse:    map[string]string{},
	}
	for _, q := range c.Requirements {
		if q.Locked != "" {
			r.inUse[q.Name] = q.Locked
		}
	}
	r.repositories = sync.OnceValue(func() []mavenrepo.Repository { return r.declared(c.Detail.(*project)) })
	return r, nil
}
