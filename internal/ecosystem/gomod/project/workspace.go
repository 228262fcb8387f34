package project

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"golang.org/x/mod/modfile"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/gomod/imports"
)

// workspace is a go.work: several modules that are built together.
type workspace struct {
	File    string
	mod     *modfile.WorkFile
	src     []byte
	Members map[string]string // folders, by module path
	SumFile string            // go.work.sum, "" if there is none
}

// SharesWorkspace tells whether a workspace builds two modules together.
func (p *Project) SharesWorkspace(with *Project) bool {
	return p.Work != nil && with.Work != nil && p.Work.File == with.Work.File
}

// Notes tell of requirements which the workspace replaces: that counts where it is
// built, and in no go.mod.
func (w *workspace) Notes(required []*modfile.Require) (notes []string) {
	for _, r := range w.mod.Replace {
		if slices.ContainsFunc(required, func(q *modfile.Require) bool {
			return q.Mod.Path == r.Old.Path && (r.Old.Version == "" || r.Old.Version == q.Mod.Version)
		}) {
			by := strings.TrimSpace(r.New.Path + " " + r.New.Version)
			notes = append(
				notes, fmt.Sprintf("%s:%d replaces %s by %s wherever the workspace is built", w.File, r.Syntax.Start.Line, r.Old.Path, by),
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
			for _, member := range w.Members {
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
	w := &workspace{File: path.Join(dir, "go.work"), Members: map[string]string{}}
	src, err := imports.ReadFile(fsys, w.File)
	w.src = src
	if err != nil {
		return nil, err
	}
	if _, err := fs.Stat(fsys, w.File+".sum"); err == nil {
		w.SumFile = w.File + ".sum"
	}
	if w.mod, err = modfile.ParseWork(w.File, src, nil); err != nil {
		return nil, syntaxFault(w.File, src, err)
	}
	for _, use := range w.mod.Use {
		fault := &model.Fault{
			Doing: "reading go.work", File: w.File, Line: use.Syntax.Start.Line, Next: "drop the line, or bring the folder back",
		}
		member := path.Join(dir, use.Path)
		if !fs.ValidPath(member) {
			fault.Wrong = fmt.Sprintf("it uses %s, which lies outside the project", use.Path)
			fault.Next = "give the folder that holds both with --project"
			return nil, fault
		}
		text, err := imports.ReadFile(fsys, path.Join(member, "go.mod"))
		if errors.Is(err, fs.ErrNotExist) {
			fault.Wrong = fmt.Sprintf("it uses %s, where there is no go.mod", use.Path)
			return nil, fault
		}
		if err != nil {
			return nil, err
		}
		w.Members[modfile.ModulePath(text)] = member
	}
	return w, nil
}
