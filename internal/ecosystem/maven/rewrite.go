package maven

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/maven/pom"
	"bellwether/internal/ecosystem/maven/project"
	"bellwether/internal/ecosystem/mavenrepo"
)

// Rewrite gives the poms with packages renamed, added or dropped. A renamed one keeps its place, and states its version
// itself; one that is added stands behind the last dependency of the project's first file.
func (Ecosystem) Rewrite(c *model.Component, changes []contract.Change, overrides []model.Override) ([]model.FileEdit, error) {
	p := c.Detail.(*project.Project)
	if len(overrides) > 0 {
		return nil, &model.Fault{
			Doing: "overriding " + overrides[0].Name + " in " + overrides[0].Of, File: c.Manifest, Line: 1, Found: true,
			Wrong: "a pom cannot say what one package gets of another", Next: "manage its version for all, in <dependencyManagement>",
		}
	}
	splices := map[string][]model.Splice{}
	for i, change := range changes {
		again := func(later contract.Change) bool { return later.Old == change.Old }
		if change.Old != "" && slices.ContainsFunc(changes[i+1:], again) {
			continue // the last word about a package counts
		}
		to, named := mavenrepo.Read(change.New)
		if change.New != "" && !named {
			return nil, fmt.Errorf("%q is no name of a package (want group:artifact)", change.New)
		}
		if change.Old == "" {
			file, add := p.Addition(to, change.Range)
			splices[file] = append(splices[file], add)
			continue
		}
		// What takes its version from a parent or a list states its own under another name: nothing says that one is there for that.
		found := c.Find(change.Old)
		alone := len(found) > 0 && !slices.ContainsFunc(found, func(q model.Requirement) bool { return q.Role != model.Follows })
		for _, e := range p.Poms {
			for _, d := range e.Named(change.Old) {
				if change.New == "" {
					splices[e.File] = append(splices[e.File], pom.Dropped(e.Pom, d.At))
				} else {
					splices[e.File] = append(splices[e.File], e.Become(d, to, change.Range, alone)...)
				}
			}
		}
	}
	var edits []model.FileEdit
	for file, list := range splices {
		src := p.File(file).Src
		text, err := model.Apply(src, list)
		if err != nil {
			return nil, err
		}
		if !bytes.Equal(text, src) {
			edits = append(edits, model.FileEdit{File: file, Old: src, New: text})
		}
	}
	slices.SortFunc(edits, func(a, b model.FileEdit) int { return strings.Compare(a.File, b.File) })
	return edits, nil
}
