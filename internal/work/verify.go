package work

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/renameio/v2"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/host/git"
	"bellwether/internal/host/run"
)

// stageTimeout is how long a stage may take unless the settings say other.
const stageTimeout = 15 * time.Minute

// logLimit bounds a stage's log, in bytes.
const logLimit = 32 << 20

// tailLines is how many of a failed stage's last lines are shown.
const tailLines = 20

// Verify builds and tests the project as it is, from clean, in a scratch
// checkout. Before a route is started, the result becomes the baseline.
func (p *Project) Verify(ctx context.Context) (*finding.Result, error) {
	repo, release, err := p.begin(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	v, _, err := p.verify(ctx, repo, nil, "verify")
	if err != nil {
		return nil, err
	}
	j, err := p.readJourney()
	if err != nil {
		return nil, err
	}
	r := &finding.Result{Verification: v}
	if len(j.Legs) == 0 {
		r.IsBaseline = true
		return r, p.keepBaseline(v)
	}
	if baseline := p.baseline(); baseline != nil {
		c := finding.Compare(baseline, v)
		r.Comparison = &c
	}
	return r, nil
}

// repo is the repository that the project is in, nil for none.
func (p *Project) repo(ctx context.Context) (*git.Repo, error) {
	repo, err := git.Open(ctx, p.Root)
	if errors.Is(err, git.ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if _, err := repo.Head(ctx); err != nil {
		return nil, &model.Fault{Doing: "looking at the repository", File: p.Root, Wrong: "it has no commit yet", Next: "commit the project as it is, so that there is something to come back to"}
	}
	return repo, nil
}

// verify runs all stages of all components in a scratch with edits made. Files
// that stages wrote anew, and that belong to the project, come back as edits.
func (p *Project) verify(ctx context.Context, repo *git.Repo, edits []model.FileEdit, label string) (*finding.Verification, []model.FileEdit, error) {
	s, err := p.newScratch(ctx, repo, edits)
	if err != nil {
		return nil, nil, err
	}
	defer s.drop()
	key, err := p.contentKey(s.dir)
	if err != nil {
		return nil, nil, err
	}
	var refreshed []model.FileEdit
	v := &finding.Verification{Key: key, At: p.clock, Tools: p.tools(ctx)}
	for _, part := range p.Components {
		failed := false
		for _, stage := range p.stages(part) {
			result, err := p.runStage(ctx, s, part, stage, label, failed)
			if err != nil {
				return nil, nil, err
			}
			failed = failed || result.Red()
			v.Stages = append(v.Stages, result)
			if result.Status != finding.Passed {
				continue
			}
			for _, folder := range stage.Refreshes {
				edits, err := s.changed(p.Root, folder)
				if err != nil {
					return nil, nil, fmt.Errorf("taking back what the stage %s wrote: %w", stage.Name, err)
				}
				refreshed = append(refreshed, edits...)
			}
		}
	}
	return v, refreshed, nil
}

// stages are the ecosystem's, with the settings' in their place.
func (p *Project) stages(part *Part) []model.Stage {
	stages := part.eco.Stages(part.Component)
	for _, set := range p.Settings.Stages {
		if set.In != "" && set.In != part.Dir {
			continue
		}
		at := slices.IndexFunc(stages, func(s model.Stage) bool { return s.Name == set.Name })
		if at < 0 {
			continue // another ecosystem's
		}
		stage := stages[at]
		switch {
		case set.Shell != "":
			stage.Command, stage.Skip = []string{"sh", "-c", set.Shell}, ""
		case len(set.Command) > 0:
			stage.Command, stage.Skip = set.Command, ""
		}
		for name, value := range set.Env {
			stage.Env = append(stage.Env, name+"="+value)
		}
		slices.Sort(stage.Env)
		stage.Timeout, stage.Optional = set.timeout, set.Optional
		if set.Skip != "" {
			stage.Skip = set.Skip
		}
		stages[at] = stage
	}
	return stages
}

func (p *Project) runStage(ctx context.Context, s *scratch, part *Part, stage model.Stage, label string, blocked bool) (finding.Stage, error) {
	result := finding.Stage{Component: part.Dir, Name: stage.Name, Command: stage.Command, Optional: stage.Optional}
	switch {
	case blocked:
		result.Status, result.Why = finding.NotRun, "a stage before it failed"
		return result, nil
	case stage.Skip != "":
		result.Status, result.Why = finding.Skipped, stage.Skip
		return result, nil
	case stage.ByHand != "" && !run.Installed(stage.Command[0]):
		result.Status, result.Why = finding.Skipped, stage.ByHand
		return result, nil
	}
	title := stage.Name
	if part.Dir != "." {
		title = part.Dir + ": " + title
	}
	p.tell(Event{Text: title})
	name := strings.ReplaceAll(strings.Trim(part.Dir, "."), "/", "-") + "-" + stage.Name + ".log"
	logFile := p.keep("logs", label, strings.TrimPrefix(name, "-"))
	log, err := run.NewLog(logFile, logLimit)
	if err != nil {
		return result, fmt.Errorf("writing the log of a stage: %w", err)
	}
	timeout := stage.Timeout
	if timeout == 0 {
		timeout = stageTimeout
	}
	end, err := run.Run(ctx, run.Command{
		Dir: filepath.Join(s.dir, filepath.FromSlash(stage.Dir)), Args: stage.Command,
		Env: slices.Concat([]string{"CI=true", "NO_COLOR=1", "FORCE_COLOR=0"}, p.opt.Env, stage.Env), Timeout: timeout, Log: log,
	})
	if cerr := log.Close(); err == nil {
		err = cerr
	}
	result.Exit, result.Duration = end.Exit, end.Duration.Round(time.Millisecond)
	if below, rerr := filepath.Rel(p.Root, logFile); rerr == nil {
		result.Log = filepath.ToSlash(below)
	}
	switch {
	case errors.Is(err, run.ErrMissing):
		p.tell(Event{Text: title, Done: true, Note: "cannot run"})
		return result, fmt.Errorf("the stage %s: %w\n  next: install %s, or set another command for the stage in %s", title, err, stage.Command[0], SettingsFile)
	case err != nil:
		p.tell(Event{Text: title, Done: true, Note: "interrupted"})
		return result, err
	case end.TimedOut:
		result.Status, result.Why = finding.TimedOut, fmt.Sprintf("not done after %s", timeout)
	case end.Exit != 0:
		result.Status, result.Why = finding.Failed, fmt.Sprintf("exit status %d", end.Exit)
	default:
		result.Status = finding.Passed
	}
	p.readLog(&result, part, logFile, s.dir)
	p.tell(Event{Text: title, Done: true, Good: result.Status == finding.Passed, Note: stageNote(result)})
	return result, nil
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

// readLog takes test results, and the end of a failed stage's output, from
// its log. Paths of the scratch are told as paths of the project.
func (p *Project) readLog(result *finding.Stage, part *Part, name, scratchDir string) {
	text, err := os.ReadFile(name)
	if err != nil {
		return
	}
	clean := strings.ReplaceAll(string(text), scratchDir+string(filepath.Separator), "")
	result.Tests = finding.ReadTests(clean, part.Name, part.Dir)
	if result.Tests == nil {
		result.Findings = finding.ReadFindings(clean, part.Dir)
	}
	if result.Status != finding.Passed {
		result.Tail = finding.LastLines(finding.Readable(clean), tailLines)
	}
}

func (p *Project) tools(ctx context.Context) map[string]string {
	tools := map[string]string{}
	for _, part := range p.Components {
		for _, command := range part.eco.Tools() {
			if _, known := tools[command[0]]; known {
				continue
			}
			out, err := run.Output(ctx, "", command...)
			if err != nil {
				out = "missing"
			}
			tools[command[0]] = out
		}
	}
	return tools
}

// contentKey names what is verified: every file of the scratch, and what the
// stages are.
func (p *Project) contentKey(dir string) (string, error) {
	h := sha256.New()
	err := filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.Name() == ".git" {
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if !d.Type().IsRegular() {
			return nil
		}
		data, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		below, err := filepath.Rel(dir, name)
		fmt.Fprintf(h, "%q %x\n", below, sha256.Sum256(data))
		return err
	})
	for _, part := range p.Components {
		fmt.Fprintf(h, "%+v\n", p.stages(part))
	}
	return hex.EncodeToString(h.Sum(nil)), err
}

func (p *Project) keepBaseline(v *finding.Verification) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return renameio.WriteFile(p.keep("baseline.json"), append(data, '\n'), 0o644)
}

// baseline is the verification of the untouched project, nil if there is none.
func (p *Project) baseline() *finding.Verification {
	data, err := os.ReadFile(p.keep("baseline.json"))
	if err != nil {
		return nil
	}
	v := &finding.Verification{}
	if json.Unmarshal(data, v) != nil {
		return nil
	}
	return v
}
