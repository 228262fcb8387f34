package npm

import (
	"bytes"
	"fmt"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/jsondoc"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/project"
)

// Rewrite gives the manifests with requirements renamed, added, dropped, or taken from
// elsewhere. A renamed one keeps its place; one that is added goes where its name sorts among those of
// "dependencies" in the root's manifest, which has the overrides, too.
func (Ecosystem) Rewrite(c *model.Component, changes []contract.Change, overrides []model.Override) ([]model.FileEdit, error) {
	p := c.Detail.(*project.Project)
	if len(overrides) > 0 && p.Foreign != nil {
		return nil, &model.Fault{
			Doing: "overriding " + overrides[0].Where(), File: p.Root.File, Line: 1, Found: true,
			Wrong: fmt.Sprintf(
				"the lock is %s's, whose overrides are written in another way", p.Foreign.Client,
			), Next: "write the override yourself, and commit it",
		}
	}
	for _, change := range changes {
		if change.New == "" {
			continue
		}
		if err := packagejson.CheckName(change.New); err != nil {
			return nil, err
		}
	}
	var edits []model.FileEdit
	for i, m := range p.Manifests() {
		var splices []model.Splice
		for _, change := range changes {
			switch {
			case change.New == "": // it goes, below
			case change.Old != "":
				splices = append(splices, m.Rename(change)...)
			case i == 0:
				added, err := m.Insert(change)
				if err != nil {
					return nil, err
				}
				splices = append(splices, added)
			}
		}
		text, err := model.Apply(m.Src, splices)
		if err != nil {
			return nil, err
		}
		for _, change := range changes {
			if change.New == "" {
				if text, err = m.Drop(text, change.Old); err != nil {
					return nil, err
				}
			}
		}
		if i == 0 {
			for _, o := range overrides {
				if text, err = m.Override(text, o); err != nil {
					return nil, err
				}
			}
		}
		if bytes.Equal(text, m.Src) {
			continue
		}
		if err := jsondoc.Keeps(m.File, m.Src, text, packagejson.AboutRequirements); err != nil {
			return nil, err
		}
		edits = append(edits, model.FileEdit{File: m.File, Old: m.Src, New: text})
	}
	return edits, nil
}

// CanOverride is true: what another client's lock forbids is said when it is asked for.
func (Ecosystem) CanOverride(*model.Component) bool { return true }
