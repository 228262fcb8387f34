package verify

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/finding/printed"
	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/run"
	"bellwether/internal/host/scratch"
	"bellwether/internal/host/within"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/settings"
	"bellwether/internal/work/tree"
)

const (
	// stageTimeout is how long a stage may take unless the settings say other.
	stageTimeout = 15 * time.Minute
	// logLimit bounds a stage's log, in bytes.
	logLimit = 32 << 20
	// maxResults bounds how many files of results are read.
	maxResults = 5000
)

// stageRun is one stage of one component in a scratch.
type stageRun struct {
	desk    *desk.Desk
	kept    *kept.Store
	scratch *scratch.Scratch
	part    *tree.Part
	stage   model.Stage
	with    *running
	label   string
	dir     string // where it runs
	env     []string
	result  finding.Stage
	effect  []finding.Effect // what the started program tells
}

// run runs the stage, unless one before it failed, or it is to be skipped.
func (st *stageRun) run(ctx context.Context, blocked bool) (finding.Stage, error) {
	stage := st.stage
	st.dir = filepath.Join(st.scratch.Dir, filepath.FromSlash(stage.Dir))
	st.env = slices.Concat([]string{"CI=true", "NO_COLOR=1", "FORCE_COLOR=0"}, st.scratch.Env(), st.with.env, st.desk.Options.Env)
	st.result = finding.Stage{Component: st.part.ID, Name: stage.Name, Command: stage.Command, Optional: stage.Optional}
	switch {
	case blocked:
		st.result.Status, st.result.Why = finding.NotRun, "a stage before it failed"
		return st.result, nil
	case stage.Skip != "":
		st.result.Status, st.result.Why = finding.Skipped, stage.Skip
		return st.result, nil
	case stage.ByHand != "" && !run.Installed(stage.Command[0]):
		st.result.Status, st.result.Why = finding.Skipped, stage.ByHand
		return st.result, nil
	}
	if stage.Name == settings.StageClean {
		var err error
		st.result.Removed, err = st.scratch.Remove(ctx, stage.Dir, stage.Remove)
		if err != nil || len(stage.Command) == 0 {
			return st.cleaned(), err
		}
	}
	return st.logged(ctx, "")
}

// cleaned is the result of a clean stage without a command: what git ignores is not
// there from the start, and what the settings list is removed.
func (st *stageRun) cleaned() finding.Stage {
	st.result.Status, st.result.Why = finding.Passed, "a fresh copy"
	if st.scratch.OfGit() {
		st.result.Why = "a fresh checkout"
	}
	if len(st.result.Removed) > 0 {
		st.result.Why += "; removed " + spelling.Few(st.result.Removed, 3)
	}
	return st.result
}

// hasTests tells whether a stage's failure may be that of tests, which can be
// unstable.
func (st *stageRun) hasTests(result finding.Stage) bool {
	return len(result.Tests) > 0 || st.stage.Name == "test"
}

// again runs the stage once more, to tell what is unstable from what is broken.
func (st *stageRun) again(ctx context.Context, first finding.Stage) (finding.Stage, error) {
	second, err := st.logged(ctx, "-again")
	if err != nil {
		return first, err
	}
	return first.Again(second), nil
}

// title is what progress calls the stage.
func (st *stageRun) title() string {
	if st.part.ID != "." {
		return st.part.ID + ": " + st.stage.Name
	}
	return st.stage.Name
}

