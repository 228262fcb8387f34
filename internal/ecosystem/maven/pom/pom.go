// Package pom reads pom.xml with what it inherits and imports, and changes it in place.
package pom

import (
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/xmldoc"
	"bellwether/internal/ecosystem/mavenrepo"
)

// ModuleFile is the file of a module that a file names: a folder, or the file itself.
func ModuleFile(file, module string) string {
	name := path.Join(path.Dir(file), module)
	if path.Ext(name) == ".xml" {
		return name
	}
	return path.Join(name, "pom.xml")
}

// AllModules are those of a file, also of profiles that are not active.
func (p *Pom) AllModules() []string {
	all := slices.Clone(p.modules)
	for _, o := range p.Asleep {
		all = append(all, o.modules...)
	}
	return all
}

// Pom is a project's file as it is written, before anything is inherited.
type Pom struct {
	File         string // relative to the project; for what a repository has, its coordinates
	Src          []byte // nil for what a repository has
	Root         *xmldoc.Element
	Coords       mavenrepo.Coordinates
	version      string
	Parent       *parent
	properties   map[string]Value
	Managed      []*Dependency
	Dependencies []*Dependency
	Plugins      []*Dependency // with what they need themselves
	Extensions   []*Dependency
	Profile      string // the profile that it is, where it is not active; empty for a file
	Asleep       []*Pom // profiles of the project's own that are not active: what they state is read, and does not count
	modules      []string
	repositories []*xmldoc.Element
	Packaging    string
}

// parent is what a file inherits from.
type parent struct {
	Coords   mavenrepo.Coordinates
	Version  Value
	relative string // where it lies in the project; empty for nowhere
}

// Value is a text with the place where it stands. One that can be changed there has a place with a length.
type Value struct {
	Text string
	Site model.Site
	Of   *Pom
}

// Dependency is what a file asks for, or manages.
type Dependency struct {
	Coords     mavenrepo.Coordinates
	Version    Value
	Kind       string // "jar", if nothing is said
	Classifier string
	Scope      string
	Optional   string
	Exclusions []mavenrepo.Coordinates
	Managing   bool // of a plug-in: it says which version others get, and uses none
	Line       int
	Of         *Pom
	At         *xmldoc.Element
}

// Key is what a managed version is for: the coordinates, and what else than a plain archive is meant.
func (d *Dependency) Key() string {
	if d.Kind == "jar" && d.Classifier == "" {
		return d.Coords.String()
	}
	return strings.TrimSuffix(d.Coords.String()+":"+d.Kind+":"+d.Classifier, ":")
}

// ReadPOM reads a file of the project, or of a repository. What it states in profiles that are active counts as its
// own.
func ReadPOM(file string, src []byte, own bool, in *Config, exists func(file string) bool) (*Pom, error) {
	root, err := xmldoc.Parse(file, src)
	if err != nil {
		return nil, err
	}
	p := &Pom{File: file, Root: root, properties: map[string]Value{}, Packaging: "jar"}
	if own {
		p.Src = src
	}
	if root.Name != "project" {
		return nil, &model.Fault{
			Doing: "reading a pom",
			File:  file,
			Line:  1,
			Wrong: "it is no project of Maven",
			Next:  "look whether it is the right file",
		}
	}
	if e := root.Child("parent"); e != nil {
		p.Parent = &parent{
			Coords: mavenrepo.Coordinates{Group: e.Value("groupId"), Artifact: e.Value("artifactId")}, Version: p.value(e.Child("version")),
			relative: "../pom.xml",
		}
		if r := e.Child("relativePath"); r != nil {
			p.Parent.relative = r.Text
		}
		p.Coords.Group, p.version = p.Parent.Coords.Group, p.Parent.Version.Text
	}
	if g := root.Value("groupId"); g != "" {
		p.Coords.Group = g
	}
	p.Coords.Artifact = root.Value("artifactId")
	if v := root.Value("version"); v != "" {
		p.version = v
	}
	if k := root.Value("packaging"); k != "" {
		p.Packaging = k
	}
	p.take(root, "")
	profiles := root.Child("profiles").All("profile")
	where := *in.Environment
	if !own {
		where.Chosen = nil // a call chooses among the project's own
	}
	active := where.Active(profiles, exists)
	for _, part := range profiles {
		if slices.Contains(active, part) {
			p.take(part, part.Value("id"))
		} else if own {
			asleep := &Pom{
				Profile: part.Value("id"), File: file, Src: src, Root: part, properties: map[string]Value{}, Coords: p.Coords,
				version: p.version,
			}
			asleep.take(part, part.Value("id"))
			p.Asleep = append(p.Asleep, asleep)
		}
	}
	return p, nil
}

