package npm

import (
	"io/fs"
	"path"
	"regexp"
	"strings"

	"bellwether/internal/core/model"
)

// sourceFiles are the endings of files whose imports are looked for.
var sourceFiles = map[string]bool{
	".js": true, ".jsx": true, ".mjs": true, ".cjs": true, ".ts": true, ".tsx": true, ".mts": true, ".cts": true, ".vue": true,
	".svelte": true, ".astro": true,
}

// maxSource is up to which size a file is looked through, in bytes: larger ones are
// made by programs.
const maxSource = 2 << 20

// Imports are the places that import a package or something of it, in the files of a
// component, by their texts: what a comment or a text says counts as well.
func (Ecosystem) Imports(fsys fs.FS, c *model.Component, name string) (places []model.Site, err error) {
	imports := regexp.MustCompile(
		`(?:\bfrom|\bimport|\brequire\s*\(|\bimport\s*\()\s*["'\x60]` + regexp.QuoteMeta(name) + `(?:/[^"'\x60\n]*)?["'\x60]`,
	)
	err = fs.WalkDir(fsys, c.Dir, func(file string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // what cannot be read imports nothing that could be told
		}
		if d.IsDir() {
			if base := path.Base(file); base == "node_modules" || len(base) > 1 && strings.HasPrefix(base, ".") {
				return fs.SkipDir
			}
			return nil
		}
		if info, err := d.Info(); !sourceFiles[path.Ext(file)] || err != nil || info.Size() > maxSource {
			return nil
		}
		text, err := fs.ReadFile(fsys, file)
		if err != nil {
			return nil
		}
		for _, at := range imports.FindAllIndex(text, -1) {
			places = append(
				places, model.Site{File: file, Start: at[0], End: at[1], Text: string(text[at[0]:at[1]]), Line: model.LineOf(text, at[0])},
			)
		}
		return nil
	})
	return places, err
}
