// Package report gathers what a route did, from what is kept of it.
package report

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/report"
	"bellwether/internal/core/spelling"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/plan"
	"bellwether/internal/work/standing"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/world"
)

// Options say what a report is about.
type Options struct {
	Leg        string // one leg alone; empty for all of the route
	All        bool   // every route that is remembered
	Advisories string // a folder of vulnerability records; empty for none
}

// Read gathers a report.
func Read(ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store, opt Options) (*report.Report, error) {
	records, err := k.Records()
	if err != nil {
		return nil, err
	}
	if len(records) == 0 {
		return nil, &model.Fault{
			Doing: "reporting", Wrong: "no route has been computed here yet",
			Next: "bellwether route computes one, bellwether advance carries it out",
		}
	}
	if !opt.All {
		records = records[len(records)-1:]
	}
	r := &report.Report{Begun: records[0].Begun, Legs: []report.Leg{}}
	for _, record := range records {
		for _, name := range record.Destination {
			if !slices.Contains(r.Destination, name) {
				r.Destination = append(r.Destination, name)
			}
		}
		r.Left, r.Culprits = append(r.Left, record.Left...), append(r.Culprits, record.Culprits...)
		r.Said = append(r.Said, report.Extract(k.Notes(record))...)
		done(r, k, record)
	}
	status, err := standing.Status(ctx, d, t, k)
	if err != nil {
		return nil, err
	}
	r.Branch, r.ToDos, r.Checklist = status.Branch, status.ToDos, status.Checklist
	toGo(r, status)
	if err := bridges(ctx, d, t, r); err != nil {
		return nil, err
	}
	if err := commits(ctx, k, r); err != nil {
		return nil, err
	}
	if opt.Leg != "" {
		if r, err = only(r, opt.Leg); err != nil {
			return nil, err
		}
	}
	return r, advisories(ctx, d, t, r, opt.Advisories)
}

// advisories adds which vulnerability records of what moved no longer hold, and which hold now.
func advisories(ctx context.Context, d *desk.Desk, t *tree.Tree, r *report.Report, dir string) error {
	if dir == "" { // a folder that a route file names is not read for it: a report opens only what the person names
		return nil
	}
	var before, after []model.Package
	for _, m := range append(r.Moves(), r.Carried()...) {
		subject, version, ok := model.ReadPURL(m.PURL)
		if !ok || subject.IsPin() || m.From == "" {
			continue
		}
		before = append(before, model.Package{Subject: subject, Version: m.From, Via: m.Via})
		if version != "" && (m.Becomes == "" || m.Becomes == m.Name) {
			after = append(after, model.Package{Subject: subject, Version: version})
		}
	}
	was, err := world.Affected(tree.NewPackages(t.Table, before), dir)
	if err != nil {
		return err
	}
	is, err := world.Affected(tree.NewPackages(t.Table, after), dir)
	if err != nil {
		return err
	}
	for _, a := range was {
		if !slices.ContainsFunc(is, func(o output.SurveyAdvisory) bool { return o.ID == a.ID && o.Name == a.Name }) {
			r.Fixed = append(r.Fixed, a)
		}
	}
	effective, err := d.Effective(ctx, t)
	if err != nil {
		r.Unknown = append(r.Unknown, "which vulnerability records hold now is not known: "+strings.SplitN(err.Error(), "\n", 2)[0])
		return ctx.Err()
	}
	r.Affected, err = world.Affected(effective, dir)
	return err
}

// bridges adds what is temporary, with when it can go.
func bridges(ctx context.Context, d *desk.Desk, t *tree.Tree, r *report.Report) error {
	there, err := kept.Bridges(t.Files.FS)
	if err != nil || len(there) == 0 {
		return err
	}
	open, err := plan.OpenBridges(ctx, d, t)
	if err != nil {
		r.Unknown = append(r.Unknown, "whether temporary measures can go is not known: "+strings.SplitN(err.Error(), "\n", 2)[0])
		for _, b := range there {
			r.Bridges = append(r.Bridges, output.SurveyBridge{Component: b.Component, Name: b.Name, Kind: b.Kind, At: b.At, Since: b.Since})
		}
		return ctx.Err()
	}
	for _, b := range open {
		r.Bridges = append(r.Bridges, b.SurveyBridge)
	}
	return ctx.Err()
}

