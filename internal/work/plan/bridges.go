package plan

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/world"
)

// OpenBridge is a bridge with the release that it can go to.
type OpenBridge struct {
	output.SurveyBridge
	to string
}

// OpenBridges tells what each temporary measure of a project waits for, and where it can go.
func OpenBridges(ctx context.Context, d *desk.Desk, t *tree.Tree) ([]OpenBridge, error) {
	return (&planner{desk: d, tree: t}).openBridges(ctx)
}

// openBridges tells what each bridge waits for, and where it can go.
func (p *planner) openBridges(ctx context.Context) ([]OpenBridge, error) {
	list, err := kept.Bridges(p.tree.Files.FS)
	if err != nil {
		return nil, err
	}
	var all []OpenBridge
	for _, b := range list {
		row := OpenBridge{
			SurveyBridge: output.SurveyBridge{
				Component: b.Component, Name: b.Name, Kind: b.Kind, At: b.At, Because: b.Because, Since: b.Since,
				Waits: "until you say that nothing needs it any more",
			},
		}
		switch b.Kind {
		case kept.BridgeOverride:
			of := model.Override{Of: b.Of, Name: b.Name}
			row.Name, row.Waits = of.Where(), "until what asks for it goes with that by itself"
			if b.Of != "" {
				row.Waits = fmt.Sprintf("until %s goes with that by itself", b.Of)
			}
			if row.Goes, err = p.withoutOverride(ctx, b); err != nil {
				return nil, err
			}
			if row.Goes != "" {
				row.Goes = strings.TrimSpace(b.Of+" "+row.Goes) + " goes without it"
			}
		case kept.BridgePreview, kept.BridgeBranch:
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
func (p *planner) releaseAfter(ctx context.Context, b kept.Bridge) (string, error) {
	part := p.tree.Part(b.Component)
	if part == nil {
		return "", nil
	}
	subject, declared := part.SubjectOf(b.Name)
	if !declared {
		return "", nil
	}
	registry, err := p.desk.Registry(ctx, part)
	if err != nil {
		return "", err
	}
	order := part.Eco.Order()
	at, err := order.Parse(b.At)
	if err != nil {
		return "", nil
	}
	releases, err := registry.Releases(ctx, subject)
	if err != nil {
		return "", err
	}
	var dayAfter time.Time
	if since, err := time.Parse(time.DateOnly, b.Since); err == nil {
		dayAfter = since.AddDate(0, 0, 1)
	}
	for _, r := range releases {
		if v, err := order.Parse(r.Version); err == nil && !v.Preview() &&
			(v.Compare(at) > 0 || v.Compare(at) == 0 && r.Published.After(dayAfter)) {
			return r.Version, nil
		}
	}
	return "", nil
}

// withoutOverride is where an override's package is, or goes, if it can do without
// by now; "" if it cannot. Everything else stays where it is.
func (p *planner) withoutOverride(ctx context.Context, b kept.Bridge) (string, error) {
	part := p.tree.Part(b.Component)
	if part == nil {
		return "", nil
	}
	w, err := world.Of(ctx, p.desk, p.tree, part)
	if err != nil {
		return "", err
	}
	bounds := world.Staying(part, "it is to stay")
	delete(bounds, b.Of)
	state, err := w.Solve(
		ctx,
		contract.Goal{
			Bounds: bounds, Previews: p.desk.Previews(),
			Terms: model.Terms{Overrides: []model.Override{{Of: b.Of, Name: b.Name, Drop: true}}},
		},
	)
	if errors.As(err, new(*solve.Conflict)) {
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
	return cmp.Or(part.LockedAt(b.Of), "what is locked"), nil
}

// dropBridges adds to what is asked for that the bridges which can go do so.
func (p *planner) dropBridges(ctx context.Context, opt world.Request) (world.Request, error) {
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
		if b.Kind == kept.BridgeOverride {
			of, name, _ := strings.Cut(b.Name, ":")
			opt.Dropped = append(
				opt.Dropped,
				world.OverrideIn{Component: b.Component, Override: model.Override{Of: of, Name: name, Drop: true, Because: b.Goes}},
			)
			continue
		}
		part := p.tree.Part(b.Component)
		if part == nil {
			continue // it cannot be read, which is told
		}
		order := part.Eco.Order()
		opt.To = append(opt.To, b.Name+"@"+onward(order, b.to))
	}
	if len(opt.To)-asked+len(opt.Dropped) == 0 && asked == 0 {
		return opt, &model.Fault{
			Doing: "dropping bridges", Wrong: "there is none that can go", Next: "bellwether survey tells what each waits for", Found: true,
		}
	}
	return opt, nil
}

// onward is the range of what may take a version's place, the version itself where it cannot
// be read.
func onward(order version.Order, text string) string {
	v, err := order.Parse(text)
	if err != nil {
		return text
	}
	return order.Onward(v)
}
