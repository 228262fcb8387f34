package npm

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"bellwether/internal/core/jsondoc"
	"bellwether/internal/core/model"
	"bellwether/internal/core/yamldoc"
)

// edgeKind is the group that a dependency was declared in.
type edgeKind int

const (
	prodEdge edgeKind = iota
	devEdge
	optionalEdge
	peerEdge
	peerOptionalEdge
)

func (k edgeKind) peer() bool     { return k == peerEdge || k == peerOptionalEdge }
func (k edgeKind) optional() bool { return k == optionalEdge || k == peerOptionalEdge }

// group is an object of package.json that declares dependencies.
type group struct {
	name string
	kind edgeKind
}

// groups are all of them; a later one takes precedence where two name the same package.
var groups = []group{
	{"peerDependencies", peerEdge},
	{"dependencies", prodEdge},
	{"optionalDependencies", optionalEdge},
	{"devDependencies", devEdge},
}

// dependency is one line of a manifest.
type dependency struct {
	name  string
	group string
	kind  edgeKind
	spec  spec
	site  model.Site // of the range
}

// declarationOf is the ID of a dependency: whatever groups of one manifest name it, it has one version there.
func declarationOf(d dependency) model.DeclarationID { return model.Declaration(d.site.File, d.name) }

// manifest is one package.json.
type manifest struct {
	dir, file     string
	src           []byte
	doc           *jsondoc.Value
	name, version string
	dependencies  []dependency
	body          body
}

// project is a root manifest, its workspace members, the folders it links to,
// and its lock.
type project struct {
	dir      string
	root     *manifest
	tops     []*manifest // members and linked folders, by folder
	members  map[string]bool
	lock     *lockfile // nil if there is none
	lockFile string    // where the lock is or would be
	once     sync.Once
	kept     *tree    // what locked gives
	foreign  *foreign // another client's lock, if there is one and none of npm's
	// engineStrict is set where the project's own settings forbid what does not run
	// on the stated Node.js.
	engineStrict bool
}

// manifests are the root's and all others.
func (p *project) manifests() []*manifest { return append([]*manifest{p.root}, p.tops...) }

func readManifest(fsys fs.FS, dir string) (*manifest, error) {
	m := &manifest{dir: dir, file: path.Join(dir, "package.json")}
	var err error
	if m.src, err = fs.ReadFile(fsys, m.file); err != nil {
		return nil, unreadable("reading the manifest", m.file, err)
	}
	if m.doc, err = jsondoc.Parse(m.file, m.src); err != nil {
		return nil, err
	}
	if m.doc.Kind != '{' {
		return nil, &model.Fault{Doing: "reading the manifest", File: m.file, Line: 1, Wrong: "a package.json holds an object"}
	}
	var raw rawRelease
	if err := json.Unmarshal(m.doc.Raw(m.src), &raw, jsontext.AllowInvalidUTF8(true)); err != nil {
		return nil, &model.Fault{Doing: "reading the manifest", File: m.file, Wrong: err.Error()}
	}
	m.name, m.version, m.body = raw.Name, raw.Version, raw.body()
	for _, g := range groups {
		object := m.doc.Get(g.name)
		if object == nil {
			continue
		}
		if object.Kind != '{' {
			return nil, m.fault(object, fmt.Sprintf("%q holds an object of names and ranges", g.name))
		}
		for _, member := range object.Members {
			if member.Value.Kind != '"' {
				return nil, m.fault(member.Value, fmt.Sprintf("the range of %q is a text", member.Name))
			}
			if err := checkName(member.Name); err != nil {
				return nil, m.fault(member.Value, err.Error())
			}
			d := dependency{name: member.Name, group: g.name, kind: g.kind, spec: readSpec(member.Name, member.Value.Text)}
			if err := checkName(d.spec.name); err != nil {
				return nil, m.fault(member.Value, err.Error())
			}
			if d.kind == peerEdge && slices.Contains(m.body.PeerOptional, d.name) {
				d.kind = peerOptionalEdge
			}
			d.site = member.Value.Within(m.file, m.src)
			if d.spec.prefix > 0 && d.spec.prefix <= len(d.site.Text) {
				d.site.Start += d.spec.prefix
				d.site.Text = d.site.Text[d.spec.prefix:]
			}
			m.dependencies = append(m.dependencies, d)
		}
	}
	return m, nil
}

