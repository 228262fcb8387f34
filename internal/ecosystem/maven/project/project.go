// Package project is a project with its modules, as its own files state it.
package project

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/condition"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/core/xmldoc"
	"bellwether/internal/ecosystem/maven/pom"
	"bellwether/internal/ecosystem/mavenrepo"
)

// Name is the ecosystem's name.
const Name = "maven"

// Project is what the ecosystem keeps of a component between reading and resolving: its files, the first
// one first, each with what it inherits within the project.
type Project struct {
	Dir     string
	Poms    []*pom.Effective
	Own     map[mavenrepo.Coordinates]*pom.Pom
	Wrapper string // the program that comes with the project; empty for none
	config  *pom.Config
	// extensions are those that the client loads before it reads anything.
	extensions *pom.Pom
}

// maxModules bounds how many modules a project may have.
const maxModules = 5000

// Read reads the project in a folder, with its modules.
func Read(files fs.FS, dir string) (*model.Component, error) {
	p := &Project{Dir: dir, Own: map[mavenrepo.Coordinates]*pom.Pom{}}
	c := &model.Component{
		Kind: Name, Type: mavenrepo.Type, Dir: dir, Manifest: path.Join(dir, "pom.xml"), Lockless: true, Detail: p,
	}
	within := &pom.Finder{
		Files: files, Foreign: map[string]*pom.Effective{}, Begun: map[string]bool{}, Own: p.Own, Config: pom.ReadConfig(files, dir),
	}
	p.config = within.Config
	var own []*pom.Pom
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
		one, err := within.InProject(file)
		if errors.Is(err, fs.ErrNotExist) && file != c.Manifest {
			c.Notes = append(c.Notes, file+" is named as a module, and is not there")
			continue
		}
		if err != nil && file != c.Manifest { // the rest is looked at all the same
			c.Unread = append(c.Unread, model.Missed{Dir: path.Dir(file), Err: err})
			continue
		}
		if err != nil {
			return nil, err
		}
		own = append(own, one)
		p.Own[one.Coords] = one
		for _, m := range one.AllModules() {
			queue = append(queue, pom.ModuleFile(file, m))
		}
	}
	c.Name = own[0].Coords.String()
	var err error
	for _, f := range own {
		e, err := within.Effective(context.Background(), f, 0)
		if err != nil {
			return nil, err
		}
		p.Poms = append(p.Poms, e)
	}
	if _, err := fs.Stat(files, path.Join(dir, "mvnw")); err == nil {
		p.Wrapper = "./mvnw"
	}
	if p.extensions, err = pom.ReadExtensions(files, within.Config); err != nil {
		return nil, err
	}
	c.Requirements = p.requirements()
	return c, nil
}

// requirements are what the files ask for, each once in each place that states it.
func (p *Project) requirements() (all []model.Requirement) {
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
	for _, e := range p.Poms {
		if up := e.Parent; up != nil && p.Own[up.Coords] == nil {
			q := p.requirement(e, "parent", up.Coords, up.Version, 1)
			q.Role = model.Imports
			add(q)
		}
		p.stated(e, e.Pom, add)
		for _, o := range e.Asleep {
			when = condition.Term{Key: "profile", Op: condition.Equal, Value: o.Profile}
			p.stated(e, o, add)
			p.overriding(e, o, add)
		}
		when = nil
	}
	if x := p.extensions; x != nil {
		e := &pom.Effective{Pom: x, Config: p.config}
		for _, d := range x.Extensions {
			add(p.requirement(e, "extensions", e.CoordsOf(d), d.Version, d.Line))
		}
	}
	return all
}

// listed is what one list of a file asks for.
type listed struct {
	group string
	of    []*pom.Dependency
}

func listsOf(of *pom.Pom) []listed {
	return []listed{
		{"dependencyManagement", of.Managed}, {"dependencies", of.Dependencies}, {"plugins", of.Plugins}, {"extensions", of.Extensions},
	}
}

// stated gives what a file, or a profile of it, asks for.
func (p *Project) stated(e *pom.Effective, of *pom.Pom, add func(model.Requirement)) {
	for _, list := range listsOf(of) {
		for _, d := range list.of {
			c := e.CoordsOf(d)
			if p.Own[c] != nil {
				continue
			}
			v := d.Version
			if v.Text == "" && list.group == "plugins" {
				continue
			}
			if m := e.ByKey[(&pom.Dependency{Coords: c, Kind: d.Kind, Classifier: d.Classifier}).Key()]; v.Text == "" && m != nil {
				v = m.Version
			}
			q := p.requirement(e, list.group, c, v, d.Line)
			if d.Scope == "import" {
				q.Group, q.Role = "imports", model.Imports
			}
			q.Optional = d.Managing && !p.uses(c)
			add(q)
		}
	}
}

// overriding gives what a profile that is not active states for the versions of what the file asks for, in properties.
func (p *Project) overriding(e *pom.Effective, profile *pom.Pom, add func(model.Requirement)) {
	for _, list := range listsOf(e.Pom) {
		for _, d := range list.of {
			c := e.CoordsOf(d)
			if v, ok := e.InProfile(d.Version, profile); ok && p.Own[c] == nil {
				q := p.requirement(e, list.group, c, v, d.Line)
				q.Optional = true
				add(q)
			}
		}
	}
}

