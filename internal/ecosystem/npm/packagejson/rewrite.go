package packagejson

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

// AboutRequirements tells of the parts of a manifest that moves may change.
func AboutRequirements(name string) bool {
	return slices.ContainsFunc(groups, func(g group) bool { return g.name == name }) || name == "overrides" || name == "resolutions" ||
		name == "pnpm"
}

// Rename puts a new name and range in the place of a requirement, wherever the
// manifest has it.
func (m *Manifest) Rename(change contract.Change) (splices []model.Splice) {
	for _, g := range groups {
		object := m.Doc.Get(g.name)
		if object == nil || change.New != change.Old && object.Get(change.New) != nil {
			continue
		}
		for _, member := range object.Members {
			if member.Name != change.Old {
				continue
			}
			end := member.Start + bytes.IndexByte(m.Src[member.Start+1:], '"') + 1
			name := model.Site{File: m.File, Start: member.Start + 1, End: end, Text: string(m.Src[member.Start+1 : end])}
			splices = append(
				splices, model.Splice{Site: name, New: jsondoc.Inside(change.New)},
				model.Splice{Site: member.Value.Within(m.File, m.Src), New: jsondoc.Inside(change.Range)},
			)
		}
	}
	return splices
}

// Drop gives the manifest's text without a requirement.
func (m *Manifest) Drop(text []byte, name string) (_ []byte, err error) {
	for _, g := range groups {
		if m.Doc.At(g.name, name) == nil {
			continue
		}
		if text, err = jsondoc.Drop(m.File, text, []string{g.name, name}); err != nil {
			return nil, err
		}
	}
	return text, nil
}

// Insert adds a requirement.
func (m *Manifest) Insert(change contract.Change) (model.Splice, error) {
	name, err := json.Marshal(change.New)
	if err != nil {
		return model.Splice{}, err
	}
	line := fmt.Sprintf("%s: \"%s\"", name, jsondoc.Inside(change.Range))
	object := m.Doc.Get("dependencies")
	if object == nil || object.Kind != '{' {
		return model.Splice{}, &model.Fault{
			Doing: "adding " + change.New, File: m.File, Line: 1, Wrong: `there are no "dependencies" to add it to`,
			Next: `give the manifest an object "dependencies"`,
		}
	}
	at := func(offset int) model.Site {
		return model.Site{File: m.File, Start: offset, End: offset, Line: model.LineOf(m.Src, offset)}
	}
	next := slices.IndexFunc(object.Members, func(o jsondoc.Member) bool { return Collate(o.Name, change.New) > 0 })
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

// Override gives the manifest's text with an override, or without it.
func (m *Manifest) Override(text []byte, o model.Override) ([]byte, error) {
	path := []string{"overrides", o.Of, o.Name}
	if o.Of == "" {
		path = []string{"overrides", o.Name}
		if rules := m.Doc.At(path...); rules != nil && rules.Kind == '{' { // those about what it asks for stay
			path = append(path, ".")
		}
		if slices.ContainsFunc(m.Dependencies, func(d Dependency) bool { return d.Name == o.Name }) && !o.Drop {
			return nil, &model.Fault{
				Doing: "overriding " + o.Name, File: m.File, Line: 1, Wrong: "the project requires it itself, so that it has no override",
				Next: "move the requirement: --to " + o.Name + "@" + o.Range,
			}
		}
	}
	if o.Drop {
		return jsondoc.Drop(m.File, text, path)
	}
	value := o.Range
	if value == "" {
		value = "$" + o.Name
		if !slices.ContainsFunc(m.Dependencies, func(d Dependency) bool { return d.Name == o.Name }) {
			return nil, &model.Fault{
				Doing: "overriding " + o.Where(), File: m.File, Line: 1,
				Wrong: "the project does not require " + o.Name + " itself",
				Next:  "say which versions it is to be: " + o.Of + ":" + o.Name + "@RANGE",
			}
		}
	}
	quoted, err := json.Marshal(value)
	if err != nil {
		return nil, err
	}
	if plain := m.Doc.At("overrides", o.Of); o.Of != "" && plain != nil && plain.Kind == '"' { // a rule about Of itself stays
		own := fmt.Sprintf(`{".": %s}`, plain.Raw(m.Src))
		if text, err = jsondoc.Put(m.File, text, path[:2], own); err != nil {
			return nil, err
		}
	}
	return jsondoc.Put(m.File, text, path, string(quoted))
}

// space is what stands between a place and the text before it: a line end with
// its indentation, or less.
func (m *Manifest) space(at int) string {
	before := bytes.TrimRight(m.Src[:at], " \t\r\n")
	space := string(m.Src[len(before):at])
	if space == "" || strings.Contains(space, "\n") {
		return space
	}
	return " "
}
