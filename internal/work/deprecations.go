package work

import (
	"context"
	"errors"
	"fmt"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
)

// Deprecations verifies the project, and gives what is said to be deprecated,
// grouped by cause. Of packages it tells the release that may cure it, as far as
// registries can be asked.
func (p *Project) Deprecations(ctx context.Context) (*finding.Result, error) {
	r, err := p.Verify(ctx)
	if err != nil {
		return nil, err
	}
	r.Deprecations = finding.Causes(r.Findings(), finding.Deprecation)
	if r.Deprecations == nil {
		r.Deprecations = []finding.Cause{}
	}
	var reached []*Part // those that have registries to tell cures
	for _, part := range p.Components {
		if _, err := p.connect(ctx, part); err == nil {
			reached = append(reached, part)
		}
	}
	var g errgroup.Group
	g.SetLimit(askAtOnce)
	for i := range r.Deprecations {
		if c := &r.Deprecations[i]; !c.Own() {
			g.Go(func() error {
				c.Cure = cure(ctx, reached, c.Finding)
				return nil
			})
		}
	}
	_ = g.Wait()
	return r, ctx.Err()
}

// cure is the release from which on a package may no longer be what a finding says:
// where its release is deprecated, the lowest later one that is not, else the newest.
// It is "" if there is none, or nothing is known.
func cure(ctx context.Context, parts []*Part, f finding.Finding) string {
	for _, part := range parts {
		order := part.eco.Order()
		at, err := order.Parse(f.Version)
		if err != nil {
			continue
		}
		releases, err := part.registry.Releases(ctx, model.Subject{Kind: part.Ecosystem, Name: f.Package})
		if err != nil {
			continue
		}
		deprecated, newest, lowest := false, "", ""
		for _, r := range releases {
			v, err := order.Parse(r.Version)
			if err != nil || v.Preview() && !at.Preview() {
				continue
			}
			deprecated = deprecated || r.Version == f.Version && r.Deprecated != ""
			if v.Compare(at) > 0 && r.Deprecated == "" && !r.Retracted {
				newest = r.Version
				if lowest == "" {
					lowest = r.Version
				}
			}
		}
		if deprecated {
			return lowest
		}
		return newest
	}
	return ""
}

// settled verifies the project for a leg that asks how many deprecations of its own
// are left. The error tells those that are too many.
func (p *Project) settled(ctx context.Context, j *journey, leg *fileLeg) error {
	repo, err := p.repo(ctx)
	if err != nil {
		return err
	}
	v, _, err := p.verify(ctx, verifying{repo: repo, label: leg.ID, before: p.baseline()})
	if err != nil {
		return err
	}
	if !j.moved() { // it is the untouched project, which needs no second proof
		if err := p.keepBaseline(v); err != nil {
			return err
		}
	}
	own := 0
	var lines string
	const most = 10
	for _, c := range finding.Causes(v.Findings(), finding.Deprecation) {
		if !c.Own() {
			break
		}
		if own++; own <= most {
			lines += fmt.Sprintf("\n    %s (%s)", c.Text, cmpOr(c.Place, "no place is told"))
		}
	}
	if own <= *leg.Deprecations {
		return nil
	}
	return &model.Fault{
		Doing: "advancing to leg " + leg.ID, Found: true,
		Wrong: fmt.Sprintf("the project's own code uses %s, and %d may be left%s", counted(own, "deprecated thing", "deprecated things"), *leg.Deprecations, lines),
		Next:  "repair them, commit, and run bellwether advance again; bellwether verify --deprecations lists all",
	}
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// settleFirst puts a leg before the first that goes to another major: no more
// deprecations of the project's own than a limit.
func (p *Project) settleFirst(legs []model.Leg, limit int) []model.Leg {
	for i, leg := range legs {
		for _, m := range leg.Moves {
			if !p.isMajor(leg, m) {
				continue
			}
			title := "no deprecations of our own left"
			if limit > 0 {
				title = fmt.Sprintf("at most %s of our own left", counted(limit, "deprecation", "deprecations"))
			}
			settle := model.Leg{ID: fmt.Sprintf("%d-settle", i+1), Title: title, Deprecations: &limit}
			return append(append(legs[:i:i], settle), legs[i:]...)
		}
	}
	return legs
}

// isMajor tells whether a move of a package goes to another major.
func (p *Project) isMajor(leg model.Leg, m model.Move) bool {
	part := p.partIn(leg.Component)
	if part == nil || m.Subject.IsPin() || m.From == "" || m.To == "" {
		return false
	}
	order := part.eco.Order()
	from, err := order.Parse(m.From)
	to, err2 := order.Parse(m.To)
	return errors.Join(err, err2) == nil && order.Step(from, to) == version.Major && to.Compare(from) > 0
}
