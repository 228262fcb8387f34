package kept

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"slices"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/model"
	"bellwether/internal/core/yamldoc"
	"bellwether/internal/host/keep"
)

// BridgesFile is where a project keeps the temporary measures that legs took, relative to
// the project. It is committed with them.
const BridgesFile = Dir + "/" + keep.Bridges

// bridgesSchema names the form of that file.
const bridgesSchema = "bellwether/bridges/1"

const bridgesHeading = `# Temporary measures that legs took. "bellwether survey" tells when one can go, and
# "bellwether route --drop-bridges" makes the legs for that.
`

// The kinds of bridges.
const (
	BridgePreview  = "pre-release" // it can go when there is a release
	BridgeBranch   = "branch"      // it can go when there is a release
	BridgeRestored = "restored"    // a package that gives a feature back; a person says when it can go
	BridgeOverride = "override"    // a package gets of another what it does not ask for; it can go when it does
)

// Bridge is a temporary measure.
type Bridge struct {
	Component string `yaml:"component"`
	Name      string `yaml:"name"`
	Of        string `yaml:"of,omitempty"` // the package that an override is for
	Kind      string `yaml:"kind"`
	At        string `yaml:"at"` // the version that was taken
	Because   string `yaml:"because,omitempty"`
	Since     string `yaml:"since"` // the day
}

type bridgeList struct {
	Schema  string   `yaml:"schema"`
	Bridges []Bridge `yaml:"bridges"`
}

// Bridges reads a project's bridges in a tree of files.
func Bridges(fsys fs.FS) ([]Bridge, error) {
	list := &bridgeList{Schema: bridgesSchema}
	err := readShared(fsys, BridgesFile, "reading the bridges", list)
	if err == nil && list.Schema != bridgesSchema {
		err = wrongSchema("reading the bridges", BridgesFile, list.Schema, bridgesSchema)
	}
	return list.Bridges, err
}

// readShared reads a file that a project commits; one that is not there changes nothing.
func readShared(fsys fs.FS, name, doing string, into any) error {
	src, err := fs.ReadFile(fsys, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return &model.Fault{Doing: doing, File: name, Wrong: model.Reason(err)}
	}
	return yamldoc.Decode(name, src, into)
}

func wrongSchema(doing, file, found, want string) error {
	return &model.Fault{Doing: doing, File: file, Line: 1, Wrong: fmt.Sprintf("the schema is %q, not %q", found, want)}
}

// RewriteBridges gives the edit that puts other bridges in the place of those in a tree of
// files; none where they are the same.
func RewriteBridges(fsys fs.FS, change func(now []Bridge) []Bridge) ([]model.FileEdit, error) {
	before, err := Bridges(fsys)
	if err != nil {
		return nil, err
	}
	after := change(slices.Clone(before))
	if slices.Equal(before, after) {
		return nil, nil
	}
	return editShared(fsys, BridgesFile, bridgesHeading, bridgeList{bridgesSchema, after})
}

// editShared is the edit that writes a file which a project commits.
func editShared(fsys fs.FS, name, heading string, content any) ([]model.FileEdit, error) {
	edit := model.FileEdit{File: name, Kept: true}
	var err error
	if edit.Old, err = fs.ReadFile(fsys, name); errors.Is(err, fs.ErrNotExist) {
		edit.Old = nil
	} else if err != nil {
		return nil, err
	}
	var text bytes.Buffer
	text.WriteString(heading)
	e := yaml.NewEncoder(&text)
	e.SetIndent(2)
	if err := e.Encode(content); err != nil {
		return nil, err
	}
	edit.New = text.Bytes()
	return []model.FileEdit{edit}, nil
}
