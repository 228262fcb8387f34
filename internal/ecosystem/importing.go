package ecosystem

import (
	"io/fs"
	"path"
	"regexp"
	"strings"

	"bellwether/internal/core/model"
)

// maxImporting is up to which size a file is looked through for imports, in bytes: larger ones are
// made by programs.
const maxImporting = 2 << 20

// Importing are the places below a folder that a pattern of imports meets, in the files that are
// wanted, by their texts: what a comment or a text says counts as well. Hidden folders and those of
// some names are left out.
func Importing(
	fsys fs.FS,
	dir string,
	without []string,
	wanted func(file string) bool,
	imports *regexp.Regexp,
) (places []model.Site, err error) {
	left := map[string]bool{}
	for _, name := range without {
		left[name] = true
	}
	err = fs.WalkDir(fsys, dir, func(file string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // what cannot be read imports nothing that could be told
		}
		if d.IsDir() {
			if base := path.Base(file); left[base] || len(base) > 1 && strings.HasPrefix(base, ".") {
				return fs.SkipDir
			}
			return nil
		}
		if info, err := d.Info(); !wanted(file) || err != nil || info.Size() > maxImporting {
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
