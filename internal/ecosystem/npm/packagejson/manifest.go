// Package packagejson reads and changes package.json: groups of dependencies, what their values ask for, overrides, and what a
// release says of itself.
package packagejson

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"bellwether/internal/core/jsondoc"
	"bellwether/internal/core/model"
)

// Kind is the group that a dependency was declared in.
type Kind int

const (
	Prod Kind = iota // "dependencies"
	Dev
	Optional
	Peer
	PeerOptional // a peer that "peerDependenciesMeta" says is optional
)

// IsPeer tells whether the package is to be beside who asks, not below.
func (k Kind) IsPeer() bool { return k == Peer || k == PeerOptional }

// IsOptional tells whether who asks can do without.
func (k Kind) IsOptional() bool { return k == Optional || k == PeerOptional }

// group is an object of package.json that declares dependencies.
type group struct {
	name string
	kind Kind
}

// groups are all of them; a later one takes precedence where two name the same package.
var groups = []group{
	{"peerDependencies", Peer},
	{"dependencies", Prod},
	{"optionalDependencies", Optional},
	{"devDependencies", Dev},
}

// Dependency is one line of a manifest.
type Dependency struct {
	Name  string
	Group string
	Kind  Kind
	Spec  Spec
	Site  model.Site // of the range
}

// Edge is what the dependency makes of the tree.
func (d Dependency) Edge() Edge { return Edge{d.Name, d.Kind, d.Spec} }

// AskFor is the edge of one who plainly depends on a range of a package.
func AskFor(name, rng string) Edge { return Edge{name, Prod, ReadSpec(name, rng)} }

// DeclarationOf is the ID of a dependency: whatever groups of one manifest name it, it has one version there.
func DeclarationOf(d Dependency) model.DeclarationID { return model.Declaration(d.Site.File, d.Name) }

// Manifest is one package.json.
type Manifest struct {
	Dir, File     string
	Src           []byte
	Doc           *jsondoc.Value
	Name, Version string
	Dependencies  []Dependency
	Body          Body
}

// ReadManifest reads the package.json in a folder.
func ReadManifest(fsys fs.FS, dir string) (*Manifest, error) {
	m := &Manifest{Dir: dir, File: path.Join(dir, "package.json")}
	var err error
	if m.Src, err = fs.ReadFile(fsys, m.File); err != nil {
		return nil, Unreadable("reading the manifest", m.File, err)
	}
	if m.Doc, err = jsondoc.Parse(m.File, m.Src); err != nil {
		return nil, err
	}
	if m.Doc.Kind != '{' {
		return nil, &model.Fault{Doing: "reading the manifest", File: m.File, Line: 1, Wrong: "a package.json holds an object"}
	}
	var raw RawRelease
	if err := json.Unmarshal(m.Doc.Raw(m.Src), &raw, jsontext.AllowInvalidUTF8(true)); err != nil {
		return nil, &model.Fault{Doing: "reading the manifest", File: m.File, Wrong: err.Error()}
	}
	m.Name, m.Version, m.Body = raw.Name, raw.Version, raw.Body()
	for _, g := range groups {
		object := m.Doc.Get(g.name)
		if object == nil {
			continue
		}
		if object.Kind != '{' {
			return nil, m.Fault(object, fmt.Sprintf("%q holds an object of names and ranges", g.name))
		}
		for _, member := range object.Members {
			if member.Value.Kind != '"' {
				return nil, m.Fault(member.Value, fmt.Sprintf("the range of %q is a text", member.Name))
			}
			if err := CheckName(member.Name); err != nil {
				return nil, m.Fault(member.Value, err.Error())
			}
			d := Dependency{Name: member.Name, Group: g.name, Kind: g.kind, Spec: ReadSpec(member.Name, member.Value.Text)}
			if err := CheckName(d.Spec.Name); err != nil {
				return nil, m.Fault(member.Value, err.Error())
			}
			if d.Kind == Peer && slices.Contains(m.Body.PeerOptional, d.Name) {
				d.Kind = PeerOptional
			}
			d.Site = member.Value.Within(m.File, m.Src)
			if d.Spec.Prefix > 0 && d.Spec.Prefix <= len(d.Site.Text) {
				d.Site.Start += d.Spec.Prefix
				d.Site.Text = d.Site.Text[d.Spec.Prefix:]
			}
			m.Dependencies = append(m.Dependencies, d)
		}
	}
	return m, nil
}

// Fault is the error of a value in the manifest.
func (m *Manifest) Fault(at *jsondoc.Value, wrong string) error {
	return &model.Fault{
		Doing: "reading the manifest", File: m.File,
		Line: model.LineOf(m.Src, at.Start), Col: model.ColumnOf(m.Src, at.Start), Wrong: wrong,
	}
}

// Unreadable is the error of a file that could not be read, without the path that the system adds.
func Unreadable(doing, file string, err error) error {
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		err = pathError.Err
	}
	return &model.Fault{Doing: doing, File: file, Wrong: err.Error()}
}

// InEffect are the dependencies that count: of two groups that name the same
// package, the later one.
func (m *Manifest) InEffect() []Dependency {
	byName := map[string]Dependency{}
	for _, d := range m.Dependencies {
		byName[d.Name] = d
	}
	list := make([]Dependency, 0, len(byName))
	for _, name := range Collated(byName) {
		list = append(list, byName[name])
	}
	return list
}

// Edge is a dependency of a node.
type Edge struct {
	Name string
	Kind Kind
	Spec Spec
}