// logged runs the stage's command with its output in a log, and reads that.
func (st *stageRun) logged(ctx context.Context, suffix string) (finding.Stage, error) {
	title := st.title()
	if suffix != "" {
		title += ", once more"
	}
	if info, err := os.Stat(st.dir); err != nil || !info.IsDir() {
		return st.result, &model.Fault{
			Doing: "running the stage " + title, File: settings.File,
			Wrong: fmt.Sprintf("there is no folder %s in a fresh checkout", st.stage.Dir), Next: "set another folder for it",
		}
	}
	st.desk.Tell(desk.Event{Text: title})
	name := shortName(strings.ReplaceAll(strings.Trim(st.part.ID, "."), "/", "-")) + "-" + st.stage.Name + suffix + ".log"
	logFile := path.Join("logs", st.label, strings.TrimPrefix(name, "-"))
	file, err := st.kept.CreateLog(logFile)
	if err != nil {
		return st.result, fmt.Errorf("writing the log of a stage: %w", err)
	}
	log := run.NewLog(file, logLimit)
	begun := time.Now()
	result, err := st.execute(ctx, log)
	if cerr := log.Close(); err == nil && cerr != nil {
		err = &model.Fault{
			Doing: "writing the log of the stage " + title, File: path.Join(kept.Dir, logFile), Wrong: model.Reason(cerr),
			Next: "make room there", Cause: cerr,
		}
	}
	result.Duration = result.Duration.Round(time.Millisecond)
	result.Log = path.Join(kept.Dir, logFile)
	switch {
	case errors.Is(err, run.ErrMissing):
		st.desk.Tell(desk.Event{Text: title, Done: true, Note: "cannot run"})
		return result, fmt.Errorf(
			"the stage %s: %w\n  next: install %s, or set another command for the stage in %s", title, err, st.stage.Command[0],
			settings.File,
		)
	case err != nil:
		st.desk.Tell(desk.Event{Text: title, Done: true, Note: "interrupted"})
		return result, err
	}
	if err := st.read(ctx, &result, logFile, begun); err != nil {
		return result, err
	}
	if result.Touched, err = st.scratch.Touched(st.stage.Refreshes); err != nil {
		return result, err
	}
	st.desk.Tell(desk.Event{Text: title, Done: true, Good: result.Status == finding.Passed, Note: stageNote(result)})
	return result, nil
}

// execute runs the command, to its end or until its probes hold.
func (st *stageRun) execute(ctx context.Context, log *run.Log) (finding.Stage, error) {
	if len(st.stage.Probes) > 0 {
		return st.start(ctx, log)
	}
	result := st.result
	stage, release, err := withPort(st.stage)
	if err != nil {
		return result, err
	}
	if release != nil {
		release()
	}
	timeout := cmp.Or(stage.Timeout, stageTimeout)
	end, err := run.Run(
		ctx,
		run.Command{
			Dir: st.dir, Args: stage.Command, Env: append(slices.Clone(st.env), stage.Env...), Timeout: timeout, Log: log,
			Owner: st.scratch.Name(), First: st.with.first,
		},
	)
	result.Exit, result.Duration = end.Exit, end.Duration
	switch {
	case err != nil:
	case end.TimedOut:
		result.Status, result.Why = finding.TimedOut, fmt.Sprintf("not done after %s", timeout)
	case end.Exit != 0 && !slices.Contains(stage.Fine, end.Exit):
		result.Status, result.Why = finding.Failed, fmt.Sprintf("exit status %d", end.Exit)
	default:
		result.Status = finding.Passed
	}
	return result, err
}

func stageNote(s finding.Stage) string {
	v := finding.Verification{Stages: []finding.Stage{s}}
	if passed, failed := v.Count(); passed+failed > 0 {
		return fmt.Sprintf("%s, tests: %d passed, %d failed", s.Duration, passed, failed)
	}
	if s.Why != "" {
		return s.Why
	}
	return s.Duration.String()
}

