package linked

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/linkage"
	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
	"bellwether/internal/ecosystem/maven/registry"
)

// importLine is the form of an import in Java, Kotlin and Groovy.
var importLine = lazyregexp.New(`(?m)^[ \t]*import[ \t]+(?:static[ \t]+)?(?P<name>[A-Za-z_][\w.]*\w)(?P<all>\.\*)?`)

// maxSource bounds a source file that is read, in bytes, and maxSources how many.
const (
	maxSource  = 1 << 20
	maxSources = 20_000
)

// importing says what a module's own sources import that archives had and that none has any more, and where a class of the same name
// is now. Of each package of classes it is one sentence. Imported are the classes that it speaks of.
func importing(r *registry.Registry, file string, then, now []linkage.Archive) (all []string, imported map[string]bool) {
	gone := goneUnits(then, now)
	if len(gone) == 0 {
		return nil, nil
	}
	imported = map[string]bool{}
	left := map[string]bool{} // packages of which there still are classes
	for _, a := range now {
		for _, u := range a.Units {
			left[path.Dir(u.Name)] = true
		}
	}
	type use struct {
		names  []string
		places []string
	}
	uses := map[string]*use{} // by the package that is imported from
	var order []string
	eachSource(r, file, func(name string, src []byte) {
		for _, m := range importLine.FindAllSubmatchIndex(src, -1) {
			unit := strings.ReplaceAll(string(src[m[2]:m[3]]), ".", "/")
			missing := goneAt(gone, unit)
			if all := m[4] >= 0; all && gone[unit] == "" { // of a package
				missing = goneBelow(gone, left, unit)
			}
			if missing == "" {
				continue
			}
			pkg := path.Dir(missing)
			if uses[pkg] == nil {
				uses[pkg] = &use{}
				order = append(order, pkg)
			}
			u := uses[pkg]
			imported[missing] = true
			if !slices.Contains(u.names, missing) {
				u.names = append(u.names, missing)
			}
			u.places = append(u.places, model.Site{File: name, Line: model.LineOf(src, m[2])}.String())
		}
	})
	for _, pkg := range order {
		u := uses[pkg]
		does := "imports"
		if len(u.places) > 1 {
			does = "import"
		}
		text := fmt.Sprintf("%s %s %s, which %s had and nothing has after this leg",
			spelling.Few(u.places, shownMissing), does, spelling.Few(spokenAll(u.names), shownMissing), gone[u.names[0]])
		if at, by := successor(u.names[0], then, now); at != "" {
			text += fmt.Sprintf("; %s of %s is there", spoken(at), by)
		}
		all = append(all, text)
	}
	return all, imported
}

// goneUnits are the classes that archives had and no archive has, with who had them.
func goneUnits(then, now []linkage.Archive) map[string]string {
	is := map[string]bool{}
	for _, a := range now {
		for _, u := range a.Units {
			is[u.Name] = true
		}
	}
	gone := map[string]string{}
	for _, a := range then {
		for _, u := range a.Units {
			if !is[u.Name] && gone[u.Name] == "" {
				gone[u.Name] = a.Name
			}
		}
	}
	return gone
}

// goneAt is the class that an import names and that is gone: the name itself, the class of a member, or one nested in a class.
func goneAt(gone map[string]string, unit string) string {
	for at := unit; at != "." && at != ""; at = path.Dir(at) {
		if gone[at] != "" {
			return at
		}
	}
	return ""
}

// goneBelow is a class of a package that is gone as a whole; empty where some of it is left, since nothing says which classes a file
// imports of it.
func goneBelow(gone map[string]string, left map[string]bool, pkg string) (first string) {
	if left[pkg] {
		return ""
	}
	for unit := range gone {
		if path.Dir(unit) == pkg && (first == "" || unit < first) {
			first = unit
		}
	}
	return first
}

// successor is a class that is there under another first name and the same rest, as those of a platform that was renamed, or the only
// new one with the same last name; empty for none.
func successor(unit string, then, now []linkage.Archive) (name, by string) {
	_, rest, nested := strings.Cut(unit, "/")
	if !nested || !strings.Contains(rest, "/") {
		return "", ""
	}
	was := map[string]bool{}
	for _, a := range then {
		for _, u := range a.Units {
			was[u.Name] = true
		}
	}
	moved := 0
	for _, a := range now {
		for _, u := range a.Units {
			if _, other, ok := strings.Cut(u.Name, "/"); ok && other == rest {
				return u.Name, a.Name
			}
			if path.Base(u.Name) == path.Base(unit) && !was[u.Name] {
				name, by, moved = u.Name, a.Name, moved+1
			}
		}
	}
	if moved != 1 {
		return "", ""
	}
	return name, by
}

func spokenAll(units []string) (names []string) {
	for _, u := range units {
		names = append(names, spoken(u))
	}
	return names
}

// eachSource visits the sources of a module, in the order of their names.
func eachSource(r *registry.Registry, file string, visit func(name string, src []byte)) {
	seen := 0
	_ = fs.WalkDir(r.Around.Files, path.Join(path.Dir(file), "src"), func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !d.Type().IsRegular() || !slices.Contains([]string{".java", ".kt", ".groovy"}, path.Ext(name)) {
			return nil
		}
		if seen++; seen > maxSources {
			return fs.SkipAll
		}
		info, err := d.Info()
		if err != nil || info.Size() > maxSource {
			return nil
		}
		if src, err := fs.ReadFile(r.Around.Files, name); err == nil {
			visit(name, src)
		}
		return nil
	})
}