// uses tells whether a file of the project uses a plug-in, for which another place may state the version. Maven asks for no
// other one.
func (p *Project) uses(c mavenrepo.Coordinates) bool {
	return slices.ContainsFunc(p.Poms, func(e *pom.Effective) bool {
		return slices.ContainsFunc(e.Plugins, func(d *pom.Dependency) bool { return !d.Managing && e.CoordsOf(d) == c })
	})
}

// managedElsewhere is why what has no version of its own cannot be moved by itself.
const managedElsewhere = "a parent or an imported list states its version"

// requirement is a version that is asked for, with the place that states it.
func (p *Project) requirement(e *pom.Effective, group string, c mavenrepo.Coordinates, v pom.Value, line int) model.Requirement {
	q := model.Requirement{
		Subject: model.Subject{Kind: mavenrepo.Type, Name: c.String()}, Name: c.String(), Group: group,
		Site: model.Site{File: e.File, Line: line},
	}
	if v.Text == "" {
		q.Role, q.Fixed = model.Follows, managedElsewhere
		return q
	}
	at, why := e.Stated(v)
	q.Range, q.Fixed = e.Expand(v.Text), why
	if at.Of.Src != nil && at.Site.End > at.Site.Start {
		q.Site = at.Site
	}
	if rng, err := (version.Maven{}).ParseRange(q.Range); err == nil && rng.(*version.MavenRange).Soft && !strings.Contains(q.Range, "${") {
		q.Locked = q.Range
	}
	return q
}

// SamePlace tells whether two versions stand in one place.
func SamePlace(a, b model.Site) bool {
	return a.File == b.File && a.Start == b.Start && a.End > a.Start
}

// Parted has packages state their versions themselves that shared a place with others and are to be apart from them: also
// those that stay, since the place goes on without them.
func (p *Project) Parted(c *model.Component, moves []model.Move, apart []string, into map[string][]model.Splice) map[string]bool {
	all := map[string]bool{}
	for _, name := range apart {
		for _, q := range c.Find(name) {
			shared := slices.ContainsFunc(c.Requirements, func(o model.Requirement) bool { return o.Name != name && SamePlace(o.Site, q.Site) })
			if q.Fixed != "" || !shared {
				continue
			}
			to := q.Locked
			for _, m := range moves {
				if m.Says(q) {
					to = m.To
				}
			}
			for _, e := range p.Poms {
				for _, d := range e.Named(name) {
					at, _ := e.Stated(d.Version)
					if stated := d.At.Child("version"); stated != nil && SamePlace(at.Site, q.Site) {
						all[name] = true
						into[e.File] = append(into[e.File], pom.Spliced(e.Pom, stated.Site.Start, stated.Site.End, xmldoc.Escaped(to)))
					}
				}
			}
		}
	}
	return all
}

// File is one of the project's own files as it was read; nil for another one.
func (p *Project) File(name string) *pom.Pom {
	for _, e := range p.Poms {
		for _, at := range e.Lineage {
			if at.File == name && at.Src != nil {
				return at
			}
		}
	}
	return nil
}

// Together tells whether some project file is made of a file and of one of others: it, or what it inherits.
func (p *Project) Together(files []string, file string) bool {
	return slices.ContainsFunc(p.Poms, func(e *pom.Effective) bool {
		of := func(name string) bool {
			return slices.ContainsFunc(e.Lineage, func(at *pom.Pom) bool { return at.File == name })
		}
		return of(file) && slices.ContainsFunc(files, of)
	})
}

// Addition puts a dependency behind the last one of the first file, in the form that it has.
func (p *Project) Addition(c mavenrepo.Coordinates, rng string) (file string, s model.Splice) {
	first := p.Poms[0].Pom
	end := first.LineEnd()
	parts := []string{
		"<groupId>" + xmldoc.Escaped(c.Group) + "</groupId>", "<artifactId>" + xmldoc.Escaped(c.Artifact) + "</artifactId>",
		"<version>" + xmldoc.Escaped(rng) + "</version>",
	}
	list := first.Root.Child("dependencies")
	if all := list.All("dependency"); len(all) > 0 {
		last := all[len(all)-1]
		indent, within := pom.IndentAt(first.Src, last.Start), ""
		if bytes.Contains(first.Src[last.Start:last.End], []byte("\n")) && len(last.Children) > 0 {
			within = end + pom.IndentAt(first.Src, last.Children[0].Start)
		}
		text := end + indent + "<dependency>" + within + strings.Join(parts, within)
		if within != "" {
			text += end + indent
		}
		return first.File, pom.Spliced(first, last.End, last.End, text+"</dependency>")
	}
	text := "  <dependencies>" + end + "    <dependency>" + strings.Join(parts, "") + "</dependency>" + end + "  </dependencies>" + end
	if list != nil {
		return first.File, pom.Spliced(first, list.Start, list.End, strings.TrimSpace(text))
	}
	at := bytes.LastIndex(first.Src[:first.Root.End], []byte("</"))
	return first.File, pom.Spliced(first, at, at, text)
}
