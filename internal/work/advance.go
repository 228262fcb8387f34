package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/harmless"
	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
	"bellwether/internal/host/git"
)

// AdvanceOptions say how legs are carried out.
type AdvanceOptions struct {
	FromRed bool   // go on although the baseline fails, and compare with it
	Branch  string // to commit to; empty for a name made from the date
}

// ErrArrived means that there is no leg left.
var ErrArrived = errors.New("the route is complete")

// Advance carries the next leg out: it writes manifests and lock, verifies
// from clean, compares with the baseline, and commits. A leg that makes
// something worse is left in the tree for the person to repair; the next call
// verifies it again.
func (p *Project) Advance(ctx context.Context, opt AdvanceOptions) (*finding.LegResult, error) {
	repo, release, err := p.begin(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	file, err := p.readRoute(ctx)
	if err != nil {
		return nil, err
	}
	if file == nil {
		return nil, &model.Fault{Doing: "advancing", Wrong: "there is no route yet", Next: "compute one with bellwether route --to NAME@RANGE or --reach minor"}
	}
	p.opt.Preview = append(p.opt.Preview, file.Preview...)
	if file.AsOf != "" {
		if p.opt.AsOf, err = time.Parse(time.RFC3339, file.AsOf); err != nil {
			return nil, &model.Fault{Doing: "reading the route", File: keepDir + "/route.yaml", Wrong: fmt.Sprintf("as-of: %q is not a time", file.AsOf)}
		}
	}
	j, err := p.readJourney()
	if err != nil {
		return nil, err
	}
	leg, err := p.passSteps(ctx, file, j)
	if err != nil {
		return nil, err
	}
	if leg == nil {
		return nil, ErrArrived
	}
	a := &advance{Project: p, opt: opt, repo: repo, file: file, journey: j, leg: leg}
	return a.carryOut(ctx)
}

// nextLeg is the first leg that is not done, nil if there is none.
func nextLeg(file *routeFile, j *journey) *fileLeg {
	for i := range file.Legs {
		if l := j.find(file.Legs[i].ID); l == nil || l.Status != legDone {
			return &file.Legs[i]
		}
	}
	return nil
}

type advance struct {
	*Project
	opt     AdvanceOptions
	repo    *git.Repo
	file    *routeFile
	journey *journey
	leg     *fileLeg
	unknown []string // paths that git does not know, which no leg touches
}

func (a *advance) carryOut(ctx context.Context) (*finding.LegResult, error) {
	if err := a.checkBranch(ctx); err != nil {
		return nil, err
	}
	record := a.journey.find(a.leg.ID)
	if record != nil && record.Status == legBegun && a.unwritten(record) {
		// An earlier call was killed before it wrote anything.
		a.journey.Legs = slices.DeleteFunc(a.journey.Legs, func(l *legRecord) bool { return l == record })
		record = nil
	}
	if record != nil {
		return a.repaired(ctx, record)
	}
	if err := a.checkClean(ctx); err != nil {
		return nil, err
	}
	baseline, err := a.ensureBaseline(ctx)
	if err != nil {
		return nil, err
	}
	moved, err := a.solve(ctx)
	if err != nil {
		return nil, err
	}
	if err := a.checkUnknown(ctx, moved); err != nil {
		return nil, err
	}
	if err := a.checkout(ctx); err != nil {
		return nil, err
	}
	v, refreshed, err := a.verify(ctx, verifying{repo: a.repo, edits: moved.edits, label: a.leg.ID, before: baseline})
	if err != nil {
		return nil, err
	}
	moved.edits = append(moved.edits, refreshed...)
	for _, s := range v.Stages {
		// Without its packages nothing can be verified, and there is nothing
		// that a person could repair in the sources: the tree stays as it is.
		if s.Name == "fetch" && s.Red() {
			return nil, &FailedStage{Stage: s, What: fmt.Sprintf("leg %s cannot be fetched, and the tree stays as it was", a.leg.ID), Next: "see what the package client says"}
		}
	}
	result := &finding.LegResult{Leg: moved.leg.Result(), Verification: v, Comparison: finding.Compare(baseline, v)}
	record = &legRecord{ID: a.leg.ID, Title: a.leg.Title, Status: legBegun, Unknown: a.unknown}
	if a.repo != nil {
		if record.Before, err = a.repo.Head(ctx); err != nil {
			return nil, err
		}
	}
	if err := a.keepOld(record, moved.edits); err != nil {
		return nil, err
	}
	a.journey.Legs = append(a.journey.Legs, record)
	if err := a.writeJourney(a.journey); err != nil {
		return nil, err
	}
	if err := a.journal().Write(moved.edits); err != nil {
		a.journey.Legs = a.journey.Legs[:len(a.journey.Legs)-1]
		return nil, errors.Join(err, a.writeJourney(a.journey))
	}
	record.Status = legRepair
	if err := a.writeJourney(a.journey); err != nil {
		return nil, err
	}
	paths, err := a.paths(ctx, moved.edits)
	if err != nil {
		return nil, err
	}
	return result, a.finish(ctx, record, result, paths)
}

// repaired verifies a leg that the person has worked on.
func (a *advance) repaired(ctx context.Context, record *legRecord) (*finding.LegResult, error) {
	baseline := a.baseline()
	if baseline == nil {
		baseline = &finding.Verification{}
	}
	v, refreshed, err := a.verify(ctx, verifying{repo: a.repo, label: a.leg.ID, before: baseline})
	if err != nil {
		return nil, err
	}
	leg := model.Leg{ID: a.leg.ID, Title: a.leg.Title, Component: a.leg.Component, Moves: a.leg.moves(a.partOf(a.leg))}
	result := &finding.LegResult{Leg: leg.Result(), Verification: v, Comparison: finding.Compare(baseline, v)}
	if len(refreshed) > 0 {
		if err := a.journal().Write(refreshed); err != nil {
			return nil, err
		}
	}
	var paths []string
	if a.repo != nil {
		changes, err := a.repo.Changes(ctx)
		if err != nil {
			return nil, err
		}
		for _, c := range changes {
			if !c.Unknown() || !slices.Contains(record.Unknown, c.Path) {
				paths = append(paths, c.Path)
			}
		}
	}
	return result, a.finish(ctx, record, result, paths)
}

// finish commits a leg that is no worse than the baseline.
func (a *advance) finish(ctx context.Context, record *legRecord, result *finding.LegResult, paths []string) (err error) {
	result.Left = a.left(record)
	if err := a.keepResult(record.ID, result.Verification); err != nil {
		return err
	}
	if result.Comparison.Differences, err = a.differences(ctx, a.journey, result.Verification); err != nil {
		return err
	}
	if result.Comparison.Worse() || !a.opt.FromRed && !result.Verification.Green() {
		return nil
	}
	done := func(commit string) error {
		record.Status, record.Commit = legDone, commit
		return a.writeJourney(a.journey)
	}
	if a.repo != nil && len(paths) > 0 {
		if _, err := a.repo.Commit(ctx, paths, a.message(result), done); err != nil {
			return fmt.Errorf("committing leg %s: %w\n  next: the leg is verified and lies in the working tree; make the commit possible and run bellwether advance again", record.ID, err)
		}
	} else if err := done(record.Commit); err != nil {
		return err
	}
	result.Done, result.Commit = true, record.Commit
	result.Left = a.left(record)
	return nil
}

func (a *advance) left(current *legRecord) int {
	n := 0
	for _, l := range a.file.Legs {
		if r := a.journey.find(l.ID); (r == nil || r.Status != legDone) && l.ID != current.ID {
			n++
		}
	}
	return n
}

func (a *advance) checkClean(ctx context.Context) error {
	if a.repo == nil {
		return nil
	}
	doing, err := a.repo.InProgress(ctx)
	if err != nil {
		return err
	}
	if doing != "" {
		return &model.Fault{Doing: "advancing", Wrong: "git is in the middle of " + doing, Next: "finish it or give it up; git status tells how"}
	}
	changes, err := a.repo.Changes(ctx)
	if err != nil {
		return err
	}
	var names []string
	for _, c := range changes {
		if c.Unknown() {
			a.unknown = append(a.unknown, c.Path) // it stays out of the leg
		} else {
			names = append(names, c.Path)
		}
	}
	if len(names) == 0 {
		return nil
	}
	return &model.Fault{
		Doing: "advancing", Wrong: fmt.Sprintf("the working tree has changes that are not committed: %s", spelling.Few(names, 5)),
		Next: "commit them or git stash them, so that a leg's commit holds the leg and nothing else",
	}
}

// checkUnknown refuses a leg that writes a file which is there and which git does not know.
func (a *advance) checkUnknown(ctx context.Context, moved *movedLeg) error {
	if len(a.unknown) == 0 {
		return nil
	}
	paths, err := a.paths(ctx, moved.edits)
	if err != nil {
		return err
	}
	for _, p := range paths {
		if slices.Contains(a.unknown, p) {
			return &model.Fault{Doing: "advancing to leg " + a.leg.ID, File: p, Wrong: "the leg writes it, and git does not know it yet", Next: "commit it first (git add " + p + "), or move it away"}
		}
	}
	return nil
}

// checkout goes to the journey's branch, and makes it for the first leg.
func (a *advance) checkout(ctx context.Context) error {
	if a.repo == nil {
		return nil
	}
	if a.journey.Branch == "" {
		a.journey.From = a.repo.Branch(ctx)
		a.journey.Branch = a.opt.Branch
		if a.journey.Branch == "" {
			a.journey.Branch = "bellwether/" + a.clock.Format("2006-01-02-1504")
		}
		if err := a.writeJourney(a.journey); err != nil {
			return err
		}
	}
	if a.repo.Branch(ctx) == a.journey.Branch {
		return nil
	}
	return a.repo.Switch(ctx, a.journey.Branch)
}

// checkBranch refuses to go on with a route on another branch than the one it
// was begun on.
func (a *advance) checkBranch(ctx context.Context) error {
	if a.repo == nil || !a.journey.moved() {
		return nil
	}
	branch := a.repo.Branch(ctx)
	if branch == a.journey.Branch {
		return nil
	}
	return &model.Fault{
		Doing: "advancing", Wrong: fmt.Sprintf("the route is being carried out on the branch %s, but %s is checked out", a.journey.Branch, cmpOr(branch, "a single commit")),
		Next: "git switch " + a.journey.Branch,
	}
}

// FailedStage is the error of a stage without which there is no going on.
type FailedStage struct {
	Stage finding.Stage
	What  string // what follows from it
	Next  string
}

// Error names the stage and shows the end of what it printed.
func (f *FailedStage) Error() string {
	where := f.Stage.Name
	if f.Stage.Component != "." {
		where = f.Stage.Component + ": " + where
	}
	text := fmt.Sprintf("%s: %s: %s (log: %s)", f.What, where, f.Stage.Why, f.Stage.Log)
	for _, line := range f.Stage.Tail {
		text += "\n    " + line
	}
	return text + "\n  next: " + f.Next
}

// paths are the edits' files as the repository names them, but for those that it is told
// to ignore.
func (a *advance) paths(ctx context.Context, edits []model.FileEdit) ([]string, error) {
	if a.repo == nil {
		return nil, nil
	}
	var files []string
	for _, e := range edits {
		files = append(files, e.File)
	}
	paths, err := a.repo.Paths(a.Root, a.reals(files))
	if err != nil {
		return nil, err
	}
	ignored, err := a.repo.Ignored(ctx, a.repo.Top, paths)
	return slices.DeleteFunc(paths, func(path string) bool { return ignored[path] }), err
}

// reals are the files that names lead to: a link in the project stands for one.
func (p *Project) reals(names []string) []string {
	reals := make([]string, len(names))
	for i, name := range names {
		reals[i] = name
		if real, err := p.files.Real(name); err == nil {
			reals[i] = real
		}
	}
	return reals
}

// subjectLine is the first line of a leg's commit message.
func subjectLine(l model.LegResult) string {
	if !strings.Contains(l.Title, " to ") || l.Title == "" {
		first, size := utf8.DecodeRuneInString(l.Title)
		return string(unicode.ToUpper(first)) + l.Title[size:]
	}
	switch n := len(l.Moves) - 1; {
	case n > 1:
		return fmt.Sprintf("Move %s, with %d companions", l.Title, n)
	case n == 1:
		return fmt.Sprintf("Move %s, with 1 companion", l.Title)
	}
	return "Move " + l.Title
}

// message is the commit's: what moved and why, and what was verified.
func (a *advance) message(r *finding.LegResult) string {
	var b strings.Builder
	b.WriteString(subjectLine(r.Leg) + "\n\n")
	for _, m := range r.Leg.Moves {
		fmt.Fprintf(&b, "- %s %s to %s", m.Name, cmpOr(m.From, "(new)"), m.To)
		if m.Because != "" {
			b.WriteString(": " + m.Because)
		}
		b.WriteString("\n")
	}
	for i, note := range r.Leg.Notes {
		if i == 0 {
			b.WriteString("\nTo know:\n")
		}
		fmt.Fprintf(&b, "- %s\n", note)
	}
	if n := len(r.Leg.Carried); n > 0 {
		fmt.Fprintf(&b, "\nCarried along in the lock: %d packages.\n", n)
	}
	var stages []string
	for _, s := range r.Verification.Stages {
		if s.Status == finding.Passed && s.Name != stageClean && !slices.Contains(stages, s.Name) {
			stages = append(stages, s.Name)
		}
	}
	fmt.Fprintf(&b, "\nVerified from clean: %s", strings.Join(stages, ", "))
	if passed, failed := r.Verification.Count(); passed+failed > 0 {
		fmt.Fprintf(&b, "; %s passed", counted(passed, "test", "tests"))
		if failed > 0 {
			fmt.Fprintf(&b, ", %d failed as before", failed)
		}
	}
	fmt.Fprintf(&b, ".\n\nLeg %s of the route to %s.\n", r.Leg.ID, strings.Join(a.file.Destination, ", "))
	return harmless.Text(b.String())
}
