package gomod

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"golang.org/x/mod/modfile"

	"bellwether/internal/core/model"
)

// workspace is a go.work: several modules that are built together.
type workspace struct {
	file    string
	mod     *modfile.WorkFile
	src     []byte
	members map[string]string // folders, by module path
	sumFile string            // go.work.sum, "" if there is none
}

// notes tell of requirements which the workspace replaces: that counts where it is
// built, and in no go.mod.
func (w *workspace) notes(required []*modfile.Require) (notes []string) {
	for _, r := range w.mod.Replace {
		if slices.ContainsFunc(required, func(q *modfile.Require) bool {
			return q.Mod.Path == r.Old.Path && (r.Old.Version == "" || r.Old.Version == q.Mod.Version)
		}) {
			by := strings.TrimSpace(r.New.Path + " " + r.New.Version)
			notes = append(
				notes, fmt.Sprintf("%s:%d replaces %s by %s wherever the workspace is built", w.file, r.Syntax.Start.Line, r.Old.Path, by),
			)
		}
	}
	return notes
}

// findWorkspace reads the nearest go.work at or above dir; nil if there is
// none, or if it does not use the module there, which then is apart.
func findWorkspace(fsys fs.FS, dir string) (w *workspace, apart bool, err error) {
	for at := dir; ; at = path.Dir(at) {
		w, err := readWorkspace(fsys, at)
		if err == nil {
			for _, member := range w.members {
				if member == dir {
					return w, false, nil
				}
			}
			return nil, true, nil
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return nil, false, err
		}
		if at == "." {
			return nil, false, nil
		}
	}
}

func readWorkspace(fsys fs.FS, dir string) (*workspace, error) {
	w := &workspace{file: path.Join(dir, "go.work"), members: map[string]string{}}
	src, err := readFile(fsys, w.file)
	w.src = src
	if err != nil {
		return nil, err
	}
	if _, err := fs.Stat(fsys, w.file+".sum"); err == nil {
		w.sumFile = w.file + ".sum"
	}
	if w.mod, err = modfile.ParseWork(w.file, src, nil); err != nil {
		return nil, syntaxFault(w.file, src, err)
	}
	for _, use := range w.mod.Use {
		fault := &model.Fault{
			Doing: "reading go.work", File: w.file, Line: use.Syntax.Start.Line, Next: "drop the line, or bring the folder back",
		}
		member := path.Join(dir, use.Path)
		if !fs.ValidPath(member) {
			fault.Wrong = fmt.Sprintf("it uses %s, which lies outside the project", use.Path)
			fault.Next = "give the folder that holds both with --project"
			return nil, fault
		}
		text, err := readFile(fsys, path.Join(member, "go.mod"))
		if errors.Is(err, fs.ErrNotExist) {
			fault.Wrong = fmt.Sprintf("it uses %s, where there is no go.mod", use.Path)
			return nil, fault
		}
		if err != nil {
			return nil, err
		}
		w.members[modfile.ModulePath(text)] = member
	}
	return w, nil
}

// BuildsWith are the folders of other modules that the module builds with, those that replace
// lines lead to and those of its workspace, and the files of the workspace itself.
func (Ecosystem) BuildsWith(c *model.Component) (dirs []string) {
	p := c.Detail.(*project)
	add := func(dir string) {
		if dir != p.dir && !slices.Contains(dirs, dir) {
			dirs = append(dirs, dir)
		}
	}
	for _, q := range p.mod.Require {
		if line := p.replacement(q.Mod); line != nil && line.New.Version == "" {
			add(path.Join(p.dir, line.New.Path))
		}
	}
	if p.work != nil {
		add(p.work.file)
		if p.work.sumFile != "" {
			add(p.work.sumFile)
		}
		for _, dir := range p.work.members {
			add(dir)
		}
	}
	return dirs
}
