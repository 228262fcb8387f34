package npm

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/jsondoc"
	"bellwether/internal/core/model"
)

// Rewrite gives the manifests with requirements renamed, added, dropped, or taken from
// elsewhere. A renamed one keeps its place; one that is added goes where its name sorts among those of
// "dependencies" in the root's manifest, which has the overrides, too.
func (Ecosystem) Rewrite(c *model.Component, changes []contract.Change, overrides []model.Override) ([]model.FileEdit, error) {
	p := c.Detail.(*project)
	if len(overrides) > 0 && p.foreign != nil {
		return nil, &model.Fault{
			Doing: "overriding " + overrides[0].Where(), File: p.root.file, Line: 1, Found: true,
			Wrong: fmt.Sprintf(
				"the lock is %s's, whose overrides are written in another way", p.foreign.client,
			), Next: "write the override yourself, and commit it",
		}
	}
	for _, change := range changes {
		if change.New == "" {
			continue
		}
		if err := checkName(change.New); err != nil {
			return nil, err
		}
	}
	var edits []model.FileEdit
	for i, m := range p.manifests() {
		var splices []model.Splice
		for _, change := range changes {
			switch {
			case change.New == "": // it goes, below
			case change.Old != "":
				splices = append(splices, m.rename(change)...)
			case i == 0:
				added, err := m.insert(change)
				if err != nil {
					return nil, err
				}
				splices = append(splices, added)
			}
		}
		text, err := model.Apply(m.src, splices)
		if err != nil {
			return nil, err
		}
		for _, change := range changes {
			if change.New == "" {
				if text, err = m.drop(text, change.Old); err != nil {
					return nil, err
				}
			}
		}
		if i == 0 {
			for _, o := range overrides {
				if text, err = m.override(text, o); err != nil {
					return nil, err
				}
			}
		}
		if bytes.Equal(text, m.src) {
			continue
		}
		if err := jsondoc.Keeps(m.file, m.src, text, aboutRequirements); err != nil {
			return nil, err
		}
		edits = append(edits, model.FileEdit{File: m.file, Old: m.src, New: text})
	}
	return edits, nil
}

// CanOverride is true: what another client's lock forbids is said when it is asked for.
func (Ecosystem) CanOverride(*model.Component) bool { return true }

// aboutRequirements tells of the parts of a manifest that moves may change.
func aboutRequirements(name string) bool {
	return slices.ContainsFunc(groups, func(g group) bool { return g.name == name }) || name == "overrides" || name == "resolutions" ||
		name == "pnpm"
}

// rename puts a new name and range in the place of a requirement, wherever the
// manifest has it.
func (m *manifest) rename(change contract.Change) (splices []model.Splice) {
	for _, g := range groups {
		object := m.doc.Get(g.name)
		if object == nil || change.New != change.Old && object.Get(change.New) != nil {
			continue
		}
		for _, member := range object.Members {
			if member.Name != change.Old {
				continue
			}
			end := member.Start + bytes.IndexByte(m.src[member.Start+1:], '"') + 1
			name := model.Site{File: m.file, Start: member.Start + 1, End: end, Text: string(m.src[member.Start+1 : end])}
			splices = append(
				splices, model.Splice{Site: name, New: jsondoc.Inside(change.New)},
				model.Splice{Site: member.Value.Within(m.file, m.src), New: jsondoc.Inside(change.Range)},
			)
		}
	}
	return splices
}

// drop gives the manifest's text without a requirement.
func (m *manifest) drop(text []byte, name string) (_ []byte, err error) {
	for _, g := range groups {
		if m.doc.At(g.name, name) == nil {
			continue
		}
		if text, err = jsondoc.Drop(m.file, text, []string{g.name, name}); err != nil {
			return nil, err
		}
	}
	return text, nil
}

// insert adds a requirement.
func (m *manifest) insert(change contract.Change) (model.Splice, error) {
	name, err := json.Marshal(change.New)
	if err != nil {
		return model.Splice{}, err
	}
	line := fmt.Sprintf("%s: \"%s\"", name, jsondoc.Inside(change.Range))
	object := m.doc.Get("dependencies")
	if object == nil || object.Kind != '{' {
		return model.Splice{}, &model.Fault{
			Doing: "adding " + change.New, File: m.file, Line: 1, Wrong: `there are no "dependencies" to add it to`,
			Next: `give the manifest an object "dependencies"`,
		}
	}
	at := func(offset int) model.Site {
		return model.Site{File: m.file, Start: offset, End: offset, Line: model.LineOf(m.src, offset)}
	}
	next := slices.IndexFunc(object.Members, func(o jsondoc.Member) bool { return collate(o.Name, change.New) > 0 })
	switch {
	case len(object.Members) == 0:
		return model.Splice{Site: at(object.Start + 1), New: line}, nil
	case next < 0:
		last := object.Members[len(object.Members)-1]
		return model.Splice{Site: at(last.Value.End), New: "," + m.space(last.Start) + line}, nil
	}
	before := object.Members[next].Start
	return model.Splice{Site: at(before), New: line + "," + m.space(before)}, nil
}

// override gives the manifest's text with an override, or without it.
func (m *manifest) override(text []byte, o model.Override) ([]byte, error) {
	path := []string{"overrides", o.Of, o.Name}
	if o.Of == "" {
		path = []string{"overrides", o.Name}
		if rules := m.doc.At(path...); rules != nil && rules.Kind == '{' { // those about what it asks for stay
			path = append(path, ".")
		}
		if slices.ContainsFunc(m.dependencies, func(d dependency) bool { return d.name == o.Name }) && !o.Drop {
			return nil, &model.Fault{
				Doing: "overriding " + o.Name, File: m.file, Line: 1, Wrong: "the project requires it itself, so that it has no override",
				Next: "move the requirement: --to " + o.Name + "@" + o.Range,
			}
		}
	}
	if o.Drop {
		return jsondoc.Drop(m.file, text, path)
	}
	value := o.Range
	if value == "" {
		value = "$" + o.Name
		if !slices.ContainsFunc(m.dependencies, func(d dependency) bool { return d.name == o.Name }) {
			return nil, &model.Fault{
				Doing: "overriding " + o.Where(), File: m.file, Line: 1,
				Wrong: "the project does not require " + o.Name + " itself",
				Next:  "say which versions it is to be: " + o.Of + ":" + o.Name + "@RANGE",
			}
		}
	}
	quoted, err := json.Marshal(value)
	if err != nil {
		return nil, err
	}
	if plain := m.doc.At("overrides", o.Of); o.Of != "" && plain != nil && plain.Kind == '"' { // a rule about Of itself stays
		own := fmt.Sprintf(`{".": %s}`, plain.Raw(m.src))
		if text, err = jsondoc.Put(m.file, text, path[:2], own); err != nil {
			return nil, err
		}
	}
	return jsondoc.Put(m.file, text, path, string(quoted))
}

// space is what stands between a place and the text before it: a line end with
// its indentation, or less.
func (m *manifest) space(at int) string {
	before := bytes.TrimRight(m.src[:at], " \t\r\n")
	space := string(m.src[len(before):at])
	if space == "" || strings.Contains(space, "\n") {
		return space
	}
	return " "
}
