package verify

import (
	"context"

	"bellwether/internal/core/finding"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/tree"
)

// Project builds and tests the project as it is, from clean, in a scratch
// checkout. Before a route is started, the result becomes the baseline.
func Project(ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store) (*finding.Result, error) {
	repo, release, err := k.Begin(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	j, err := k.Journey()
	if err != nil {
		return nil, err
	}
	var before *finding.Verification
	if j.Moved() {
		before = k.Baseline()
	}
	v, _, err := Job{Desk: d, Tree: t, Kept: k, Repo: repo, Label: "verify", Before: before, Whole: true}.Run(ctx)
	if err != nil {
		return nil, err
	}
	r := &finding.Result{Verification: v, Limit: d.Settings.Deprecations}
	if !j.Moved() {
		r.IsBaseline = true
		return r, k.KeepBaseline(v)
	}
	if before != nil {
		file, err := k.Route(ctx, t)
		if err != nil {
			return nil, err
		}
		c := finding.Compare(before, v)
		c.Differences = Differences(t, file, j, v)
		r.Comparison = &c
	}
	return r, nil
}