func (m *manifest) fault(at *jsondoc.Value, wrong string) error {
	return &model.Fault{
		Doing: "reading the manifest", File: m.file,
		Line: model.LineOf(m.src, at.Start), Col: model.ColumnOf(m.src, at.Start), Wrong: wrong,
	}
}

func unreadable(doing, file string, err error) error {
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		err = pathError.Err
	}
	return &model.Fault{Doing: doing, File: file, Wrong: err.Error()}
}

// inEffect are the dependencies that count: of two groups that name the same
// package, the later one.
func (m *manifest) inEffect() []dependency {
	byName := map[string]dependency{}
	for _, d := range m.dependencies {
		byName[d.name] = d
	}
	list := make([]dependency, 0, len(byName))
	for _, name := range collated(byName) {
		list = append(list, byName[name])
	}
	return list
}

// readProject reads the manifest in dir and all that belongs to it.
func readProject(fsys fs.FS, dir string) (*project, error) {
	p, err := readManifests(fsys, dir)
	if err != nil {
		return nil, err
	}
	// One that cannot be read is told when the registry is connected.
	if text, err := readSmall(fsys, path.Join(dir, ".npmrc")); err == nil {
		for _, l := range lines(text) {
			if l.key == "engine-strict" {
				p.engineStrict = l.value == "true"
			}
		}
	}
	p.lockFile = path.Join(dir, "package-lock.json")
	for _, name := range []string{"npm-shrinkwrap.json", "package-lock.json"} {
		file := path.Join(dir, name)
		if !fileExists(fsys, file) {
			continue
		}
		p.lockFile = file
		if p.lock, err = readLock(fsys, file); err != nil {
			return nil, err
		}
		return p, nil
	}
	p.foreign, err = readForeign(fsys, dir)
	return p, err
}

// readManifests reads the manifest in dir, its workspace members and the
// folders that they link to.
func readManifests(fsys fs.FS, dir string) (*project, error) {
	p := &project{dir: dir, members: map[string]bool{}}
	var err error
	if p.root, err = readManifest(fsys, dir); err != nil {
		return nil, err
	}
	folders, err := p.memberFolders(fsys)
	if err != nil {
		return nil, err
	}
	for _, folder := range folders {
		p.members[folder] = true
		if err := p.addTop(fsys, folder); err != nil {
			return nil, err
		}
	}
	// Linked folders may link to further ones.
	for i := 0; i < len(p.tops)+1; i++ {
		for _, d := range p.manifests()[i].dependencies {
			if d.spec.kind != specFile {
				continue
			}
			target, err := d.spec.fileTarget(p.manifests()[i].dir)
			if err != nil {
				return nil, &model.Fault{Doing: "reading the manifest", File: d.site.File, Line: d.site.Line, Wrong: err.Error()}
			}
			if info, err := fs.Stat(fsys, target); err == nil && info.IsDir() {
				if err := p.addTop(fsys, target); err != nil {
					return nil, err
				}
			}
		}
	}
	slices.SortFunc(p.tops, func(a, b *manifest) int { return collate(a.dir, b.dir) })
	return p, nil
}

