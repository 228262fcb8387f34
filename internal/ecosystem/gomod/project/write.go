package project

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"

	"golang.org/x/mod/modfile"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/gomod/selection"
)

// Rewritten is go.mod with the requirements of rs. Where only versions differ,
// these are spliced in and all else stays byte for byte. Where lines come, go,
// or change between direct and indirect, the file gets the one form that the
// go command gives it.
func (p *Project) Rewritten(rs *selection.Requirements, goVersion string, tools []string, moves []model.Move) ([]byte, error) {
	splices, ok := p.splices(rs, goVersion)
	if ok && slices.Equal(tools, p.Tools()) {
		return model.Apply(p.Src, splices)
	}
	f, err := modfile.Parse(p.File, p.Src, nil)
	if err != nil {
		return nil, err
	}
	if f.Go != nil && f.Go.Version != goVersion {
		if err := f.AddGoStmt(goVersion); err != nil {
			return nil, err
		}
	}
	if f.Toolchain != nil && selection.CompareGo(f.Toolchain.Name, goVersion) <= 0 {
		f.DropToolchainStmt()
	}
	for i, tool := range p.Tools() {
		if tools[i] == tool {
			continue
		}
		if err := f.DropTool(tool); err != nil {
			return nil, err
		}
		if err := f.AddTool(tools[i]); err != nil {
			return nil, err
		}
	}
	for _, m := range moves {
		if rs.Roots[m.Name] == "" && p.Required(m.Becomes) == nil {
			rename(f, m.Name, m.Becomes)
		}
	}
	var list []*modfile.Require
	for _, m := range rs.List {
		if m.Path != "go" && m.Path != "toolchain" {
			list = append(list, &modfile.Require{Mod: m, Indirect: !rs.Direct[m.Path]})
		}
	}
	if selection.Prunes(goVersion) {
		f.SetRequireSeparateIndirect(list)
	} else {
		f.SetRequire(list)
	}
	f.Cleanup()
	text, err := f.Format()
	if err != nil {
		return nil, fmt.Errorf("writing %s: %w", p.File, err)
	}
	if bytes.Contains(p.Src, []byte("\r\n")) {
		text = bytes.ReplaceAll(text, []byte("\n"), []byte("\r\n"))
	}
	return text, nil
}

// rename lets a requirement's line, with its place and comments, be about
// another path.
func rename(f *modfile.File, from, to string) {
	for _, q := range f.Require {
		if q.Mod.Path != from || to == "" {
			continue
		}
		for i, token := range q.Syntax.Token {
			if token == modfile.AutoQuote(from) || token == from {
				q.Syntax.Token[i] = modfile.AutoQuote(to)
			}
		}
		q.Mod.Path = to
	}
}

// splices are the changes of versions; ok is false if more than versions
// changes.
func (p *Project) splices(rs *selection.Requirements, goVersion string) (splices []model.Splice, ok bool) {
	wanted := maps.Clone(rs.Roots)
	delete(wanted, "go")
	delete(wanted, "toolchain")
	for _, q := range p.Mod.Require {
		v := wanted[q.Mod.Path]
		if v == "" || q.Indirect == rs.Direct[q.Mod.Path] {
			return nil, false
		}
		delete(wanted, q.Mod.Path)
		if v != q.Mod.Version {
			splices = append(splices, model.Splice{Site: p.Site(q.Syntax, q.Mod.Version), New: v})
		}
	}
	if g := p.Mod.Go; g != nil && g.Version != goVersion {
		splices = append(splices, model.Splice{Site: p.Site(g.Syntax, g.Version), New: goVersion})
	}
	t := p.Mod.Toolchain
	return splices, len(wanted) == 0 && (t == nil || selection.CompareGo(strings.TrimPrefix(t.Name, "go"), goVersion) > 0)
}

// Raised is the go.work with its go line not below that of its modules; nil if
// it is fine.
func (w *workspace) Raised(goVersion string) *model.FileEdit {
	if w == nil || w.mod.Go == nil || selection.CompareGo(w.mod.Go.Version, goVersion) >= 0 {
		return nil
	}
	line := w.mod.Go.Syntax
	text := string(w.src[line.Start.Byte:line.End.Byte])
	splice := model.Splice{
		Site: model.Site{File: w.File, Start: line.Start.Byte, End: line.End.Byte, Line: line.Start.Line, Text: text},
		New:  strings.Replace(text, w.mod.Go.Version, goVersion, 1),
	}
	fresh, err := model.Apply(w.src, []model.Splice{splice})
	if err != nil {
		return nil
	}
	return &model.FileEdit{File: w.File, Old: w.src, New: fresh}
}