// read takes tests and findings from the log and from files of results that the
// stage wrote, and says of each which package it comes from.
func (st *stageRun) read(ctx context.Context, result *finding.Stage, logFile string, begun time.Time) error {
	log, err := st.kept.OpenLog(logFile)
	if err != nil {
		return fmt.Errorf("reading the log of a stage: %w", err)
	}
	defer log.Close()
	r := printed.NewReader(
		printed.Source{Root: st.part.Name, Dir: st.part.Dir, Scratch: filepath.ToSlash(st.scratch.Dir), Watch: st.desk.Settings.Watched},
	)
	if err := r.Output(log); err != nil {
		return fmt.Errorf("reading the log of a stage: %w", err)
	}
	passed, err := st.readResults(r, begun)
	if err != nil {
		return err
	}
	report := r.Report()
	result.Counted = report.Counted
	result.Tests, result.Findings, result.More, result.Notes = report.Tests, report.Findings, report.More, append(report.Notes, passed...)
	if result.Status != finding.Passed {
		result.Tail, result.Crash = report.Last, report.Crash
	}
	st.attribute(ctx, result.Findings, result.Crash)
	return nil
}

// readResults reads the files of results that the stage wrote. It tells which of them are
// none, but pipes, say.
func (st *stageRun) readResults(r *printed.Reader, begun time.Time) (passed []string, err error) {
	patterns := st.stage.Results
	if len(patterns) == 0 && st.stage.Name == "test" {
		patterns = usualResults
	}
	if len(patterns) == 0 {
		return nil, nil
	}
	fsys, err := within.Open(st.dir, nil)
	if err != nil {
		return nil, fmt.Errorf("looking for results: %w", err)
	}
	defer fsys.Close()
	read := map[string]bool{} // several patterns may be about one file
	for _, pattern := range patterns {
		names, err := doublestar.Glob(fsys, pattern, doublestar.WithFilesOnly())
		if err != nil {
			return nil, fmt.Errorf("looking for results, %s: %w", pattern, err)
		}
		slices.Sort(names)
		for _, name := range names[:min(len(names), maxResults)] {
			if read[name] {
				continue
			}
			read[name] = true
			f, err := fsys.Open(name)
			if err != nil {
				passed = append(passed, fmt.Sprintf("%s is not read: %s", name, model.Reason(err)))
				continue
			}
			// A second's grace: clocks of file systems are coarse.
			if info, err := f.Stat(); err == nil && info.ModTime().After(begun.Add(-time.Second)) {
				r.Results(path.Join(st.stage.Dir, name), f)
			}
			_ = f.Close()
		}
	}
	return passed, nil
}

// attribute says of findings of packages which they are about, in the words of subjects, their
// versions, and by way of which requirement they are there.
func (st *stageRun) attribute(ctx context.Context, all []finding.Finding, crash *finding.Crash) {
	if crash == nil && !slices.ContainsFunc(all, func(f finding.Finding) bool { return !f.Own() }) {
		return
	}
	packages, err := st.desk.EffectiveIn(ctx, st.part)
	if err != nil {
		packages = st.part.Eco.Packages(st.part.Component) // as far as the files tell
	}
	first := map[string]model.Package{}
	for _, pkg := range packages {
		if _, known := first[pkg.Subject.Name]; !known {
			first[pkg.Subject.Name] = pkg
		}
	}
	of := func(name, version, through *string) {
		if pkg, ok := first[ecosystem.NormalName(st.part.Eco, *name)]; ok {
			*name, *version, *through = pkg.Subject.Name, cmp.Or(*version, pkg.Version), strings.Join(pkg.Via, ", ")
		}
	}
	for i := range all {
		of(&all[i].Package, &all[i].Version, &all[i].Through)
	}
	if crash != nil {
		of(&crash.Package, &crash.Version, &crash.Through)
	}
}

// maxLogName is how much of a folder's name the name of a log has, in bytes.
const maxLogName = 120

// shortName is a folder's name as part of a file's: of one that is too long the end, with a digest of the whole.
func shortName(dir string) string {
	if len(dir) <= maxLogName {
		return dir
	}
	sum := sha256.Sum256([]byte(dir))
	return strings.ToValidUTF8(dir[len(dir)-maxLogName:], "") + "-" + hex.EncodeToString(sum[:4])
}
