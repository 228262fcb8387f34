package gomod

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

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
)

// version is a module at a version, or what stands for Go: {"go", "1.24"}.
type version = module.Version

// project is a module as it lies in its folder.
type project struct {
	files    *ecosystem.Index // the whole project's
	fsys     fs.FS            // where they lie
	dir      string
	file     string // go.mod, relative to the project
	src      []byte
	mod      *modfile.File
	sumFile  string
	sum      *sums
	vendored bool
	work     *workspace // that uses the module; nil for none
	apart    bool       // a workspace around the module does not use it

	// What is found out while resolving holds for as long as the files do.
	own     memo[string, *sources]
	folders memo[string, *index]
	reaches memo[version, *graph]
	deeps   memo[version, *graph]

	replacing sync.Once
	replaced  map[version]*modfile.Replace // by what is replaced, of each the first line
}

// Read reads a go.mod, and go.sum, vendor/modules.txt and go.work around it.
func (Ecosystem) Read(x *ecosystem.Index, dir string) (*model.Component, error) {
	p, err := readProject(x, dir)
	if err != nil {
		return nil, err
	}
	c := &model.Component{Kind: Name, Type: Name, Dir: dir, Name: p.path(), Manifest: p.file, Detail: p}
	if p.sum.src != nil {
		c.Locks = []model.Lock{{File: p.sumFile}}
	}
	if p.vendored {
		c.Notes = append(c.Notes, path.Join(dir, "vendor")+" holds copies of the modules; the fetch stage writes it anew")
	}
	if p.work != nil {
		c.Notes = append(c.Notes, p.work.notes(p.mod.Require)...)
	}
	if g := p.mod.Go; g != nil {
		site := p.site(g.Syntax, g.Version)
		c.Pins = append(c.Pins, model.Pin{Subject: runtimeGo, Range: g.Version, Site: site, AtLeast: true})
		c.Requirements = append(c.Requirements, model.Requirement{
			Subject: runtimeGo, Name: "go", Group: "go", Range: g.Version, Site: site, Locked: g.Version, Asked: true,
		})
	}
	if t := p.mod.Toolchain; t != nil {
		c.Pins = append(c.Pins, model.Pin{Subject: runtimeGo, Range: strings.TrimPrefix(t.Name, "go"), Site: p.site(t.Syntax, t.Name)})
	}
	for _, r := range p.mod.Require {
		req := model.Requirement{
			Subject: model.Subject{Kind: Name, Name: r.Mod.Path}, Name: r.Mod.Path, Group: "require",
			Range: r.Mod.Version, Site: p.site(r.Syntax, r.Mod.Version), Locked: r.Mod.Version, Fixed: p.fixed(r.Mod),
		}
		if r.Indirect {
			req.Group, req.Asked = "indirect", true
		}
		c.Requirements = append(c.Requirements, req)
	}
	return c, nil
}

var runtimeGo = model.Subject{Kind: "runtime", Name: "go"}

// readProject reads what makes up the module in dir.
func readProject(x *ecosystem.Index, dir string) (*project, error) {
	fsys := x.FS
	p := &project{files: x, fsys: fsys, dir: dir, file: path.Join(dir, "go.mod"), sumFile: path.Join(dir, "go.sum")}
	var err error
	if p.src, err = readFile(fsys, p.file); err != nil {
		return nil, err
	}
	if p.mod, err = modfile.Parse(p.file, p.src, nil); err != nil {
		return nil, syntaxFault(p.file, p.src, err)
	}
	if p.mod.Module == nil {
		return nil, &model.Fault{
			Doing: "reading go.mod", File: p.file, Line: 1, Wrong: "it has no module line", Next: "name the module: module example.com/name",
		}
	}
	seen := map[string]int{}
	for _, r := range p.mod.Require {
		if line := seen[r.Mod.Path]; line > 0 {
			return nil, &model.Fault{
				Doing: "reading go.mod", File: p.file, Line: r.Syntax.Start.Line,
				Wrong: fmt.Sprintf("%s is required a second time, first on line %d", r.Mod.Path, line), Next: "drop one of the two lines",
			}
		}
		seen[r.Mod.Path] = r.Syntax.Start.Line
	}
	if p.sum, err = readSums(fsys, p.sumFile); err != nil {
		return nil, err
	}
	if _, err := fs.Stat(fsys, path.Join(dir, "vendor/modules.txt")); err == nil {
		p.vendored = true
	}
	if p.work, p.apart, err = findWorkspace(fsys, dir); err != nil {
		return nil, err
	}
	return p, nil
}

