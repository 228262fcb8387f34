package gem

import (
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
)

// Imports are the places that load a gem or something of it. What a gem "rope-winch" loads is called
// that, or "rope/winch", or "rope_winch".
func (Ecosystem) Imports(fsys fs.FS, c *model.Component, name string) ([]model.Site, error) {
	var forms []string
	for _, between := range []string{"-", "/", "_"} {
		if form := regexp.QuoteMeta(strings.ReplaceAll(name, "-", between)); !slices.Contains(forms, form) {
			forms = append(forms, form)
		}
	}
	imports := regexp.MustCompile(`\brequire\s*\(?\s*["'](?:` + strings.Join(forms, "|") + `)(?:/[^"'\n]*)?["']`)
	source := func(file string) bool {
		return slices.Contains([]string{".rb", ".rake", ".ru", ".gemspec"}, path.Ext(file)) || path.Base(file) == "Rakefile"
	}
	return ecosystem.Importing(fsys, c.Dir, []string{"vendor", "node_modules"}, source, imports)
}
