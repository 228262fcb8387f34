// Package project is a root manifest with its workspace members, the folders that it links to, and its lock.
package project

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"

	"bellwether/internal/core/model"
	"bellwether/internal/core/yamldoc"
	"bellwether/internal/ecosystem/npm/lock"
	"bellwether/internal/ecosystem/npm/npmrc"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/tree"
)

// Asker says who asks for an edge, with the place for a manifest.
func (p *Project) Asker(t *tree.Tree, d *tree.Node, e packagejson.Edge) string {
	if !d.IsTop() {
		text := fmt.Sprintf("%s %s needs %s", d.Package, d.Version, packagejson.Shown(e.Spec.Text))
		if e.Kind.IsPeer() {
			text += " as a peer"
		}
		return text
	}
	for _, m := range p.Manifests() {
		if t.Tops[m.Dir] != d {
			continue
		}
		for _, dep := range m.Dependencies {
			if dep.Name == e.Name {
				return fmt.Sprintf("%s asks for %s", dep.Site, packagejson.Shown(e.Spec.Text))
			}
		}
	}
	return d.Loc
}

// Project is a root manifest, its workspace members, the folders it links to,
// and its lock.
type Project struct {
	Dir      string
	Root     *packagejson.Manifest
	Tops     []*packagejson.Manifest // members and linked folders, by folder
	Members  map[string]bool
	Lock     *lock.File // nil if there is none
	LockFile string     // where the lock is or would be
	once     sync.Once
	kept     *tree.Tree    // what locked gives
	Foreign  *lock.Foreign // another client's lock, if there is one and none of npm's
	// EngineStrict is set where the project's own settings forbid what does not run
	// on the stated Node.js.
	EngineStrict bool
}

// Manifests are the root's and all others.
func (p *Project) Manifests() []*packagejson.Manifest {
	return append([]*packagejson.Manifest{p.Root}, p.Tops...)
}

// ReadProject reads the manifest in dir and all that belongs to it.
func ReadProject(fsys fs.FS, dir string) (*Project, error) {
	p, err := ReadManifests(fsys, dir)
	if err != nil {
		return nil, err
	}
	// One that cannot be read is told when the registry is connected.
	if text, err := npmrc.ReadSmall(fsys, path.Join(dir, ".npmrc")); err == nil {
		for _, l := range npmrc.Lines(text) {
			if l.Key == "engine-strict" {
				p.EngineStrict = l.Value == "true"
			}
		}
	}
	p.LockFile = path.Join(dir, "package-lock.json")
	for _, name := range []string{"npm-shrinkwrap.json", "package-lock.json"} {
		file := path.Join(dir, name)
		if !npmrc.FileExists(fsys, file) {
			continue
		}
		p.LockFile = file
		if p.Lock, err = lock.Read(fsys, file); err != nil {
			return nil, err
		}
		return p, nil
	}
	p.Foreign, err = lock.ReadForeign(fsys, dir)
	return p, err
}

// ReadManifests reads the manifest in dir, its workspace members and the
// folders that they link to.
func ReadManifests(fsys fs.FS, dir string) (*Project, error) {
	p := &Project{Dir: dir, Members: map[string]bool{}}
	var err error
	if p.Root, err = packagejson.ReadManifest(fsys, dir); err != nil {
		return nil, err
	}
	folders, err := p.memberFolders(fsys)
	if err != nil {
		return nil, err
	}
	for _, folder := range folders {
		p.Members[folder] = true
		if err := p.addTop(fsys, folder); err != nil {
			return nil, err
		}
	}
	// Linked folders may link to further ones.
	for i := 0; i < len(p.Tops)+1; i++ {
		for _, d := range p.Manifests()[i].Dependencies {
			if d.Spec.Kind != packagejson.SpecFile {
				continue
			}
			target, err := d.Spec.FileTarget(p.Manifests()[i].Dir)
			if err != nil {
				return nil, &model.Fault{Doing: "reading the manifest", File: d.Site.File, Line: d.Site.Line, Wrong: err.Error()}
			}
			if info, err := fs.Stat(fsys, target); err == nil && info.IsDir() {
				if err := p.addTop(fsys, target); err != nil {
					return nil, err
				}
			}
		}
	}
	slices.SortFunc(p.Tops, func(a, b *packagejson.Manifest) int { return packagejson.Collate(a.Dir, b.Dir) })
	return p, nil
}

func (p *Project) addTop(fsys fs.FS, dir string) error {
	for _, m := range p.Manifests() {
		if m.Dir == dir {
			return nil
		}
	}
	m, err := packagejson.ReadManifest(fsys, dir)
	if err == nil {
		p.Tops = append(p.Tops, m)
	}
	return err
}

// memberPattern is a pattern of the folders of workspace members, with the error of
// one that is wrong.
type memberPattern struct {
	text  string
	fault func(wrong string) error
}

