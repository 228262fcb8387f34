package gomod

import (
	"path"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/gomod/project"
)

// BuildsWith are the folders of other modules that the module builds with, those that replace
// lines lead to and those of its workspace, and the files of the workspace itself.
func (Ecosystem) BuildsWith(c *model.Component) (dirs []string) {
	p := c.Detail.(*project.Project)
	add := func(dir string) {
		if dir != p.Dir && !slices.Contains(dirs, dir) {
			dirs = append(dirs, dir)
		}
	}
	for _, q := range p.Mod.Require {
		if line := p.Replacement(q.Mod); line != nil && line.New.Version == "" {
			add(path.Join(p.Dir, line.New.Path))
		}
	}
	if p.Work != nil {
		add(p.Work.File)
		if p.Work.SumFile != "" {
			add(p.Work.SumFile)
		}
		for _, dir := range p.Work.Members {
			add(dir)
		}
	}
	return dirs
}
