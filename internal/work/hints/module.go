package hints

import (
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/rewrite/source"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/tree"
)

// became tells of packages that a leg makes ES modules, and that a file near a failure loads by require: what it gets then is
// another thing (https://nodejs.org/api/modules.html#loading-ecmascript-modules-using-require).
func became(ctx context.Context, d *desk.Desk, t *tree.Tree, leg *model.Leg, places []string) (hints []string) {
	part := t.Part(leg.Component)
	if part == nil || part.Type != "npm" {
		return nil
	}
	registry, err := d.Registry(ctx, part)
	if err != nil {
		return nil
	}
	archived, ok := registry.(ecosystem.Archived)
	if !ok {
		return nil
	}
	near := slices.Sorted(maps.Keys(reached(t, places)))
	for _, m := range leg.Moves {
		site := requiredAt(t, near, m.Name)
		if site == "" || m.From == "" || m.To == "" || !isModule(ctx, archived, m.Subject, m.To) || isModule(ctx, archived, m.Subject, m.From) {
			continue
		}
		hints = append(hints, fmt.Sprintf(
			"%s %s is an ES module, which %s was not: require at %s gets its namespace, whose .default is the default export, or fails where Node "+
				"cannot load one so",
			m.Name, m.To, m.From, site,
		))
	}
	return hints
}

// requiredAt is the first place in some files that loads a package by require, "" for none.
func requiredAt(t *tree.Tree, files []string, pkg string) string {
	for _, name := range files {
		data, err := fs.ReadFile(t.Files.FS, name)
		if err != nil || len(data) > maxRead {
			continue
		}
		f := source.NewFile(name, string(data))
		if f.Lang == nil || f.Lang.Name != "javascript" && f.Lang.Name != "typescript" {
			continue
		}
		f.Split()
		for i := range f.Said {
			if f.ImportedString(i) && f.Word(i-2) == "require" {
				if text, start := f.Content(i); text == pkg {
					return model.Site{File: name, Line: 1 + strings.Count(f.Text[:start], "\n")}.String()
				}
			}
		}
	}
	return ""
}

// manifests choose the manifest of an archive.
var manifests = ecosystem.Wanted{Form: "package.json", File: func(name string, _ int64) bool { return name == "package.json" }}

// isModule tells whether a release can only be had as an ES module. What cannot be read is none.
func isModule(ctx context.Context, archived ecosystem.Archived, s model.Subject, version string) bool {
	files, err := archived.Archive(ctx, s, version, manifests)
	if err != nil || len(files) == 0 {
		return false
	}
	var says struct {
		Type    string
		Main    string
		Exports json.RawMessage
	}
	if json.Unmarshal(files[0].Data, &says) != nil || says.Type != "module" {
		return false
	}
	return !strings.Contains(string(says.Exports), `"require"`) && !strings.HasSuffix(says.Main, ".cjs") &&
		!strings.Contains(string(says.Exports), ".cjs")
}
