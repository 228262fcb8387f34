package project

import (
	"cmp"
	"path"
	"strings"

	"bellwether/internal/core/jsondoc"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/npm/lock"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/tree"
)

// hang puts what the lock tells of the manifests' requirements into the tree.
func hang(f *lock.Foreign, t *tree.Tree, p *Project) {
	for _, m := range p.Manifests() {
		top := t.Tops[m.Dir]
		for _, d := range m.Dependencies {
			value, rng := d.Spec.Text, d.Spec.Range
			if d.Spec.Prefix > 0 {
				value = "npm:" + d.Spec.Name + "@" + d.Spec.Text
			}
			locked := f.Direct(m.Dir, d.Name, value)
			if rule := p.Ruling(d); rule != nil {
				rng = packagejson.ReadSpec(d.Name, rule.String()).Range
				locked = cmp.Or(locked, f.Direct(m.Dir, d.Name, rule.String()))
			}
			if v, err := packagejson.ParseVersion(locked); rng != nil && (err != nil || !rng.Contains(v)) {
				locked = packagejson.AtLeast(rng)
			}
			if locked != "" && top.Kids[d.Name] == nil && !p.IsMember(d.Name) {
				n := t.Add(top, d.Name)
				n.Package, n.Version = d.Spec.Name, locked
			}
		}
	}
}

// Ruling is where the root's manifest lays down which versions of a requirement
// everybody gets, whatever they ask for; nil if it does not. Yarn has "resolutions",
// whose names may have a path before them, and pnpm has overrides of its own besides.
func (p *Project) Ruling(d packagejson.Dependency) *jsondoc.Value {
	if p.Foreign == nil {
		return nil
	}
	objects := []*jsondoc.Value{p.Root.Doc.Get("resolutions")}
	if p.Foreign.Client == "pnpm" {
		objects = append(objects, p.Root.Doc.At("pnpm", "overrides"))
	}
	for _, object := range objects {
		if object == nil || object.Kind != '{' {
			continue
		}
		for _, member := range object.Members {
			name, of := strings.TrimPrefix(member.Name, "**/"), ""
			if at := strings.LastIndex(name, "@"); at > 0 {
				name, of = name[:at], strings.TrimPrefix(name[at+1:], "npm:")
			}
			if name != d.Name || of != "" && of != d.Spec.Text || member.Value.Kind != '"' {
				continue
			}
			if s := packagejson.ReadSpec(name, member.Value.String()); s.Kind == packagejson.SpecRange && s.Prefix == 0 {
				return member.Value
			}
		}
	}
	return nil
}

// Locked is the project's tree as the lock has it, to be looked at only.
func (p *Project) Locked() *tree.Tree {
	p.once.Do(func() { p.kept = p.Tree() })
	return p.kept
}

// Tree is the project's tree as the lock has it, with the tops of the
// manifests; without a lock, just the tops. It is a new one each time, to be
// changed.
func (p *Project) Tree() *tree.Tree {
	t := tree.NewTree()
	if o := packagejson.ReadOverrides(p.Root); o != nil {
		t.Root.Scope = packagejson.Scope{o}
	}
	t.Tops[p.Dir] = t.Root
	t.Root.Name, t.Root.Version = p.Root.Name, p.Root.Version
	t.SetTop(t.Root, tree.TopEdges(p.Root))
	for _, m := range p.Tops {
		top := &tree.Node{
			Loc: lock.Relative(p.Dir, m.Dir), Name: path.Base(m.Dir), Package: m.Name, Version: m.Version,
			Above: t.Root, Kids: map[string]*tree.Node{}, Member: p.Members[m.Dir], Body: &m.Body,
		}
		if top.Package == "" {
			top.Package = top.Name
		}
		t.Tops[m.Dir] = top
		t.SetTop(top, tree.TopEdges(m))
	}
	switch {
	case p.Lock != nil:
		t.Load(p.Lock)
	case p.Foreign != nil:
		hang(p.Foreign, t, p)
	}
	for _, m := range p.Tops {
		top := t.Tops[m.Dir]
		name := m.Name
		if name == "" {
			name = path.Base(m.Dir)
		}
		if k := t.Root.Kids[name]; top.Member && (k == nil || k.LinkTo != top) {
			t.Add(t.Root, name).LinkTo = top
		}
	}
	for _, m := range p.Manifests() {
		for _, d := range m.Dependencies {
			if d.Spec.Kind != packagejson.SpecFile {
				continue
			}
			target, err := d.Spec.FileTarget(m.Dir)
			if top := t.Tops[target]; err == nil && top != nil {
				if k := t.Tops[m.Dir].Resolve(d.Name); k == nil || k.LinkTo != top {
					t.Add(t.Root, d.Name).LinkTo = top
				}
			}
		}
	}
	t.SpreadScopes()
	return t
}

// ForeignPackages are the packages that another client's lock names. What leads to
// those that no manifest requires is not told.
func (p *Project) ForeignPackages(c *model.Component) []model.Package {
	var all []model.Package
	direct := map[lock.ForeignPackage]bool{}
	for _, r := range c.Requirements {
		key := lock.ForeignPackage{Name: r.Subject.Name, Version: r.Locked}
		if r.Locked != "" && !direct[key] {
			direct[key] = true
			all = append(all, model.Package{Subject: r.Subject, Version: r.Locked, Site: r.Site})
		}
	}
	for _, f := range p.Foreign.Packages {
		if !direct[lock.ForeignPackage{Name: f.Name, Version: f.Version}] {
			all = append(
				all,
				model.Package{
					Subject: model.Subject{Kind: packagejson.Name, Name: f.Name}, Version: f.Version, Site: model.Site{File: p.Foreign.File, Line: f.Line},
				},
			)
		}
	}
	return all
}
