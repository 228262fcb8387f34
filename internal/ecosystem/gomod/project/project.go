// Package project is a module as it lies in its folder: go.mod, go.sum, and the workspace around it.
package project

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"golang.org/x/mod/modfile"
	"golang.org/x/mod/module"

	"bellwether/internal/core/memo"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gomod/imports"
	"bellwether/internal/ecosystem/gomod/selection"
)

// BuildsWith tells whether a required module is replaced by a folder.
func (p *Project) BuildsWith(dir string) bool {
	for _, q := range p.Mod.Require {
		if line := p.Replacement(q.Mod); line != nil && line.New.Version == "" && path.Join(p.Dir, line.New.Path) == dir {
			return true
		}
	}
	return false
}

// Name is the ecosystem's name and Package URL type.
const Name = "golang"

// Project is a module as it lies in its folder.
type Project struct {
	Files    *ecosystem.Index // the whole project's
	Fsys     fs.FS            // where they lie
	Dir      string
	File     string // go.mod, relative to the project
	Src      []byte
	Mod      *modfile.File
	SumFile  string
	Sum      *Sums
	Vendored bool
	Work     *workspace // that uses the module; nil for none
	Apart    bool       // a workspace around the module does not use it

	// What is found out while resolving holds for as long as the files do.
	Own     memo.Table[string, *imports.Sources]
	Folders memo.Table[string, *imports.Index]
	Reaches memo.Table[module.Version, *selection.Graph]
	Deeps   memo.Table[module.Version, *selection.Graph]

	replacing sync.Once
	replaced  map[module.Version]*modfile.Replace // by what is replaced, of each the first line
}

// RuntimeGo is Go itself.
var RuntimeGo = model.Subject{Kind: "runtime", Name: "go"}

// Read reads what makes up the module in dir.
func Read(x *ecosystem.Index, dir string) (*Project, error) {
	fsys := x.FS
	p := &Project{Files: x, Fsys: fsys, Dir: dir, File: path.Join(dir, "go.mod"), SumFile: path.Join(dir, "go.sum")}
	var err error
	if p.Src, err = imports.ReadFile(fsys, p.File); err != nil {
		return nil, err
	}
	if p.Mod, err = modfile.Parse(p.File, p.Src, nil); err != nil {
		return nil, syntaxFault(p.File, p.Src, err)
	}
	if p.Mod.Module == nil {
		return nil, &model.Fault{
			Doing: "reading go.mod", File: p.File, Line: 1, Wrong: "it has no module line", Next: "name the module: module example.com/name",
		}
	}
	seen := map[string]int{}
	for _, r := range p.Mod.Require {
		if line := seen[r.Mod.Path]; line > 0 {
			return nil, &model.Fault{
				Doing: "reading go.mod", File: p.File, Line: r.Syntax.Start.Line,
				Wrong: fmt.Sprintf("%s is required a second time, first on line %d", r.Mod.Path, line), Next: "drop one of the two lines",
			}
		}
		seen[r.Mod.Path] = r.Syntax.Start.Line
	}
	if p.Sum, err = ReadSums(fsys, p.SumFile); err != nil {
		return nil, err
	}
	if _, err := fs.Stat(fsys, path.Join(dir, "vendor/modules.txt")); err == nil {
		p.Vendored = true
	}
	if p.Work, p.Apart, err = findWorkspace(fsys, dir); err != nil {
		return nil, err
	}
	return p, nil
}

// ReadSources reads the module's own files.
func (p *Project) ReadSources() (*imports.Sources, error) {
	return imports.Read(p.Fsys, p.Dir, p.Path(), p.Mod.Ignore)
}

// syntaxFault says where a file of go.mod's syntax is wrong.
func syntaxFault(file string, src []byte, err error) error {
	f := &model.Fault{Doing: "reading " + path.Base(file), File: file, Wrong: err.Error()}
	var list modfile.ErrorList
	if errors.As(err, &list) && len(list) > 0 {
		first := list[0]
		f.Line, f.Col, f.Wrong = first.Pos.Line, first.Pos.LineRune, first.Err.Error()
		switch {
		case first.Verb != "" && first.ModPath != "":
			f.Wrong = fmt.Sprintf("%s %s: %s", first.Verb, first.ModPath, f.Wrong)
		case first.Verb != "":
			f.Wrong = first.Verb + ": " + f.Wrong
		}
	}
	for n, line := range bytes.Split(src, []byte("\n")) {
		if bytes.HasPrefix(line, []byte("<<<<<<<")) {
			f.Line, f.Col, f.Wrong, f.Next = n+1, 0, "a merge left its conflict markers here", "settle the merge first"
			break
		}
	}
	return f
}

