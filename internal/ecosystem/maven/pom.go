package maven

import (
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/xmldoc"
	"bellwether/internal/ecosystem/mavenrepo"
)

// pom is a project's file as it is written, before anything is inherited.
type pom struct {
	file         string // relative to the project; for what a repository has, its coordinates
	src          []byte // nil for what a repository has
	root         *xmldoc.Element
	coords       mavenrepo.Coordinates
	version      string
	parent       *parent
	properties   map[string]value
	managed      []*dependency
	dependencies []*dependency
	plugins      []*dependency // with what they need themselves
	extensions   []*dependency
	profile      string // the profile that it is, where it is not active; empty for a file
	asleep       []*pom // profiles of the project's own that are not active: what they state is read, and does not count
	modules      []string
	repositories []*xmldoc.Element
	packaging    string
}

// parent is what a file inherits from.
type parent struct {
	coords   mavenrepo.Coordinates
	version  value
	relative string // where it lies in the project; empty for nowhere
}

// value is a text with the place where it stands. One that can be changed there has a place with a length.
type value struct {
	text string
	site model.Site
	of   *pom
}

// dependency is what a file asks for, or manages.
type dependency struct {
	coords     mavenrepo.Coordinates
	version    value
	kind       string // "jar", if nothing is said
	classifier string
	scope      string
	optional   string
	exclusions []mavenrepo.Coordinates
	managing   bool // of a plug-in: it says which version others get, and uses none
	line       int
	of         *pom
	at         *xmldoc.Element
}

// key is what a managed version is for: the coordinates, and what else than a plain archive is meant.
func (d *dependency) key() string {
	if d.kind == "jar" && d.classifier == "" {
		return d.coords.String()
	}
	return strings.TrimSuffix(d.coords.String()+":"+d.kind+":"+d.classifier, ":")
}

// readPOM reads a file of the project, or of a repository. What it states in profiles that are active counts as its
// own.
func readPOM(file string, src []byte, own bool, in *config, exists func(file string) bool) (*pom, error) {
	root, err := xmldoc.Parse(file, src)
	if err != nil {
		return nil, err
	}
	p := &pom{file: file, root: root, properties: map[string]value{}, packaging: "jar"}
	if own {
		p.src = src
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
		p.parent = &parent{
			coords: mavenrepo.Coordinates{Group: e.Value("groupId"), Artifact: e.Value("artifactId")}, version: p.value(e.Child("version")),
			relative: "../pom.xml",
		}
		if r := e.Child("relativePath"); r != nil {
			p.parent.relative = r.Text
		}
		p.coords.Group, p.version = p.parent.coords.Group, p.parent.version.text
	}
	if g := root.Value("groupId"); g != "" {
		p.coords.Group = g
	}
	p.coords.Artifact = root.Value("artifactId")
	if v := root.Value("version"); v != "" {
		p.version = v
	}
	if k := root.Value("packaging"); k != "" {
		p.packaging = k
	}
	p.take(root, "")
	profiles := root.Child("profiles").All("profile")
	where := *in.environment
	if !own {
		where.Chosen = nil // a call chooses among the project's own
	}
	active := where.Active(profiles, exists)
	for _, part := range profiles {
		if slices.Contains(active, part) {
			p.take(part, part.Value("id"))
		} else if own {
			asleep := &pom{
				profile: part.Value("id"), file: file, src: src, root: part, properties: map[string]value{}, coords: p.coords,
				version: p.version,
			}
			asleep.take(part, part.Value("id"))
			p.asleep = append(p.asleep, asleep)
		}
	}
	return p, nil
}

// take reads what a project or a profile states. What a profile says comes in the place of what its project does.
func (p *pom) take(e *xmldoc.Element, profile string) {
	if props := e.Child("properties"); props != nil {
		for _, c := range props.Children {
			p.properties[c.Name] = p.value(c)
		}
	}
	managed := p.list(e.Child("dependencyManagement").Child("dependencies"), "dependency")
	dependencies := p.list(e.Child("dependencies"), "dependency")
	p.managed, p.dependencies = append(managed, p.managed...), lastOfEach(append(p.dependencies, dependencies...))
	build := e.Child("build")
	p.extensions = append(p.extensions, p.list(build.Child("extensions"), "extension")...)
	managing := build.At("pluginManagement", "plugins")
	for _, plugins := range []*xmldoc.Element{build.Child("plugins"), managing} {
		list := p.list(plugins, "plugin")
		for _, d := range list {
			d.managing = plugins == managing
		}
		p.plugins = append(p.plugins, list...)
		for _, one := range plugins.All("plugin") {
			p.plugins = append(p.plugins, p.list(one.Child("dependencies"), "dependency")...)
		}
	}
	for _, m := range e.Child("modules").All("module") {
		p.modules = append(p.modules, m.Text)
	}
	p.repositories = append(p.repositories, e.Child("repositories").All("repository")...)
}

func (p *pom) list(e *xmldoc.Element, name string) (all []*dependency) {
	for _, one := range e.All(name) {
		d := &dependency{
			coords:  mavenrepo.Coordinates{Group: one.Value("groupId"), Artifact: one.Value("artifactId")},
			version: p.value(one.Child("version")), kind: one.Value("type"), classifier: one.Value("classifier"), scope: one.Value("scope"),
			optional: one.Value("optional"), of: p, at: one,
		}
		if p.src != nil {
			d.line = one.Line
		}
		if name == "plugin" && d.coords.Group == "" {
			d.coords.Group = "org.apache.maven.plugins"
		}
		if d.kind == "" {
			d.kind = "jar"
		}
		for _, x := range one.Child("exclusions").All("exclusion") {
			d.exclusions = append(d.exclusions, mavenrepo.Coordinates{Group: x.Value("groupId"), Artifact: x.Value("artifactId")})
		}
		all = append(all, d)
	}
	return all
}

// lastOfEach leaves of several statements about one dependency the last, in the place of the first.
func lastOfEach(all []*dependency) (each []*dependency) {
	at := map[string]int{}
	for _, d := range all {
		if i, twice := at[d.key()]; twice {
			each[i] = d
			continue
		}
		at[d.key()] = len(each)
		each = append(each, d)
	}
	return each
}

// value is what stands in an element; nil has none.
func (p *pom) value(e *xmldoc.Element) value {
	if e == nil {
		return value{of: p}
	}
	return value{e.Text, e.Site, p}
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
