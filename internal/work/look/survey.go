// Package look tells what is there, and why: it runs nothing of a project and changes nothing.
package look

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/condition"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/spelling"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/plan"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/world"
)

// SurveyOptions say what a survey tells.
type SurveyOptions struct {
	Indirect   bool   // also requirements that only other packages need
	Advisories string // a folder of vulnerability records; empty for none
}

// Survey tells what is declared, locked and newer. A package that a registry
// does not know is told in its row; the error joins those of packages that
// could not be asked for at all.
func Survey(ctx context.Context, d *desk.Desk, t *tree.Tree, opt SurveyOptions) (*output.Survey, error) {
	s := &output.Survey{}
	var problems []error
	for _, part := range t.Parts {
		registry, err := d.Registry(ctx, part)
		if err != nil {
			if len(t.Parts) == 1 || ctx.Err() != nil {
				return nil, err
			}
			problems = append(problems, fmt.Errorf("%s was not looked at: %w", part.Manifest, err))
			continue
		}
		requirements := part.Requirements
		if !opt.Indirect {
			requirements = slices.DeleteFunc(slices.Clone(requirements), func(r model.Requirement) bool {
				return r.Asked && r.Subject.Kind == part.Type
			})
		}
		c := output.SurveyComponent{
			Dir: part.Dir, Name: part.Name, Ecosystem: part.Kind, Manifest: part.Manifest, Lock: part.LockFiles(), Lockless: part.Lockless,
			Notes:        slices.Concat(part.Notes, outOfStep(part)),
			Requirements: make([]output.SurveyRequirement, len(requirements)), Indirect: len(part.Requirements) - len(requirements),
		}
		requirements = inEffect(ctx, d, part, requirements)
		var g errgroup.Group
		g.SetLimit(desk.AskAtOnce)
		faults := make([]error, len(requirements))
		for i, r := range requirements {
			g.Go(func() error {
				c.Requirements[i], faults[i] = surveyRequirement(ctx, part, registry, r)
				return nil
			})
		}
		_ = g.Wait()
		problems = append(problems, silent(part, c.Requirements, faults)...)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		for _, pin := range part.Pins {
			c.Runtimes = append(c.Runtimes, output.SurveyRuntime{
				Subject: pin.Subject.String(), Range: pin.Range, Place: pin.Site.String(), Installed: d.Installed(ctx, part, pin.Subject.Name),
			})
		}
		if c.Families, err = registry.Families(ctx, part.Component); err != nil {
			problems = append(problems, err)
		}
		c.Companions = world.Companions(ctx, part, registry)
		s.Components = append(s.Components, c)
	}
	places, err := t.Places()
	if err != nil {
		return s, joined(append(problems, err))
	}
	surveyPins(ctx, d, t, places, s)
	if s.Remarks, err = remarks(ctx, d, t, places); err != nil {
		problems = append(problems, err)
	}
	open, err := plan.OpenBridges(ctx, d, t)
	for _, b := range open {
		s.Bridges = append(s.Bridges, b.SurveyBridge)
	}
	if err != nil {
		problems = append(problems, err)
	}
	if opt.Advisories != "" {
		packages, err := d.Effective(ctx, t)
		if err == nil {
			s.Advisories, err = world.Affected(packages, opt.Advisories)
		}
		if err != nil {
			problems = append(problems, err)
		}
	}
	return s, joined(problems)
}

// outOfStep tells of requirements whose locked version is not what the manifest asks for.
func outOfStep(part *tree.Part) (notes []string) {
	if len(part.Locks) == 0 || part.Lockless {
		return nil
	}
	order := part.Eco.Order()
	for _, r := range part.Requirements {
		rng, err := order.ParseRange(r.Range)
		at, wrong := order.Parse(r.Locked)
		if err != nil || wrong != nil || r.Range == "" || r.Fixed != "" || r.Peer || rng.Contains(at) {
			continue
		}
		notes = append(notes, fmt.Sprintf(
			"%s asks for %s %s, and %s has %s: the lock is out of step with its manifest",
			r.Site, r.Name, r.Range, part.LockFiles(), r.Locked,
		))
	}
	return notes
}

// silent tells of each server that gave several packages no answer once, with all that was asked of it, in the place of one error
// for each; the rows say it in few words. Other errors stay as they are.
func silent(part *tree.Part, rows []output.SurveyRequirement, faults []error) (all []error) {
	about := map[string][]int{} // the rows of each server
	var hosts []string
	for i, err := range faults {
		var server *fetch.Unreachable
		if !errors.As(err, &server) {
			all = append(all, err)
			continue
		}
		if about[server.Host] == nil {
			hosts = append(hosts, server.Host)
		}
		about[server.Host] = append(about[server.Host], i)
	}
	for _, host := range hosts {
		list := about[host]
		if len(list) == 1 {
			all = append(all, faults[list[0]])
			continue
		}
		var names []string
		for _, i := range list {
			names, rows[i].Problem = append(names, rows[i].Name), host+" gives no usable answer"
		}
		var server *fetch.Unreachable
		errors.As(faults[list[0]], &server)
		all = append(all, fmt.Errorf("%s: nothing newer can be told of %s: %w", part.Manifest, spelling.Few(names, 6), server))
	}
	return all
}