func (p *project) addTop(fsys fs.FS, dir string) error {
	for _, m := range p.manifests() {
		if m.dir == dir {
			return nil
		}
	}
	m, err := readManifest(fsys, dir)
	if err == nil {
		p.tops = append(p.tops, m)
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
func (p *project) memberPatterns(fsys fs.FS) (list []memberPattern, err error) {
	patterns := p.root.doc.Get("workspaces")
	if patterns != nil && patterns.Kind == '{' {
		patterns = patterns.Get("packages")
	}
	if patterns != nil {
		for _, item := range patterns.Items {
			list = append(list, memberPattern{item.String(), func(wrong string) error { return p.root.fault(item, wrong) }})
		}
		return list, nil
	}
	file := path.Join(p.dir, "pnpm-workspace.yaml")
	src, err := fs.ReadFile(fsys, file)
	if err != nil {
		return nil, nil
	}
	doc, err := readMapping(file, src)
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
func (p *project) memberFolders(fsys fs.FS) ([]string, error) {
	patterns, err := p.memberPatterns(fsys)
	if err != nil || len(patterns) == 0 {
		return nil, err
	}
	found := map[string]bool{}
	for _, item := range patterns {
		pattern, negated := strings.CutPrefix(item.text, "!")
		pattern = path.Join(p.dir, pattern)
		if pattern == ".." || strings.HasPrefix(pattern, "../") || strings.HasPrefix(item.text, "/") {
			return nil, item.fault(fmt.Sprintf("the workspace %q leads outside the project", item.text))
		}
		files, err := doublestar.Glob(fsys, path.Join(pattern, "package.json"))
		if err != nil {
			return nil, item.fault(fmt.Sprintf("the workspace pattern %q: %v", item.text, err))
		}
		for _, file := range files {
			if folder := path.Dir(file); folder != p.dir && !strings.Contains(folder, "node_modules") {
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

// component is the project in the words of the model.
func (p *project) component() *model.Component {
	c := &model.Component{
		Kind: Name, Type: Name, Dir: p.dir, Name: p.root.name, Manifest: p.root.file, Detail: p,
	}
	switch {
	case p.lock != nil:
		c.Locks = []model.Lock{{File: p.lockFile}}
	case p.foreign != nil:
		c.Locks = []model.Lock{{File: p.foreign.file, Client: p.foreign.client}}
		c.Notes = append(
			c.Notes,
			fmt.Sprintf(
				"%s is %s's: it is read, and %s brings it up to date in the fetch stage", p.foreign.file, p.foreign.client, p.foreign.client,
			),
		)
	}
	tree := p.locked()
	for _, m := range p.manifests() {
		top := tree.tops[m.dir]
		for _, d := range m.dependencies {
			r := model.Requirement{
				ID: declarationOf(d), Subject: model.Subject{Kind: Name, Name: d.spec.name}, Name: d.name, Group: d.group, Range: d.spec.text,
				Site: d.site, Optional: d.kind.optional(), Peer: d.kind.peer(), Fixed: fixedBecause[d.spec.kind],
			}
			if top != nil {
				if n := top.resolve(d.name); n != nil {
					r.Locked = n.target().version
				}
			}
			if rule := p.ruling(d); rule != nil {
				site := rule.Within(p.root.file, p.root.src)
				note := fmt.Sprintf("%s:%d lays down which %s everybody gets: %s", site.File, site.Line, d.name, site.Text)
				if !slices.Contains(c.Notes, note) { // several members ask for it
					c.Notes = append(c.Notes, note)
				}
			}
			if p.isMember(d.name) {
				r.Fixed = fixedBecause[specWorkspace]
			}
			if e := (edge{d.name, d.kind, d.spec}); top != nil && top != tree.root && top.scope.overrules(e) {
				r.Fixed = "overridden in " + top.scope.rule(e).site.String()
			}
			c.Requirements = append(c.Requirements, r)
		}
		if engines := m.doc.Get("engines"); engines != nil && engines.Kind == '{' {
			for _, e := range engines.Members {
				subject := model.Subject{Kind: "tool", Name: e.Name}
				if e.Name == "node" {
					subject.Kind = "runtime"
				}
				if e.Value.Kind == '"' {
					c.Pins = append(c.Pins, model.Pin{Subject: subject, Range: e.Value.Text, Site: e.Value.Within(m.file, m.src)})
				}
			}
		}
	}
	return c
}

func (p *project) isMember(name string) bool {
	return slices.ContainsFunc(p.tops, func(m *manifest) bool { return m.name == name && p.members[m.dir] })
}
