package finding

import "slices"

// Comparison is what changed from a baseline to a later verification. Names
// are sorted.
type Comparison struct {
	NewlyFailing []Test    `json:"newly-failing,omitempty"` // failed, and did not fail before
	StillFailing []Test    `json:"still-failing,omitempty"` // failed before, too
	NewlyPassing []string  `json:"newly-passing,omitempty"` // failed before
	Vanished     []string  `json:"vanished,omitempty"`      // ran before, did not run now
	BrokenStages []Stage   `json:"broken-stages,omitempty"` // failed, and did not before, and no test tells why
	NewFindings  []Finding `json:"new-findings,omitempty"`  // said now, and not before
	GoneFindings []Finding `json:"gone-findings,omitempty"` // said before, and not now
}

// Worse tells whether something that was right before no longer is.
func (c *Comparison) Worse() bool {
	return len(c.NewlyFailing)+len(c.Vanished)+len(c.BrokenStages) > 0
}

// Compare sets a verification against a baseline. Tests that could not run
// because their stage was not reached count as the stage's failure only.
func Compare(before, after *Verification) Comparison {
	var c Comparison
	for _, s := range after.Stages {
		old := before.stage(s.Component, s.Name)
		c.compareTests(old, s)
		var said []Finding
		if old != nil {
			said = old.Findings
		}
		c.NewFindings = append(c.NewFindings, missing(s.Findings, said)...)
		if s.Status == Passed || s.Status == Failed {
			c.GoneFindings = append(c.GoneFindings, missing(said, s.Findings)...)
		}
		wasRed := old != nil && old.Red()
		explained := slices.ContainsFunc(s.Tests, func(t Test) bool { return !t.Passed && !t.Skipped })
		if s.Red() && !wasRed && !explained {
			c.BrokenStages = append(c.BrokenStages, s)
		}
	}
	slices.Sort(c.Vanished)
	slices.Sort(c.NewlyPassing)
	return c
}

func (c *Comparison) compareTests(old *Stage, s Stage) {
	was := map[string]Test{}
	if old != nil {
		for _, t := range old.Tests {
			was[t.Name] = t
		}
	}
	now := map[string]bool{}
	for _, t := range s.Tests {
		now[t.Name] = true
		before, known := was[t.Name]
		switch {
		case !t.Passed && !t.Skipped && known && !before.Passed:
			c.StillFailing = append(c.StillFailing, t)
		case !t.Passed && !t.Skipped:
			c.NewlyFailing = append(c.NewlyFailing, t)
		case known && !before.Passed && !before.Skipped:
			c.NewlyPassing = append(c.NewlyPassing, t.Name)
		}
	}
	if s.Status == NotRun || s.Status == TimedOut {
		return
	}
	for name, t := range was {
		if !now[name] && !t.Skipped {
			c.Vanished = append(c.Vanished, name)
		}
	}
}
