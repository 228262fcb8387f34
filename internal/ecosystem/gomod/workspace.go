package gomod

import (
	"errors"
	"fmt"
	"io/fs"
	"path"

	"golang.org/x/mod/modfile"

	"bellwether/internal/core/model"
)

// workspace is a go.work: several modules that are built together.
type workspace struct {
	file    string
	mod     *modfile.WorkFile
	src     []byte
	members map[string]string // folders, by module path
}

// findWorkspace reads the nearest go.work at or above dir; nil if there is
// none, or if it does not use the module there.
func findWorkspace(fsys fs.FS, dir string) (*workspace, error) {
	for at := dir; ; at = path.Dir(at) {
		w, err := readWorkspace(fsys, at)
		if err == nil {
			for _, member := range w.members {
				if member == dir {
					return w, nil
				}
			}
			return nil, nil
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		if at == "." {
			return nil, nil
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
	if w.mod, err = modfile.ParseWork(w.file, src, nil); err != nil {
		return nil, syntaxFault(w.file, src, err)
	}
	for _, use := range w.mod.Use {
		fault := &model.Fault{Doing: "reading go.work", File: w.file, Line: use.Syntax.Start.Line, Next: "drop the line, or bring the folder back"}
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