// memberPatterns are those of "workspaces", and of pnpm's own file for them.
func (p *Project) memberPatterns(fsys fs.FS) (list []memberPattern, err error) {
	patterns := p.Root.Doc.Get("workspaces")
	if patterns != nil && patterns.Kind == '{' {
		patterns = patterns.Get("packages")
	}
	if patterns != nil {
		for _, item := range patterns.Items {
			list = append(list, memberPattern{item.String(), func(wrong string) error { return p.Root.Fault(item, wrong) }})
		}
		return list, nil
	}
	file := path.Join(p.Dir, "pnpm-workspace.yaml")
	src, err := fs.ReadFile(fsys, file)
	if err != nil {
		return nil, nil
	}
	doc, err := lock.ReadMapping(file, src)
	if err != nil {
		return nil, err
	}
	packages := yamldoc.Get(doc, "packages")
	if packages == nil {
		return nil, nil
	}
	for _, item := range packages.Content {
		list = append(list, memberPattern{item.Value, func(wrong string) error {
			return &model.Fault{Doing: "reading the workspace", File: file, Line: item.Line, Col: item.Column, Wrong: wrong}
		}})
	}
	return list, nil
}

// memberFolders expands the patterns of workspace members.
func (p *Project) memberFolders(fsys fs.FS) ([]string, error) {
	patterns, err := p.memberPatterns(fsys)
	if err != nil || len(patterns) == 0 {
		return nil, err
	}
	found := map[string]bool{}
	for _, item := range patterns {
		pattern, negated := strings.CutPrefix(item.text, "!")
		pattern = path.Join(p.Dir, pattern)
		if pattern == ".." || strings.HasPrefix(pattern, "../") || strings.HasPrefix(item.text, "/") {
			return nil, item.fault(fmt.Sprintf("the workspace %q leads outside the project", item.text))
		}
		files, err := doublestar.Glob(fsys, path.Join(pattern, "package.json"))
		if err != nil {
			return nil, item.fault(fmt.Sprintf("the workspace pattern %q: %v", item.text, err))
		}
		for _, file := range files {
			if folder := path.Dir(file); folder != p.Dir && !strings.Contains(folder, "node_modules") {
				found[folder] = !negated
			}
		}
	}
	var folders []string
	for folder, wanted := range found {
		if wanted {
			folders = append(folders, folder)
		}
	}
	slices.Sort(folders)
	return folders, nil
}

// Component is the project in the words of the model.
func (p *Project) Component() *model.Component {
	c := &model.Component{
		Kind: packagejson.Name, Type: packagejson.Name, Dir: p.Dir, Name: p.Root.Name, Manifest: p.Root.File, Detail: p,
	}
	switch {
	case p.Lock != nil:
		c.Locks = []model.Lock{{File: p.LockFile}}
	case p.Foreign != nil:
		c.Locks = []model.Lock{{File: p.Foreign.File, Client: p.Foreign.Client}}
		c.Notes = append(
			c.Notes,
			fmt.Sprintf(
				"%s is %s's: it is read, and %s brings it up to date in the fetch stage", p.Foreign.File, p.Foreign.Client, p.Foreign.Client,
			),
		)
	}
	tree := p.Locked()
	for _, m := range p.Manifests() {
		top := tree.Tops[m.Dir]
		for _, d := range m.Dependencies {
			r := model.Requirement{
				ID: packagejson.DeclarationOf(d), Subject: model.Subject{Kind: packagejson.Name, Name: d.Spec.Name}, Name: d.Name, Group: d.Group,
				Range: d.Spec.Text, Site: d.Site, Optional: d.Kind.IsOptional(), Peer: d.Kind.IsPeer(), Fixed: packagejson.FixedBecause[d.Spec.Kind],
				Development: d.Kind == packagejson.Dev,
			}
			if top != nil {
				if n := top.Resolve(d.Name); n != nil {
					r.Locked = n.Target().Version
				}
			}
			if rule := p.Ruling(d); rule != nil {
				site := rule.Within(p.Root.File, p.Root.Src)
				note := fmt.Sprintf("%s:%d lays down which %s everybody gets: %s", site.File, site.Line, d.Name, site.Text)
				if !slices.Contains(c.Notes, note) { // several members ask for it
					c.Notes = append(c.Notes, note)
				}
			}
			if p.IsMember(d.Name) {
				r.Fixed = packagejson.FixedBecause[packagejson.SpecWorkspace]
			}
			if e := d.Edge(); top != nil && top != tree.Root && top.Scope.Overrules(e) {
				r.Fixed = "overridden in " + top.Scope.Rule(e).Site.String()
			}
			c.Requirements = append(c.Requirements, r)
		}
		if engines := m.Doc.Get("engines"); engines != nil && engines.Kind == '{' {
			for _, e := range engines.Members {
				subject := model.Subject{Kind: "tool", Name: e.Name}
				if e.Name == "node" {
					subject.Kind = "runtime"
				}
				if e.Value.Kind == '"' {
					c.Pins = append(c.Pins, model.Pin{
						Subject: subject, Range: e.Value.Text, Site: e.Value.Within(m.File, m.Src),
						Promise: !m.Doc.Get("private").True(),
					})
				}
			}
		}
	}
	return c
}

// IsMember tells whether a workspace member of the project has this name.
func (p *Project) IsMember(name string) bool {
	return slices.ContainsFunc(p.Tops, func(m *packagejson.Manifest) bool { return m.Name == name && p.Members[m.Dir] })
}

// Describes is the requirement that describes the types of a package; "" if there is none.
func (p *Project) Describes(name string) string {
	types := "@types/" + strings.Replace(strings.TrimPrefix(name, "@"), "/", "__", 1)
	for _, m := range p.Manifests() {
		for _, d := range m.Dependencies {
			if d.Name == types {
				return types
			}
		}
	}
	return ""
}