// done adds the legs of a route that came to something.
func done(r *report.Report, k *kept.Store, record *kept.Record) {
	for _, id := range record.Legs {
		of := k.LegReport(record, id)
		if of == nil {
			r.Unknown = append(r.Unknown, "what came of leg "+id+" is not known any more")
			continue
		}
		leg := report.Leg{
			LegResult: of.Result.Leg, State: report.Repair, At: of.At, Tries: of.Tries, Verification: of.Result.Verification,
			Comparison: &of.Result.Comparison, Hints: of.Result.Hints,
		}
		if leg.Commit = of.Result.Commit; of.Result.Done {
			leg.State = report.Done
		}
		r.Legs = append(r.Legs, leg)
	}
}

// toGo adds the legs of the present route that wait, and those of before there were records.
func toGo(r *report.Report, status *output.StatusResult) {
	if len(r.Destination) == 0 {
		r.Destination = status.Destination
	}
	place := map[string]int{}
	for i, l := range status.Legs {
		place[l.ID] = i + 1 // legs of earlier routes come before
		if slices.ContainsFunc(r.Legs, func(o report.Leg) bool { return o.ID == l.ID }) {
			continue
		}
		leg := report.Leg{LegResult: l, State: report.ToGo}
		if l.Status == kept.Done {
			leg.State = report.Done
		}
		r.Legs = append(r.Legs, leg)
	}
	slices.SortStableFunc(r.Legs, func(a, b report.Leg) int { return place[a.ID] - place[b.ID] })
}

// commits says how legs are taken back, and which commits are gone.
func commits(ctx context.Context, k *kept.Store, r *report.Report) error {
	repo, err := k.OpenRepo(ctx)
	if err != nil {
		return err
	}
	var back []string
	for i := range r.Legs {
		l := &r.Legs[i]
		if l.Commit == "" || repo == nil {
			continue
		}
		if there, err := repo.Contains(ctx, l.Commit); err != nil {
			return err
		} else if !there {
			l.Gone = true
			r.Unknown = append(r.Unknown, fmt.Sprintf(
				"the commit %.10s of leg %s is not in the history of what is checked out: it was rewritten, or is on another branch", l.Commit, l.ID))
			continue
		}
		back = append([]string{fmt.Sprintf("git revert %.10s   # leg %s", l.Commit, l.ID)}, back...)
	}
	r.Undo = back
	return nil
}

// only leaves one leg of a report.
func only(r *report.Report, id string) (*report.Report, error) {
	var names []string
	for _, l := range r.Legs {
		names = append(names, l.ID)
	}
	at := slices.IndexFunc(r.Legs, func(l report.Leg) bool { return l.ID == id })
	if at < 0 {
		next := "the legs are " + spelling.Few(names, 8)
		if near := spelling.Nearest(id, names); near != "" {
			next = "did you mean " + near + "?"
		}
		return nil, &model.Fault{Doing: "reporting", Wrong: fmt.Sprintf("there is no leg %q", id), Next: next}
	}
	r.Legs = r.Legs[at : at+1]
	r.Culprits = slices.DeleteFunc(r.Culprits, func(c output.CulpritResult) bool { return c.Leg != id })
	r.Undo = slices.DeleteFunc(r.Undo, func(text string) bool { return !strings.HasSuffix(text, "# leg "+id) })
	r.Left = nil
	r.Said = slices.DeleteFunc(r.Said, func(p model.PackageNotes) bool {
		return !slices.ContainsFunc(r.Legs[0].Moves, func(m output.MoveSummary) bool { return m.Name == p.Name })
	})
	return r, nil
}