// inEffect gives requirements whose version is stated elsewhere, by a parent or a list, the one that they get.
func inEffect(ctx context.Context, d *desk.Desk, part *tree.Part, all []model.Requirement) []model.Requirement {
	_, asks := part.Eco.(ecosystem.Effective)
	elsewhere := func(r model.Requirement) bool { return r.Locked == "" && r.Fixed != "" }
	if !asks || !slices.ContainsFunc(all, elsewhere) {
		return all
	}
	packages, err := d.EffectiveIn(ctx, part)
	if err != nil {
		return all // which is told where it is asked for
	}
	versions := map[model.Subject]string{}
	for _, p := range slices.Backward(packages) {
		versions[p.Subject] = p.Version
	}
	all = slices.Clone(all)
	for i := range all {
		if version, known := versions[all[i].Subject]; known && elsewhere(all[i]) {
			all[i].Locked = version
		}
	}
	return all
}

// shown is how many errors are told one by one. All of them stand beside what they are about.
const shown = 10

// joined joins errors, those that say the same once, and counts those that are too many.
func joined(all []error) error {
	said := map[string]bool{}
	var told []error
	for _, err := range all {
		if err != nil && !said[err.Error()] {
			said[err.Error()] = true
			told = append(told, err)
		}
	}
	if more := len(told) - shown; more > 1 {
		told = append(told[:shown], fmt.Errorf("and %d more errors like these", more))
	}
	return errors.Join(told...)
}

func surveyRequirement(
	ctx context.Context, part *tree.Part, registry ecosystem.Registry, r model.Requirement,
) (output.SurveyRequirement, error) {
	row := output.SurveyRequirement{
		Name: r.Name, PURL: r.Subject.PURL(r.Locked), Group: r.Group, When: condition.Text(r.When), Range: r.Range, Place: r.Site.String(),
		Locked: r.Locked, Fixed: r.Fixed, Asked: r.Asked,
	}
	if r.Fixed != "" {
		return row, nil
	}
	releases, err := registry.Releases(ctx, r.Subject)
	if err != nil {
		row.Problem = err.Error()
		return row, err
	}
	order := part.Eco.Order()
	if r.Locked == "" {
		row.Installs = installs(order, r.Range, releases)
	}
	at, _ := order.Parse(cmp.Or(r.Locked, row.Installs))
	lines, deprecated := map[string]bool{}, false
	var newest model.Release
	for _, rel := range releases {
		v, err := order.Parse(rel.Version)
		if err != nil {
			continue
		}
		if rel.Version == r.Locked || at != nil && v.Compare(at) < 0 {
			deprecated = rel.Deprecated != "" // what stands for a commit is as the release before it
		}
		if rel.Version == cmp.Or(r.Locked, row.Installs) {
			row.Published = rel.Published
			row.Deprecated, row.Replaced = rel.Deprecated, rel.Replaced
			row.Retracted, row.Because = rel.Retracted, rel.Because
		}
		if at != nil && v.Compare(at) <= 0 {
			continue
		}
		if v.Preview() {
			row.Preview = rel.Version
			continue
		}
		row.Preview = ""
		// From what is deprecated, one goes to what is newer and deprecated, too.
		if rel.Deprecated != "" && !deprecated || rel.Retracted {
			row.Shunned, row.Against = rel.Version, "deprecated"
			if rel.Retracted {
				row.Against = "retracted"
			}
			continue
		}
		row.Shunned, row.Against = "", ""
		newest = rel
		row.Runtime, row.Unfit, row.As, row.NewestPublished = rel.NeedsText(), rel.Unfit, rel.As, rel.Published
		if rel.Replaced != "" {
			row.Replaced = rel.Replaced
		}
		step := version.Major
		if at != nil {
			step = order.Step(at, v)
		}
		if step != version.Major && rel.Unfit != "" {
			continue // what does not run here is none to go to
		}
		switch step {
		case version.Patch:
			row.Patch, row.Minor = rel.Version, rel.Version
		case version.Minor:
			row.Minor = rel.Version
		case version.Major:
			row.Major = rel.Version
			lines[v.Line()] = true
		}
	}
	if at != nil {
		row.Majors = len(lines)
	}
	row.Needs = raises(part, newest)
	return row, nil
}

// installs is the release that an install would give for a range now: the newest in it that
// nothing is to be said against, else the newest; "" for none.
func installs(order version.Order, text string, releases []model.Release) (best string) {
	rng, err := order.ParseRange(text)
	if err != nil {
		return ""
	}
	good := false
	for _, rel := range releases { // ascending
		v, err := order.Parse(rel.Version)
		if err != nil || !rng.Contains(v) {
			continue
		}
		if fine := rel.Deprecated == "" && !rel.Retracted && rel.Unfit == ""; fine || !good {
			best, good = rel.Version, good || fine
		}
	}
	return best
}

// raises tells what the manifest states too low for a release, "go 1.25"; empty if it states
// enough, or nothing that can be compared.
func raises(part *tree.Part, rel model.Release) string {
	order := part.Eco.Order()
	for _, n := range rel.Needs {
		need, err := order.Parse(cmp.Or(n.Stated, n.Range))
		for _, r := range part.Requirements {
			if err != nil || r.Subject != n.Subject {
				continue
			}
			if stated, err := order.Parse(r.Locked); err == nil && need.Compare(stated) > 0 {
				return fmt.Sprintf("%s, %s states %s", n, r.Site, r.Locked)
			}
		}
	}
	return ""
}
