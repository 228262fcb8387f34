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
const BridgesFile = Dir + "/" + keep.Shared

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
	src, err := fs.ReadFile(fsys, BridgesFile)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, &model.Fault{Doing: "reading the bridges", File: BridgesFile, Wrong: model.Reason(err)}
	}
	list := &bridgeList{}
	if err := yamldoc.Decode(BridgesFile, src, list); err != nil {
		return nil, err
	}
	if list.Schema != bridgesSchema {
		return nil, &model.Fault{
			Doing: "reading the bridges", File: BridgesFile, Line: 1,
			Wrong: fmt.Sprintf("the schema is %q, not %q", list.Schema, bridgesSchema),
		}
	}
	return list.Bridges, nil
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
	edit := model.FileEdit{File: BridgesFile}
	if edit.Old, err = fs.ReadFile(fsys, BridgesFile); errors.Is(err, fs.ErrNotExist) {
		edit.Old = nil
	} else if err != nil {
		return nil, err
	}
	var text bytes.Buffer
	text.WriteString(bridgesHeading)
	e := yaml.NewEncoder(&text)
	e.SetIndent(2)
	if err := e.Encode(bridgeList{bridgesSchema, after}); err != nil {
		return nil, err
	}
	edit.New = text.Bytes()
	return []model.FileEdit{edit}, nil
}
