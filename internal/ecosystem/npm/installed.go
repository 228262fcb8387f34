package npm

import (
	"errors"
	"io/fs"
	"path"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/npm/project"
)

// Installed are the versions in node_modules, found as Node.js looks modules up.
func (Ecosystem) Installed(fsys fs.FS, c *model.Component) (map[string]string, error) {
	p := c.Detail.(*project.Project)
	found := map[string]string{}
	for _, m := range p.Manifests() {
		for _, d := range m.Dependencies {
			if found[d.Name] != "" || d.Kind.IsPeer() {
				continue
			}
			for dir := m.Dir; ; dir = path.Dir(dir) {
				text, err := fs.ReadFile(fsys, path.Join(dir, "node_modules", d.Name, "package.json"))
				if err == nil {
					var is struct {
						Version string `json:"version"`
					}
					if json.Unmarshal(text, &is, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true)) == nil && is.Version != "" {
						found[d.Name] = is.Version
					}
				}
				if err == nil || !errors.Is(err, fs.ErrNotExist) || dir == p.Dir || dir == "." {
					break
				}
			}
		}
	}
	return found, nil
}
