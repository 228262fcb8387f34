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

// Imports are the places that load a gem or something of it, or name its constant, since a Gemfile can load all
// by itself. What a gem "rope-winch" loads is called that, or "rope/winch", or "rope_winch"; its constant is Rope::Winch.
func (Ecosystem) Imports(fsys fs.FS, c *model.Component, name string) ([]model.Site, error) {
	var forms []string
	for _, between := range []string{"-", "/", "_"} {
		if form := regexp.QuoteMeta(strings.ReplaceAll(name, "-", between)); !slices.Contains(forms, form) {
			forms = append(forms, form)
		}
	}
	imports := regexp.MustCompile(
		`\brequire\s*\(?\s*["'](?:` + strings.Join(forms, "|") + `)(?:/[^"'\n]*)?["']|(?m:^[^#\n]*\b` + constantOf(name) + `\b)`)
	source := func(file string) bool {
		return slices.Contains([]string{".rb", ".rake", ".ru", ".gemspec"}, path.Ext(file)) || path.Base(file) == "Rakefile"
	}
	return ecosystem.Importing(fsys, c.Dir, []string{"vendor", "node_modules"}, source, imports)
}

// constantOf is what the constant of a gem is called by custom.
func constantOf(name string) string {
	var parts []string
	for part := range strings.SplitSeq(name, "-") {
		text := ""
		for word := range strings.SplitSeq(part, "_") {
			if word != "" {
				text += strings.ToUpper(word[:1]) + word[1:]
			}
		}
		parts = append(parts, regexp.QuoteMeta(text))
	}
	return strings.Join(parts, "::")
}
