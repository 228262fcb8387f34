package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// trial is what became of a project.
type trial struct {
	kind, name, version string
	skipped             string // why nothing was tried; empty if it was

	survey       call
	minor, major call
	judged       string // what the client says of a refusal
	advanced     call
	after        string // what the client has against what was written; empty for nothing
}

// call is one call of the program.
type call struct {
	made   bool
	status int // exit status; -1 for one that did not come to an end
	took   time.Duration
	legs   int
	told   string // what it says of a failure, in one line
}

// The statuses with which the program ends.
const (
	statusProblem = 1
	statusOutside = 3
)

func (t *trial) try(ctx context.Context, o options, rng *rand.Rand) {
	dir := filepath.Join(o.keep, t.kind, strings.NewReplacer("/", "_", ":", "_", "@", "_").Replace(t.name))
	_ = os.RemoveAll(dir)
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		t.skipped = err.Error()
		return
	}
	var err error
	if t.version, err = fetch(ctx, t.kind, t.name, dir, rng); err != nil {
		t.skipped = err.Error()
		return
	}
	t.name, _ = parted(t.name)
	if err := committed(ctx, dir); err != nil {
		t.skipped = err.Error()
		return
	}
	t.survey = o.call(ctx, dir, "survey", "survey")
	t.major = o.call(ctx, dir, "major", "route", "--reach", "major")
	t.minor = o.call(ctx, dir, "minor", "route", "--reach", "minor")
	if t.minor.status == statusProblem || t.major.status == statusProblem {
		t.judged = t.judge(ctx, o, dir)
	}
	if o.advance && t.minor.status == 0 && t.minor.legs > 0 && t.kind != "maven" {
		start := t.check(ctx, dir)
		t.advanced = o.call(ctx, dir, "advance", "advance", "--all", "--from-red")
		if t.advanced.status >= 0 && start == "" { // of a start that the client refuses, what comes after it says nothing
			t.after = t.check(ctx, dir)
		}
	}
}

// call runs the program, keeps what it prints beside the project, and reads how many legs there are.
func (o options) call(ctx context.Context, dir, name string, args ...string) call {
	ctx, cancel := context.WithTimeout(ctx, o.limit)
	defer cancel()
	cmd := exec.CommandContext(ctx, o.program, append(args, "--format", "json")...)
	cmd.Dir = dir
	cmd.WaitDelay = 5 * time.Second
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	began := time.Now()
	err := cmd.Run()
	c := call{made: true, took: time.Since(began)}
	_ = os.WriteFile(dir+"."+name+".json", out.Bytes(), 0o644)
	_ = os.WriteFile(dir+"."+name+".err", errs.Bytes(), 0o644)
	var exit *exec.ExitError
	switch {
	case ctx.Err() != nil:
		c.status, c.told = -1, "it took longer than "+o.limit.String()
	case errors.As(err, &exit):
		c.status = exit.ExitCode()
	case err != nil:
		c.status, c.told = -1, err.Error()
	}
	var said struct {
		Legs      []json.RawMessage
		Statement string
		Steps     []struct{ Text string }
		Proof     []struct{ Text string }
	}
	_ = json.Unmarshal(out.Bytes(), &said)
	c.legs = len(said.Legs)
	if c.status > 0 && c.told == "" {
		if c.told = complaint(errs.String()); c.told == "" {
			c.told = clipped(strings.Join(strings.Fields(out.String()), " "), 200)
		}
	}
	return c
}

// complaint is what a call says of a failure, without what it told on its way.
func complaint(text string) string {
	if at := strings.LastIndex("\n"+text, "\nbellwether: "); at >= 0 {
		return clipped(text[at:], 200)
	}
	return clipped(text, 200)
}

// committed makes a repository of a folder.
func committed(ctx context.Context, dir string) error {
	for _, args := range [][]string{
		{"init", "-q"}, {"add", "-Af"}, {"-c", "user.name=real", "-c", "user.email=real@example.org", "commit", "-qm", "as published"},
		{"config", "user.name", "real"}, {"config", "user.email", "real@example.org"},
	} {
		if _, err := output(ctx, dir, "git", args...); err != nil {
			return err
		}
	}
	return nil
}