// Path is the module's own.
func (p *Project) Path() string { return p.Mod.Module.Mod.Path }

// GoVersion is what the go line states; without one it counts as 1.16.
func (p *Project) GoVersion() string {
	if p.Mod.Go == nil {
		return "1.16"
	}
	return p.Mod.Go.Version
}

// Site is where a token of a line stands. The token may be quoted.
func (p *Project) Site(line *modfile.Line, token string) model.Site {
	at := line.Start.Byte
	for _, t := range line.Token {
		i := bytes.Index(p.Src[at:line.End.Byte], []byte(t))
		if i < 0 {
			break
		}
		at += i
		if t == token || modfile.AutoQuote(token) == t {
			return model.Site{File: p.File, Start: at, End: at + len(t), Line: line.Start.Line, Text: t}
		}
		at += len(t)
	}
	return model.Site{
		File: p.File, Start: line.Start.Byte, End: line.End.Byte, Line: line.Start.Line,
		Text: string(p.Src[line.Start.Byte:line.End.Byte]),
	}
}

// Tools are the packages that tool lines name.
func (p *Project) Tools() []string {
	var all []string
	for _, t := range p.Mod.Tool {
		all = append(all, t.Path)
	}
	return all
}

// Place is "file:line" of a line of go.mod.
func (p *Project) Place(line *modfile.Line) string {
	return fmt.Sprintf("%s:%d", p.File, line.Start.Line)
}

// Fixed says why a requirement cannot be moved by its version, if so.
func (p *Project) Fixed(m module.Version) string {
	if r := p.Replacement(m); r != nil {
		return fmt.Sprintf("replaced by %s (%s)", Target(r), p.Place(r.Syntax))
	}
	if p.Work != nil && p.Work.Members[m.Path] != "" {
		return "a module of the workspace " + p.Work.File
	}
	return ""
}

// Replacement is the line that replaces a module, nil if none does. One for a
// version goes before one for all.
func (p *Project) Replacement(m module.Version) *modfile.Replace {
	p.replacing.Do(func() {
		p.replaced = map[module.Version]*modfile.Replace{}
		for _, r := range p.Mod.Replace {
			if old := (module.Version{Path: r.Old.Path, Version: r.Old.Version}); p.replaced[old] == nil {
				p.replaced[old] = r
			}
		}
	})
	if r := p.replaced[m]; r != nil {
		return r
	}
	return p.replaced[module.Version{Path: m.Path}]
}

// Target is what a replace line puts in the place, as it writes it.
func Target(r *modfile.Replace) string { return strings.TrimSuffix(r.New.Path+" "+r.New.Version, " ") }

// Excluded is the line that excludes a version, nil if none does.
func (p *Project) Excluded(m module.Version) *modfile.Exclude {
	i := slices.IndexFunc(p.Mod.Exclude, func(e *modfile.Exclude) bool { return e.Mod == m })
	if i < 0 {
		return nil
	}
	return p.Mod.Exclude[i]
}

// Required is the line that requires a module, nil if none does.
func (p *Project) Required(path string) *modfile.Require {
	i := slices.IndexFunc(p.Mod.Require, func(r *modfile.Require) bool { return r.Mod.Path == path })
	if i < 0 {
		return nil
	}
	return p.Mod.Require[i]
}

// Roots are what go.mod requires, Go among it.
func (p *Project) Roots() []module.Version {
	roots := []module.Version{{Path: "go", Version: p.GoVersion()}}
	for _, r := range p.Mod.Require {
		roots = append(roots, r.Mod)
	}
	return roots
}

// Placed gives an error the place where go.mod requires what it is about.
func (p *Project) Placed(m module.Version, err error) error {
	var fault *model.Fault
	if line := p.Required(m.Path); line != nil && line.Mod == m && !errors.As(err, &fault) {
		return fmt.Errorf("%s: %w", p.Place(line.Syntax), err)
	}
	return err
}
