package npm

import (
	"errors"
	"io/fs"
	"path"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"bellwether/internal/core/model"
)

// Installed are the versions in node_modules, found as Node.js looks modules up.
func (Ecosystem) Installed(fsys fs.FS, c *model.Component) (map[string]string, error) {
	p := c.Detail.(*project)
	found := map[string]string{}
	for _, m := range p.manifests() {
		for _, d := range m.dependencies {
			if found[d.name] != "" || d.kind.peer() {
				continue
			}
			for dir := m.dir; ; dir = path.Dir(dir) {
				text, err := fs.ReadFile(fsys, path.Join(dir, "node_modules", d.name, "package.json"))
				if err == nil {
					var is struct {
						Version string `json:"version"`
					}
					if json.Unmarshal(text, &is, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true)) == nil && is.Version != "" {
						found[d.name] = is.Version
					}
				}
				if err == nil || !errors.Is(err, fs.ErrNotExist) || dir == p.dir || dir == "." {
					break
				}
			}
		}
	}
	return found, nil
}