// judge asks the package client for the same move, in a copy: a refusal where it finds a way is a fault.
func (t *trial) judge(ctx context.Context, o options, dir string) string {
	copied := dir + ".judge"
	defer os.RemoveAll(copied)
	if err := exec.CommandContext(ctx, "cp", "-r", dir, copied).Run(); err != nil {
		return "not asked: " + err.Error()
	}
	ctx, cancel := context.WithTimeout(ctx, o.limit)
	defer cancel()
	var err error
	switch t.kind {
	case "go":
		if _, err = output(ctx, copied, "go", "get", "-u", "-t", "./..."); err == nil {
			if _, err = output(ctx, copied, "go", "mod", "tidy"); err == nil {
				_, err = output(ctx, copied, "go", "build", "./...")
			}
		}
	case "npm":
		_, err = output(ctx, copied, "npm", "update", "--package-lock-only", "--ignore-scripts", "--no-audit")
	default:
		return "nobody to ask"
	}
	if err != nil {
		return "the client finds none: " + clipped(err.Error(), 160)
	}
	return "THE CLIENT FINDS A WAY"
}

// check asks the client whether what was written is as it would have it.
func (t *trial) check(ctx context.Context, dir string) string {
	var err error
	switch t.kind {
	case "go":
		if _, err = output(ctx, dir, "go", "mod", "tidy", "-diff"); err == nil {
			_, err = output(ctx, dir, "go", "build", "./...")
		}
	case "npm":
		_, err = output(ctx, dir, "npm", "ci", "--dry-run", "--ignore-scripts", "--no-audit", "--force")
	}
	if err != nil {
		return clipped(err.Error(), 160)
	}
	return ""
}

const header = "| project | survey | within majors | to the newest majors | carried out | |\n|---|---|---|---|---|---|"

// row is the trial as a line of a table.
func (t *trial) row() string {
	name := t.name + " " + t.version
	if t.skipped != "" {
		return fmt.Sprintf("| %s | | | | | not tried: %s |", name, t.skipped)
	}
	var notes []string
	for _, c := range []call{t.survey, t.minor, t.major, t.advanced} {
		if c.told != "" {
			notes = append(notes, clipped(c.told, 200))
		}
	}
	if t.judged != "" {
		notes = append(notes, t.judged)
	}
	if t.after != "" {
		notes = append(notes, "AFTERWARDS: "+t.after)
	}
	return fmt.Sprintf(
		"| %s | %s | %s | %s | %s | %s |", name, t.survey.cell(false), t.minor.cell(true), t.major.cell(true), t.advanced.cell(false),
		strings.ReplaceAll(strings.Join(notes, "; "), "|", "\\|"),
	)
}

func (c call) cell(legs bool) string {
	took := fmt.Sprintf("%.1f s", c.took.Seconds())
	switch {
	case !c.made:
		return ""
	case c.status != 0:
		return fmt.Sprintf("**%d**, %s", c.status, took)
	case legs:
		return fmt.Sprintf("%d legs, %s", c.legs, took)
	}
	return took
}

// clipped is a text of at most so many bytes, on one line.
func clipped(text string, most int) string {
	text = strings.Join(strings.Fields(text), " ")
	if len(text) > most {
		text = strings.ToValidUTF8(text[:most], "") + "…"
	}
	return text
}

// summary tells how many ended how; the error names the faults that need no person to see them.
func summary(all []*trial) error {
	type counts struct{ tried, routed, refused, outside, ended, faults int }
	by := map[string]*counts{}
	var kinds []string
	for _, t := range all {
		c := by[t.kind]
		if c == nil {
			c = &counts{}
			by[t.kind] = c
			kinds = append(kinds, t.kind)
		}
		if t.skipped != "" {
			continue
		}
		c.tried++
		worst := max(t.minor.status, t.major.status)
		switch {
		case t.minor.status < 0 || t.major.status < 0:
			c.ended++
		case worst == 0:
			c.routed++
		case worst == statusProblem:
			c.refused++
		case worst == statusOutside:
			c.outside++
		}
		if strings.HasPrefix(t.judged, "THE CLIENT") || t.after != "" {
			c.faults++
		}
	}
	fmt.Println()
	faults := 0
	for _, kind := range kinds {
		c := by[kind]
		fmt.Printf(
			"%s: %d tried, %d routed both ways, %d refused, %d with something that could not be had, %d not ended; "+
				"the client disagrees with %d\n", kind, c.tried, c.routed, c.refused, c.outside, c.ended, c.faults,
		)
		faults += c.faults
	}
	if faults > 0 {
		return fmt.Errorf("the client disagrees with %d", faults)
	}
	return nil
}
