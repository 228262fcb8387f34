package npm

import (
	"io/fs"
	"path"
	"regexp"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
)

// sourceFiles are the endings of files whose imports are looked for.
var sourceFiles = map[string]bool{
	".js": true, ".jsx": true, ".mjs": true, ".cjs": true, ".ts": true, ".tsx": true, ".mts": true, ".cts": true, ".vue": true,
	".svelte": true, ".astro": true,
}

// Imports are the places that import a package or something of it, in the files of a component.
func (Ecosystem) Imports(fsys fs.FS, c *model.Component, name string) ([]model.Site, error) {
	imports := regexp.MustCompile(
		`(?:\bfrom|\bimport|\brequire\s*\(|\bimport\s*\()\s*["'\x60]` + regexp.QuoteMeta(name) + `(?:/[^"'\x60\n]*)?["'\x60]`,
	)
	source := func(file string) bool { return sourceFiles[path.Ext(file)] }
	return ecosystem.Importing(fsys, c.Dir, []string{"node_modules"}, source, imports)
}
