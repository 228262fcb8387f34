package gem

import (
	"fmt"
	"io/fs"
	"path"
	"strings"

	"bellwether/internal/core/model"
)

// bundle is the folder of a component that its gems are installed to.
const bundle = "vendor/bundle"

// Installed are the versions of which Bundler left a specification in the folder of gems.
func (Ecosystem) Installed(fsys fs.FS, c *model.Component) (map[string]string, error) {
	p := c.Detail.(*project)
	specs, err := fs.Glob(fsys, path.Join(p.dir, bundle, "ruby", "*", "specifications", "*.gemspec"))
	if err != nil {
		return nil, fmt.Errorf("looking for gems in %s: %w", bundle, err)
	}
	there := map[string]bool{}
	for _, file := range specs {
		there[strings.TrimSuffix(path.Base(file), ".gemspec")] = true
	}
	found := map[string]string{}
	if p.lock == nil {
		return found, nil
	}
	for _, s := range p.lock.sections {
		for _, one := range s.specs {
			if p.gemfile.has[one.name] && (there[one.full()] || there[one.name+"-"+one.version]) {
				found[one.name] = one.version
			}
		}
	}
	return found, nil
}
