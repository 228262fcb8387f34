package gem

import (
	"fmt"
	"io/fs"
	"path"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/gem/project"
)

// bundle is the folder of a component that its gems are installed to.
const bundle = "vendor/bundle"

// Installed are the versions of which Bundler left a specification in the folder of gems.
func (Ecosystem) Installed(fsys fs.FS, c *model.Component) (map[string]string, error) {
	p := c.Detail.(*project.Project)
	specs, err := fs.Glob(fsys, path.Join(p.Dir, bundle, "ruby", "*", "specifications", "*.gemspec"))
	if err != nil {
		return nil, fmt.Errorf("looking for gems in %s: %w", bundle, err)
	}
	there := map[string]bool{}
	for _, file := range specs {
		there[strings.TrimSuffix(path.Base(file), ".gemspec")] = true
	}
	found := map[string]string{}
	if p.Lock == nil {
		return found, nil
	}
	for _, s := range p.Lock.Sections {
		for _, one := range s.Specs {
			if p.Gemfile.Has[one.Name] && (there[one.Full()] || there[one.Name+"-"+one.Version]) {
				found[one.Name] = one.Version
			}
		}
	}
	return found, nil
}
