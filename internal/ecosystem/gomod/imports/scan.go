package imports

import (
	"bytes"
	"go/build/constraint"
	"go/parser"
	"go/scanner"
	"go/token"
	"slices"
	"strconv"
	"strings"

	"bellwether/internal/core/model"
)

// Imported is an import as a source file writes it.
type Imported struct {
	Path string
	Site model.Site // of the path, with its quotes
}

// scanFile reads the imports of a Go source file. A file that no build can
// use, since it asks for the tag "ignore", has none. What other tags a file
// asks for does not matter: what is imported anywhere must be required.
func scanFile(name string, src []byte) ([]Imported, error) {
	if !mayBuild(src) {
		return nil, nil
	}
	files := token.NewFileSet()
	f, err := parser.ParseFile(files, name, src, parser.ImportsOnly)
	if err != nil {
		var list scanner.ErrorList
		if l, ok := err.(scanner.ErrorList); ok {
			list = l
		}
		if len(list) > 0 {
			return nil, &model.Fault{Doing: "reading the imports", File: name, Line: list[0].Pos.Line, Col: list[0].Pos.Column, Wrong: list[0].Msg}
		}
		return nil, err
	}
	var all []Imported
	for _, spec := range f.Imports {
		path, err := strconv.Unquote(spec.Path.Value)
		if err != nil || path == "C" {
			continue
		}
		pos := files.Position(spec.Path.Pos())
		start := files.File(spec.Path.Pos()).Offset(spec.Path.Pos())
		all = append(
			all,
			Imported{path, model.Site{File: name, Start: start, End: start + len(spec.Path.Value), Line: pos.Line, Text: spec.Path.Value}},
		)
	}
	return all, nil
}

// mayBuild tells whether some choice of tags builds a file. Each tag counts as
// both set and not set, but "ignore", which nobody sets.
func mayBuild(src []byte) bool {
	if !bytes.Contains(src, []byte("build")) {
		return true
	}
	// The older lines, of which each must hold, count only without the newer
	// one, and only before an empty line.
	var older []constraint.Expr
	counted := 0
	inComment := false
	for line := range bytes.Lines(src) {
		text := strings.TrimSpace(string(line))
		switch {
		case inComment:
			inComment = !strings.Contains(text, "*/")
			continue
		case strings.HasPrefix(text, "/*"):
			inComment = !strings.Contains(text, "*/")
			continue
		case text == "":
			counted = len(older)
			continue
		}
		if !strings.HasPrefix(text, "//") {
			break
		}
		x, err := constraint.Parse(text)
		switch {
		case err == nil && constraint.IsGoBuild(text):
			return possible(x, true)
		case err == nil:
			older = append(older, x)
		}
	}
	for _, x := range older[:counted] {
		if !possible(x, true) {
			return false
		}
	}
	return true
}

// possible tells whether an expression can come out as want.
func possible(x constraint.Expr, want bool) bool {
	switch x := x.(type) {
	case *constraint.NotExpr:
		return possible(x.X, !want)
	case *constraint.AndExpr:
		if want {
			return possible(x.X, true) && possible(x.Y, true)
		}
		return possible(x.X, false) || possible(x.Y, false)
	case *constraint.OrExpr:
		if want {
			return possible(x.X, true) || possible(x.Y, true)
		}
		return possible(x.X, false) && possible(x.Y, false)
	case *constraint.TagExpr:
		return x.Tag != "ignore" || !want
	}
	return true
}

// goFile tells whether a file counts as Go source, and whether as a test.
func goFile(name string) (source, test bool) {
	if !strings.HasSuffix(name, ".go") || strings.HasPrefix(name, ".") || strings.HasPrefix(name, "_") {
		return false, false
	}
	return true, strings.HasSuffix(name, "_test.go")
}

// paths are the paths of imports, sorted, each once.
func paths(all []Imported) []string {
	var list []string
	for _, i := range all {
		list = append(list, i.Path)
	}
	slices.Sort(list)
	return slices.Compact(list)
}
