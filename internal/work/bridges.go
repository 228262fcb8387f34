package work

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/core/yamldoc"
)

// bridgesFile is where a project keeps the temporary measures that legs took. It
// is committed with them.
const bridgesFile = keepDir + "/bridges.yaml"

// bridgesSchema names the form of that file.
const bridgesSchema = "bellwether/bridges/1"

// The kinds of bridges.
const (
	bridgePreview  = "pre-release" // it can go when there is a release
	bridgeRestored = "restored"    // a package that gives a feature back; a person says when it can go
)

type bridgeList struct {
	Schema  string   `yaml:"schema"`
	Bridges []bridge `yaml:"bridges"`
}

// bridge is a temporary measure.
type bridge struct {
	Component string `yaml:"component"`
	Name      string `yaml:"name"`
	Kind      string `yaml:"kind"`
	At        string `yaml:"at"` // the version that was taken
	Because   string `yaml:"because,omitempty"`
	Since     string `yaml:"since"` // the day
}

const bridgesHeading = `# Temporary measures that legs took. "bellwether survey" tells when one can go, and
# "bellwether route --drop-bridges" makes the legs for that.
`

// bridges reads the project's bridges in a tree of files.
func bridges(fsys fs.FS) ([]bridge, error) {
	src, err := fs.ReadFile(fsys, bridgesFile)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, &model.Fault{Doing: "reading the bridges", File: bridgesFile, Wrong: bareError(err)}
	}
	list := &bridgeList{}
	if err := yamldoc.Decode(bridgesFile, src, list); err != nil {
		return nil, err
	}
	if list.Schema != bridgesSchema {
		return nil, &model.Fault{Doing: "reading the bridges", File: bridgesFile, Line: 1, Wrong: fmt.Sprintf("the schema is %q, not %q", list.Schema, bridgesSchema)}
	}
	return list.Bridges, nil
}

// noteBridges gives the edit that follows what a leg's moves take and drop, nil
// where nothing changes.
func (a *advance) noteBridges(moved *movedLeg) ([]model.FileEdit, error) {
	before, err := bridges(a.fsys)
	if err != nil {
		return nil, err
	}
	after := slices.Clone(before)
	part := a.partOf(a.leg)
	for _, m := range moved.leg.Moves {
		if part == nil || m.Subject.IsPin() {
			continue
		}
		after = slices.DeleteFunc(after, func(b bridge) bool { return b.Component == part.Dir && b.Name == m.Name })
		b := bridge{Component: part.Dir, Name: m.Name, At: m.To, Because: m.Because, Since: a.today().Format(time.DateOnly)}
		v, err := part.eco.Order().Parse(m.To)
		switch {
		case err == nil && v.Preview():
			b.Kind = bridgePreview
		case m.From == "" && m.Range != "":
			b.Kind = bridgeRestored
		default:
			continue
		}
		after = append(after, b)
	}
	if slices.Equal(before, after) {
		return nil, nil
	}
	edit := model.FileEdit{File: bridgesFile}
	if edit.Old, err = fs.ReadFile(a.fsys, bridgesFile); errors.Is(err, fs.ErrNotExist) {
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

// openBridges tells what each bridge waits for, and where it can go.
func (p *Project) openBridges(ctx context.Context) ([]model.SurveyBridge, error) {
	list, err := bridges(p.fsys)
	if err != nil {
		return nil, err
	}
	var all []model.SurveyBridge
	for _, b := range list {
		row := model.SurveyBridge{Component: b.Component, Name: b.Name, Kind: b.Kind, At: b.At, Because: b.Because, Since: b.Since, Waits: "until you say that nothing needs it any more"}
		if b.Kind == bridgePreview {
			row.Waits = "until there is a release"
			if row.Goes, err = p.releaseAfter(ctx, b); err != nil {
				return nil, err
			}
		}
		all = append(all, row)
	}
	return all, nil
}

// releaseAfter is the lowest release that a pre-release was for, "" if there is
// none yet.
func (p *Project) releaseAfter(ctx context.Context, b bridge) (string, error) {
	part := p.partIn(b.Component)
	if part == nil || len(part.Find(b.Name)) == 0 {
		return "", nil
	}
	registry, err := p.connect(ctx, part)
	if err != nil {
		return "", err
	}
	order := part.eco.Order()
	at, err := order.Parse(b.At)
	if err != nil {
		return "", nil
	}
	releases, err := registry.Releases(ctx, part.Find(b.Name)[0].Subject)
	if err != nil {
		return "", err
	}
	for _, r := range releases {
		if v, err := order.Parse(r.Version); err == nil && !v.Preview() && v.Compare(at) > 0 {
			return r.Version, nil
		}
	}
	return "", nil
}

// bridgeWishes are the destinations that drop the bridges which can go.
func (p *Project) bridgeWishes(ctx context.Context) ([]string, error) {
	list, err := p.openBridges(ctx)
	if err != nil {
		return nil, err
	}
	var wishes []string
	for _, b := range list {
		if b.Goes == "" {
			continue
		}
		order := p.partIn(b.Component).eco.Order()
		wishes = append(wishes, b.Name+"@"+newestOf(order, b.Goes))
	}
	return wishes, nil
}

// newestOf is the range of a version's line from that version on.
func newestOf(order version.Order, text string) string {
	if _, ok := order.(version.NPM); ok {
		return "^" + text
	}
	return lineOf(order, text)
}
