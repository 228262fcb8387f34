package gem

import (
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/model"
)

// readProject reads the component in a folder.
func readProject(files fs.FS, dir string) (*model.Component, error) {
	c := &model.Component{Kind: Name, Type: Name, Dir: dir, Manifest: path.Join(dir, "Gemfile")}
	src, err := fs.ReadFile(files, c.Manifest)
	if errors.Is(err, fs.ErrNotExist) {
		c.Manifest = path.Join(dir, "gems.rb")
		src, err = fs.ReadFile(files, c.Manifest)
	}
	if err != nil {
		return nil, &model.Fault{Doing: "reading the Gemfile", File: c.Manifest, Wrong: model.Reason(err)}
	}
	p := &project{dir: dir, manifest: src, stated: map[string]map[string]model.Requirement{}}
	if p.gemfile, err = readGemfile(files, c.Manifest, src); err != nil {
		return nil, err
	}
	p.gemfile.rakefile = exists(files, path.Join(dir, "Rakefile"))
	p.gemfile.tests = exists(files, path.Join(dir, "test"))
	name := lockOf(c.Manifest)
	p.lockText, err = fs.ReadFile(files, name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		p.lockText = nil
	case err != nil:
		return nil, &model.Fault{Doing: "reading the lock of Bundler", File: name, Wrong: model.Reason(err)}
	default:
		c.Lock = name
		if p.lock, err = readLock(name, p.lockText); err != nil {
			return nil, err
		}
	}
	c.Notes, c.Detail = p.gemfile.notes, p
	for _, d := range p.gemfile.gems {
		q := model.Requirement{
			Subject: model.Subject{Kind: Name, Name: d.name}, Name: d.name, Group: d.group, Range: d.rng, Site: d.site, Fixed: d.fixed,
		}
		if p.lock != nil {
			q.Locked = p.lock.version(d.name)
		}
		c.Requirements = append(c.Requirements, q)
	}
	p.asked = slices.Clone(c.Requirements)
	for _, spec := range p.gemfile.specs {
		more, err := readSpecs(files, spec, p)
		if err != nil {
			return nil, err
		}
		c.Requirements = append(c.Requirements, more...)
	}
	return c, nil
}

func exists(files fs.FS, name string) bool {
	_, err := fs.Stat(files, name)
	return err == nil
}

// readSpecs reads the requirements of the gemspec in a folder: they are its users', and are
// met by the lock.
func readSpecs(files fs.FS, dir string, p *project) (all []model.Requirement, err error) {
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
		for _, d := range specDependencies(name, string(src)) {
			q := model.Requirement{
				Subject: model.Subject{Kind: Name, Name: d.name}, Name: d.name, Group: d.group, Range: d.rng, Site: d.site, Fixed: d.fixed,
			}
			if p.lock != nil {
				q.Locked = p.lock.version(d.name)
			}
			all = append(all, q)
			p.state(strings.TrimSuffix(e.Name(), ".gemspec"), q)
		}
	}
	return all, nil
}

// state keeps what a gemspec asks for: for itself, or for those who develop it.
func (p *project) state(gem string, q model.Requirement) {
	if q.Fixed != "" {
		p.gemfile.computes = true
		return
	}
	if q.Group == development {
		p.asked = append(p.asked, q)
		return
	}
	if p.stated[gem] == nil {
		p.stated[gem] = map[string]model.Requirement{}
	}
	if _, twice := p.stated[gem][q.Name]; !twice {
		p.stated[gem][q.Name] = q
	}
}

// development is the group of what a gemspec asks for for those who develop the gem.
const development = "development"

// specDependencies are the dependencies that a gemspec declares.
func specDependencies(file, src string) []declared {
	g := newGemfile(file)
	r := newReader(file, src, g)
	for i := range r.tokens {
		group, ok := map[string]string{
			"add_dependency": "runtime", "add_runtime_dependency": "runtime", "add_development_dependency": development,
		}[r.text(i)]
		if !ok || r.text(i-1) != "." {
			continue
		}
		before := len(g.gems)
		end := r.end(i)
		r.gem(i, end, arguments(r, i+1, end))
		for k := before; k < len(g.gems); k++ {
			g.gems[k].group = group
		}
	}
	return g.gems
}
