package gem

import (
	"errors"
	"io/fs"
	"path"
	"slices"

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
	p := &project{
		dir:      dir,
		manifest: src,
		stated:   map[string]map[string]model.Requirement{},
		statedIn: map[string]string{},
		vague:    map[string]bool{},
	}
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
		c.Locks = []model.Lock{{File: name}}
		if p.lock, err = readLock(name, p.lockText); err != nil {
			return nil, err
		}
	}
	c.Detail = p
	for _, d := range p.gemfile.gems {
		c.Requirements = append(c.Requirements, p.requirement(d))
	}
	p.asked = slices.Clone(c.Requirements)
	for _, spec := range p.gemfile.specs {
		more, err := readSpecs(files, spec, p)
		if err != nil {
			return nil, err
		}
		c.Requirements = append(c.Requirements, more...)
	}
	c.Notes = p.gemfile.notes
	return c, nil
}

// requirement is a gem line as a requirement of the component.
func (p *project) requirement(d declared) model.Requirement {
	q := model.Requirement{
		Subject: model.Subject{Kind: Name, Name: d.name}, Name: d.name, Group: d.group, Range: d.rng, Site: d.site, Fixed: d.fixed,
		When: d.when,
	}
	if d.git.address != "" {
		q.Range = d.git.String()
	}
	if p.lock != nil {
		q.Locked = p.lock.version(d.name)
	}
	return q
}

func exists(files fs.FS, name string) bool {
	_, err := fs.Stat(files, name)
	return err == nil
}
