package work

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/version"
	"bellwether/internal/core/yamldoc"
	"bellwether/internal/ecosystem"
)

// bridgesFile is where a project keeps the temporary measures that legs took. It
// is committed with them.
const bridgesFile = keepDir + "/bridges.yaml"

// bridgesSchema names the form of that file.
const bridgesSchema = "bellwether/bridges/1"

// The kinds of bridges.
const (
	bridgePreview  = "pre-release" // it can go when there is a release
	bridgeBranch   = "branch"      // it can go when there is a release
	bridgeRestored = "restored"    // a package that gives a feature back; a person says when it can go
	bridgeOverride = "override"    // a package gets of another what it does not ask for; it can go when it does
)

type bridgeList struct {
	Schema  string   `yaml:"schema"`
	Bridges []bridge `yaml:"bridges"`
}

// bridge is a temporary measure.
type bridge struct {
	Component string `yaml:"component"`
	Name      string `yaml:"name"`
	Of        string `yaml:"of,omitempty"` // the package that an override is for
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
		return nil, &model.Fault{Doing: "reading the bridges", File: bridgesFile, Wrong: model.Reason(err)}
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
		after = slices.DeleteFunc(after, func(b bridge) bool { return b.Component == part.Dir && b.Name == m.Name && b.Kind != bridgeOverride })
		b := bridge{Component: part.Dir, Name: m.Name, At: m.To, Because: m.Because, Since: a.today().Format(time.DateOnly)}
		v, err := part.eco.Order().Parse(m.To)
		switch {
		case err == nil && v.Preview():
			b.Kind = bridgePreview
		case a.ofBranch(part, m.To) && !a.ofBranch(part, m.From):
			b.Kind = bridgeBranch
		case m.Becomes == m.Name && isSource(part, m.Range):
			b.Kind = bridgeBranch
		case m.From == "" && m.Range != "":
			b.Kind = bridgeRestored
		default:
			continue
		}
		after = append(after, b)
	}
	for _, o := range moved.leg.Overrides {
		after = slices.DeleteFunc(after, func(b bridge) bool {
			return b.Component == part.Dir && b.Kind == bridgeOverride && b.Of == o.Of && b.Name == o.Name
		})
		if !o.Drop {
			after = append(after, bridge{Component: part.Dir, Name: o.Name, Of: o.Of, Kind: bridgeOverride, At: cmpOr(o.Range, "the project's own"), Because: o.Because, Since: a.today().Format(time.DateOnly)})
		}
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

// ofBranch tells whether a version of a component's packages is not released.
func (p *Project) ofBranch(part *Part, version string) bool {
	brancher, ok := part.registry.(ecosystem.Brancher)
	return ok && version != "" && brancher.OfBranch(version)
}

// isSource tells whether what a manifest asks for is a repository.
func isSource(part *Part, rng string) bool {
	eco, ok := part.eco.(ecosystem.Sourced)
	return ok && eco.IsSource(rng)
}

// openBridge is a bridge with the release that it can go to.
type openBridge struct {
	model.SurveyBridge
	to string
}

// openBridges tells what each bridge waits for, and where it can go.
func (p *Project) openBridges(ctx context.Context) ([]openBridge, error) {
	list, err := bridges(p.fsys)
	if err != nil {
		return nil, err
	}
	var all []openBridge
	for _, b := range list {
		row := openBridge{SurveyBridge: model.SurveyBridge{Component: b.Component, Name: b.Name, Kind: b.Kind, At: b.At, Because: b.Because, Since: b.Since, Waits: "until you say that nothing needs it any more"}}
		switch b.Kind {
		case bridgeOverride:
			row.Name, row.Waits = b.Of+":"+b.Name, fmt.Sprintf("until %s goes with that by itself", b.Of)
			if row.Goes, err = p.withoutOverride(ctx, b); err != nil {
				return nil, err
			}
			if row.Goes != "" {
				row.Goes = fmt.Sprintf("%s %s goes without it", b.Of, row.Goes)
			}
		case bridgePreview, bridgeBranch:
			row.Waits = "until there is a release"
			if row.Goes, err = p.releaseAfter(ctx, b); err != nil {
				return nil, err
			}
			if row.Goes != "" {
				row.to, row.Goes = row.Goes, row.Goes+" is released"
			}
		}
		all = append(all, row)
	}
	return all, nil
}

// releaseAfter is the lowest release that a pre-release or branch was for, "" if
// there is none yet. A branch may bear the version of its next release.
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
	var dayAfter time.Time
	if since, err := time.Parse(time.DateOnly, b.Since); err == nil {
		dayAfter = since.AddDate(0, 0, 1)
	}
	for _, r := range releases {
		if v, err := order.Parse(r.Version); err == nil && !v.Preview() && (v.Compare(at) > 0 || v.Compare(at) == 0 && r.Published.After(dayAfter)) {
			return r.Version, nil
		}
	}
	return "", nil
}

// withoutOverride is where an override's package is, or goes, if it can do without
// by now; "" if it cannot. Everything else stays where it is.
func (p *Project) withoutOverride(ctx context.Context, b bridge) (string, error) {
	part := p.partIn(b.Component)
	if part == nil {
		return "", nil
	}
	w, err := p.world(ctx, part)
	if err != nil {
		return "", err
	}
	bounds := staying(part, "it is to stay")
	delete(bounds, b.Of)
	state, err := w.Solve(ctx, route.Goal{Bounds: bounds, Previews: p.previews(), Terms: model.Terms{Overrides: []model.Override{{Of: b.Of, Name: b.Name, Drop: true}}}})
	if _, conflict := conflictOf(err); conflict {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	for _, m := range state.Moves {
		if m.Name == b.Of {
			return m.To, nil
		}
	}
	if found := part.Find(b.Of); len(found) > 0 {
		return found[0].Locked, nil
	}
	return "what is locked", nil
}

// dropBridges adds to what is asked for that the bridges which can go do so.
func (p *Project) dropBridges(ctx context.Context, opt RouteOptions) (RouteOptions, error) {
	list, err := p.openBridges(ctx)
	if err != nil {
		return opt, err
	}
	asked := len(opt.To)
	opt.To = slices.Clone(opt.To)
	for _, b := range list {
		if b.Goes == "" {
			continue
		}
		if b.Kind == bridgeOverride {
			of, name, _ := strings.Cut(b.Name, ":")
			opt.dropped = append(opt.dropped, overrideIn{b.Component, model.Override{Of: of, Name: name, Drop: true, Because: b.Goes}})
			continue
		}
		order := p.partIn(b.Component).eco.Order()
		opt.To = append(opt.To, b.Name+"@"+newestOf(order, b.to))
	}
	if len(opt.To)-asked+len(opt.dropped) == 0 && asked == 0 {
		return opt, &model.Fault{Doing: "dropping bridges", Wrong: "there is none that can go", Next: "bellwether survey tells what each waits for", Found: true}
	}
	return opt, nil
}

// newestOf is the range of a version's line from that version on.
func newestOf(order version.Order, text string) string {
	if _, ok := order.(version.NPM); ok {
		return "^" + text
	}
	return lineOf(order, text)
}
