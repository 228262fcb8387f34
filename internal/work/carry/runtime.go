package carry

import (
	"context"
	"slices"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/verify"
)

// runnable refuses a leg that leads to a runtime which is not on this machine, unless the person said to go on: no stage could
// show that it works. What was accepted for an earlier leg is not asked again.
func (a *advance) runnable(ctx context.Context, moved *movedLeg) error {
	if a.opt.Unverified {
		return nil
	}
	after, err := a.tree.With(moved.edits)
	if err != nil {
		return err
	}
	runtimes, err := verify.Runtimes(ctx, a.desk, after)
	if err != nil {
		return err
	}
	for _, m := range a.raised() {
		for _, why := range verify.Apart(runtimes, m.Subject) {
			if a.accepted(why) {
				continue
			}
			install := "install " + m.Subject.Name + " " + m.To
			if by := a.desk.Machine().InstalledBy(m.Subject, m.To); by != "" {
				install += ", with " + by + " say,"
			}
			return &model.Fault{
				Doing: "advancing to leg " + a.leg.ID, Found: true, Wrong: "no stage would show that it works: " + why,
				Next: install + " and run bellwether advance again; or go on with what is here, which every leg will be marked with: bellwether " +
					"advance --unverified",
			}
		}
	}
	return nil
}

// unverified are the reasons why a verification does not show that the leg works.
func (a *advance) unverified(v *finding.Verification) (reasons []string) {
	if why := v.Untried(); why != "" {
		reasons = append(reasons, why)
	}
	for _, m := range a.raised() {
		reasons = append(reasons, verify.Apart(v.Runtimes, m.Subject)...)
	}
	return reasons
}

// raised are the runtimes that the leg and those before it move, each as it was moved last.
func (a *advance) raised() (all []model.Move) {
	for _, l := range a.file.Legs {
		if record := a.journey.Find(l.ID); l.ID != a.leg.ID && (record == nil || record.Status != kept.Done) {
			continue
		}
		for _, m := range l.Moves {
			if m.Subject.Kind != "runtime" {
				continue
			}
			all = slices.DeleteFunc(all, func(o model.Move) bool { return o.Subject == m.Subject })
			all = append(all, m)
		}
	}
	return all
}

// accepted tells whether a leg was carried out before with the same reason against it.
func (a *advance) accepted(why string) bool {
	return slices.ContainsFunc(a.journey.Legs, func(l *kept.LegRecord) bool { return slices.Contains(l.Unverified, why) })
}