// readFile reads a file of the project.
func readFile(fsys fs.FS, name string) ([]byte, error) {
	data, err := fs.ReadFile(fsys, name)
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		return data, err
	}
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		err = pathError.Err
	}
	return nil, &model.Fault{Doing: "reading", File: name, Wrong: err.Error()}
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

// path is the module's own.
func (p *project) path() string { return p.mod.Module.Mod.Path }

// goVersion is what the go line states; without one it counts as 1.16.
func (p *project) goVersion() string {
	if p.mod.Go == nil {
		return "1.16"
	}
	return p.mod.Go.Version
}

// site is where a token of a line stands. The token may be quoted.
func (p *project) site(line *modfile.Line, token string) model.Site {
	at := line.Start.Byte
	for _, t := range line.Token {
		i := bytes.Index(p.src[at:line.End.Byte], []byte(t))
		if i < 0 {
			break
		}
		at += i
		if t == token || modfile.AutoQuote(token) == t {
			return model.Site{File: p.file, Start: at, End: at + len(t), Line: line.Start.Line, Text: t}
		}
		at += len(t)
	}
	return model.Site{
		File: p.file, Start: line.Start.Byte, End: line.End.Byte, Line: line.Start.Line,
		Text: string(p.src[line.Start.Byte:line.End.Byte]),
	}
}

// tools are the packages that tool lines name.
func (p *project) tools() []string {
	var all []string
	for _, t := range p.mod.Tool {
		all = append(all, t.Path)
	}
	return all
}

// place is "file:line" of a line of go.mod.
func (p *project) place(line *modfile.Line) string {
	return fmt.Sprintf("%s:%d", p.file, line.Start.Line)
}

// fixed says why a requirement cannot be moved by its version, if so.
func (p *project) fixed(m version) string {
	if r := p.replacement(m); r != nil {
		return fmt.Sprintf("replaced by %s (%s)", target(r), p.place(r.Syntax))
	}
	if p.work != nil && p.work.members[m.Path] != "" {
		return "a module of the workspace " + p.work.file
	}
	return ""
}

// replacement is the line that replaces a module, nil if none does. One for a
// version goes before one for all.
func (p *project) replacement(m version) *modfile.Replace {
	p.replacing.Do(func() {
		p.replaced = map[version]*modfile.Replace{}
		for _, r := range p.mod.Replace {
			if old := (version{Path: r.Old.Path, Version: r.Old.Version}); p.replaced[old] == nil {
				p.replaced[old] = r
			}
		}
	})
	if r := p.replaced[m]; r != nil {
		return r
	}
	return p.replaced[version{Path: m.Path}]
}

// target is what a replace line puts in the place, as it writes it.
func target(r *modfile.Replace) string { return strings.TrimSuffix(r.New.Path+" "+r.New.Version, " ") }

// excluded is the line that excludes a version, nil if none does.
func (p *project) excluded(m version) *modfile.Exclude {
	i := slices.IndexFunc(p.mod.Exclude, func(e *modfile.Exclude) bool { return e.Mod == m })
	if i < 0 {
		return nil
	}
	return p.mod.Exclude[i]
}

// required is the line that requires a module, nil if none does.
func (p *project) required(path string) *modfile.Require {
	i := slices.IndexFunc(p.mod.Require, func(r *modfile.Require) bool { return r.Mod.Path == path })
	if i < 0 {
		return nil
	}
	return p.mod.Require[i]
}