// take reads what a project or a profile states. What a profile says comes in the place of what its project does.
func (p *Pom) take(e *xmldoc.Element, profile string) {
	if props := e.Child("properties"); props != nil {
		for _, c := range props.Children {
			p.properties[c.Name] = p.value(c)
		}
	}
	managed := p.list(e.Child("dependencyManagement").Child("dependencies"), "dependency")
	dependencies := p.list(e.Child("dependencies"), "dependency")
	p.Managed, p.Dependencies = append(managed, p.Managed...), lastOfEach(append(p.Dependencies, dependencies...))
	build := e.Child("build")
	p.Extensions = append(p.Extensions, p.list(build.Child("extensions"), "extension")...)
	managing := build.At("pluginManagement", "plugins")
	for _, plugins := range []*xmldoc.Element{build.Child("plugins"), managing} {
		list := p.list(plugins, "plugin")
		for _, d := range list {
			d.Managing = plugins == managing
		}
		p.Plugins = append(p.Plugins, list...)
		for _, one := range plugins.All("plugin") {
			p.Plugins = append(p.Plugins, p.list(one.Child("dependencies"), "dependency")...)
		}
	}
	for _, m := range e.Child("modules").All("module") {
		p.modules = append(p.modules, m.Text)
	}
	p.repositories = append(p.repositories, e.Child("repositories").All("repository")...)
}

func (p *Pom) list(e *xmldoc.Element, name string) (all []*Dependency) {
	for _, one := range e.All(name) {
		d := &Dependency{
			Coords:  mavenrepo.Coordinates{Group: one.Value("groupId"), Artifact: one.Value("artifactId")},
			Version: p.value(one.Child("version")), Kind: one.Value("type"), Classifier: one.Value("classifier"), Scope: one.Value("scope"),
			Optional: one.Value("optional"), Of: p, At: one,
		}
		if p.Src != nil {
			d.Line = one.Line
		}
		if name == "plugin" && d.Coords.Group == "" {
			d.Coords.Group = "org.apache.maven.plugins"
		}
		if d.Kind == "" {
			d.Kind = "jar"
		}
		for _, x := range one.Child("exclusions").All("exclusion") {
			d.Exclusions = append(d.Exclusions, mavenrepo.Coordinates{Group: x.Value("groupId"), Artifact: x.Value("artifactId")})
		}
		all = append(all, d)
	}
	return all
}

// lastOfEach leaves of several statements about one dependency the last, in the place of the first.
func lastOfEach(all []*Dependency) (each []*Dependency) {
	at := map[string]int{}
	for _, d := range all {
		if i, twice := at[d.Key()]; twice {
			each[i] = d
			continue
		}
		at[d.Key()] = len(each)
		each = append(each, d)
	}
	return each
}

// value is what stands in an element; nil has none.
func (p *Pom) value(e *xmldoc.Element) Value {
	if e == nil {
		return Value{Of: p}
	}
	return Value{e.Text, e.Site, p}
}

// reference is the property that a text is no more than, "" for another text.
func reference(text string) string {
	name, is := strings.CutPrefix(text, "${")
	name, closed := strings.CutSuffix(name, "}")
	if !is || !closed || strings.Contains(name, "$") {
		return ""
	}
	return name
}
