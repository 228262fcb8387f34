package culprit

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	search "bellwether/internal/core/culprit"
	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/work/adapt"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/verify"
	"bellwether/internal/work/world"
)

// try makes a part of the leg from clean, and tells which symptoms it shows.
func (l *lab) try(ctx context.Context, moves []int) (search.Result, error) {
	_, edits, err := l.solve(ctx, moves, "", false)
	if errors.As(err, new(*solve.Conflict)) {
		return search.Result{}, nil
	}
	if err != nil {
		return search.Result{}, err
	}
	return l.verified(ctx, fmt.Sprintf("%d of %d moves", len(moves), len(l.moves)), edits)
}

// repaired adds what rules repair for the moves of a state, as the leg itself does.
func (l *lab) repaired(ctx context.Context, edits []model.FileEdit) ([]model.FileEdit, error) {
	after, err := l.tree.With(edits)
	if err != nil {
		return nil, err
	}
	more, _, err := adapt.Leg{
		Desk: l.quiet, Before: l.tree, After: after, Edits: edits, Kept: l.kept, Repo: l.repo, ID: l.leg.ID, Component: l.leg.Component,
	}.Repair(ctx)
	return world.MergeEdits(edits, more), err
}

// verified tells which symptoms a state shows; one that was tried before is not
// verified again.
func (l *lab) verified(ctx context.Context, what string, edits []model.FileEdit) (search.Result, error) {
	edits, err := l.repaired(ctx, edits)
	if err != nil {
		return search.Result{}, err
	}
	edits = world.MergeEdits(l.restore, edits)
	key := stateKey(l.baseline, edits)
	if r, known := l.knownTrial(key); known {
		l.desk.Tell(desk.Event{Text: what, Done: true, Good: !r.Resolved || len(l.shown(r)) == 0, Note: "known from an earlier call"})
		return r, nil
	}
	number, err := l.spend()
	if err != nil {
		return search.Result{}, err
	}
	label := fmt.Sprintf("trial %d", number)
	v, _, err := verify.Job{
		Desk: l.quiet, Tree: l.tree, Kept: l.kept, Repo: l.repo, Edits: edits,
		Label:  filepath.Join("culprit", strings.ReplaceAll(label, " ", "-")),
		Before: l.baseline, Until: l.until, Only: l.concerned(), Whole: true,
	}.Run(ctx)
	if err != nil {
		return search.Result{}, err
	}
	r := l.read(v)
	shown := l.shown(r)
	l.mu.Lock()
	defer l.mu.Unlock()
	l.seen[key]++
	l.known[key] = kept.Trial{Resolved: r.Resolved, Failing: shown, Times: l.known[key].Times + 1}
	note := "passes"
	switch {
	case !r.Resolved:
		note = "cannot be tried, since something else fails"
	case len(shown) > 0:
		note = "fails: " + few(shown)
	}
	l.desk.Tell(desk.Event{Text: label + ": " + what, Done: true, Good: len(shown) == 0, Note: note})
	return r, l.kept.KeepTrials(l.known)
}

// knownTrial is what came of a state in an earlier call. A state that is asked for
// once more, to confirm what it shows, is known if it was tried as often.
func (l *lab) knownTrial(key string) (search.Result, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	k := l.known[key]
	if l.seen[key] >= k.Times {
		return search.Result{}, false
	}
	l.seen[key]++
	r := search.Result{Resolved: k.Resolved, Failing: map[string]bool{}}
	for _, name := range k.Failing {
		r.Failing[name] = true
	}
	return r, true
}

// spend takes a trial from the budget, and gives its number.
func (l *lab) spend() (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.opt.Trials > 0 && l.trials >= l.opt.Trials || !l.deadline.IsZero() && time.Now().After(l.deadline) {
		return 0, search.ErrSpent
	}
	l.trials++
	return l.trials, nil
}

// shown are the symptoms that a result shows.
func (l *lab) shown(r search.Result) (names []string) {
	for _, s := range l.symptoms {
		if r.Failing[s.String()] {
			names = append(names, s.String())
		}
	}
	return names
}

// read takes the symptoms from a verification. Where another stage fails before a
// symptom could show, nothing is known.
func (l *lab) read(v *finding.Verification) search.Result {
	r := search.Result{Resolved: true, Failing: map[string]bool{}}
	for _, s := range v.Stages {
		shows := slices.ContainsFunc(l.symptoms, func(o symptom) bool { return o.component == s.Component && o.stage == s.Name })
		if !shows && finding.NewlyRed(l.baseline, s) {
			r.Resolved = false
		}
		for _, o := range l.symptoms {
			if o.component != s.Component || o.stage != s.Name {
				continue
			}
			failing := slices.ContainsFunc(s.Tests, func(t finding.Test) bool { return t.Name == o.test && t.Failed() })
			r.Failing[o.String()] = failing || o.test == "" && s.Red()
			// A test that did not run, since the stage failed as a whole, says nothing.
			ran := slices.ContainsFunc(s.Tests, func(t finding.Test) bool { return t.Name == o.test })
			if o.test != "" && !ran && s.Red() {
				r.Failing[o.String()] = true
			}
		}
	}
	return r
}

// stateKey names a state by what it was made of.
func stateKey(baseline *finding.Verification, edits []model.FileEdit) string {
	h := sha256.New()
	fmt.Fprintln(h, baseline.Key)
	for _, e := range edits {
		fmt.Fprintf(h, "%q %x\n", e.File, sha256.Sum256(e.New))
	}
	return hex.EncodeToString(h.Sum(nil))
}
