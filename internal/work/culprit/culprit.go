package culprit

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	search "bellwether/internal/core/culprit"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/spelling"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/tree"
)

// Options say how far the search for a culprit goes.
type Options struct {
	Trials int           // at most so many; 0 for no bound
	For    time.Duration // at most so long; 0 for no bound
	Split  bool          // also between which versions of a single culprit it breaks
	Part   bool          // make a leg of its own of the culprit, behind what passes without it
}

// Find finds which moves of the leg that waits for a repair break it, by trying
// parts of it from clean. The tree stays as it is, but with Part.
func Find(ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store, opt Options) (*output.CulpritResult, error) {
	repo, release, err := k.Begin(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	l, err := newLab(ctx, d, t, k, repo, opt)
	if err != nil {
		return nil, err
	}
	result, err := l.find(ctx)
	if err != nil {
		return result, err
	}
	if opt.Part {
		if err := l.part(ctx, result); err != nil {
			return result, err
		}
	}
	return result, k.KeepCulprit(result)
}

func (l *lab) find(ctx context.Context) (*output.CulpritResult, error) {
	needs, err := l.needs(ctx)
	if err != nil {
		return nil, err
	}
	problem := search.Problem{Moves: len(l.moves), Needs: needs, Parallel: l.atOnce(), Tell: l.sofar}
	for _, s := range l.symptoms {
		problem.Symptoms = append(problem.Symptoms, s.String())
	}
	begun := time.Now()
	answer, err := search.Find(ctx, problem, l.try)
	if err != nil {
		return nil, err
	}
	result := &output.CulpritResult{
		Leg: l.leg.ID, Moves: len(l.moves), Spent: answer.Spent, Unstable: answer.Unstable, Rest: l.names(answer.Rest),
	}
	for _, c := range answer.Culprits {
		set := output.CulpritSet{Moves: l.summaries(c.Moves), With: l.summaries(c.With), Breaks: c.Symptoms, Certain: c.Certain}
		if l.opt.Split && len(c.Moves) == 1 && c.Certain && !answer.Spent {
			if err := l.split(ctx, c, &set, result); err != nil {
				return nil, err
			}
		}
		result.Culprits = append(result.Culprits, set)
	}
	result.Trials = l.trials
	result.Duration = time.Since(begun).Round(time.Millisecond)
	return result, nil
}

// sofar tells how far the search is.
func (l *lab) sofar(k search.Known) {
	if len(k.Among) == len(l.moves) {
		return
	}
	text := "so far: "
	if len(k.Guilty) > 0 {
		text += few(l.names(k.Guilty)) + " and "
	}
	text += "one of " + few(l.names(k.Among))
	if len(k.Among) == 1 {
		text = "so far: " + few(append(l.names(k.Guilty), l.names(k.Among)...))
	}
	l.desk.Tell(desk.Event{Text: text, Done: true, Good: true})
	l.desk.Tell(desk.Event{Text: text}) // while the next trials run
}

func (l *lab) names(moves []int) (names []string) {
	for _, i := range moves {
		names = append(names, l.moves[i].Spoken())
	}
	return names
}

func (l *lab) summaries(moves []int) (all []output.MoveSummary) {
	for _, i := range moves {
		all = append(all, output.OfMove(l.moves[i]))
	}
	return all
}

// split finds two neighbouring releases of a single culprit of which one passes and
// the next fails.
func (l *lab) split(ctx context.Context, c search.Culprit, set *output.CulpritSet, result *output.CulpritResult) error {
	m := l.moves[c.Moves[0]]
	steps, err := l.releasesOf(ctx, m)
	if err != nil || len(steps) < 2 {
		return err
	}
	passes, fails, _, err := search.Split(ctx, len(steps), func(ctx context.Context, step int) (bool, bool, error) {
		_, edits, err := l.solve(ctx, c.Moves, steps[step], true)
		if errors.As(err, new(*solve.Conflict)) {
			return false, false, nil
		}
		if err != nil {
			return false, false, err
		}
		r, err := l.verified(ctx, m.Spoken()+" "+steps[step], edits)
		return r.Failing[c.Symptoms[0]], r.Resolved, err
	})
	if errors.Is(err, search.ErrSpent) {
		result.Spent, err = true, nil
	}
	if set.Passes = m.From; passes >= 0 {
		set.Passes = steps[passes]
	}
	set.Fails = steps[fails]
	return err
}

// releasesOf are the releases that a move passes over, oldest first, and the last one
// that it goes to.
func (l *lab) releasesOf(ctx context.Context, m model.Move) ([]string, error) {
	part := l.tree.Part(l.leg.Component)
	if part == nil {
		return nil, fmt.Errorf("there is no component %q that can be read", l.leg.Component)
	}
	registry, err := l.quiet.Registry(ctx, part)
	subject, declared := part.SubjectOf(m.Name)
	if err != nil || !declared || m.Range != "" {
		return nil, err
	}
	order := part.Eco.Order()
	from, err := order.Parse(m.From)
	if err != nil {
		return nil, nil
	}
	to, err := order.Parse(m.To)
	if err != nil {
		return nil, nil
	}
	releases, err := registry.Releases(ctx, subject)
	if err != nil {
		return nil, err
	}
	var steps []string
	for _, r := range releases {
		v, err := order.Parse(r.Version)
		if err == nil && v.Compare(from) > 0 && (v.Compare(to) == 0 || v.Compare(to) < 0 && !v.Preview() && !r.Retracted) {
			steps = append(steps, r.Version)
		}
	}
	return steps, nil
}

// part takes the leg back, and makes two of it: what passes, and behind it what is
// left, with the culprit.
func (l *lab) part(ctx context.Context, result *output.CulpritResult) error {
	if len(result.Rest) == 0 || len(result.Rest) == len(l.moves) {
		return &model.Fault{
			Doing: "parting leg " + l.leg.ID, Wrong: "no part of it is known to pass",
			Next: "repair what fails, or take the leg back with bellwether undo", Found: true,
		}
	}
	rest, left := *l.leg, *l.leg
	rest.Moves, left.Moves, rest.Carried, left.Carried = nil, nil, nil, nil
	for _, m := range l.leg.Moves {
		if slices.Contains(result.Rest, m.Spoken()) {
			rest.Moves = append(rest.Moves, m)
		} else {
			left.Moves = append(left.Moves, m)
		}
	}
	var names []string
	for _, m := range left.Moves {
		names = append(names, m.Name)
	}
	left.ID, left.Title = l.leg.ID+"-culprit", few(names)+" by itself"
	if len(left.Moves) == 1 {
		left.Title = left.Moves[0].Name + " to " + left.Moves[0].To
	}
	left.Overrides, rest.Title = nil, cmp.Or(l.leg.Title, l.leg.ID)+", without "+few(names)
	at := slices.IndexFunc(l.file.Legs, func(leg model.Leg) bool { return leg.ID == l.leg.ID })
	l.file.Legs = slices.Concat(l.file.Legs[:at], []model.Leg{rest, left}, l.file.Legs[at+1:])
	if err := l.kept.Restore(l.record); err != nil {
		return err
	}
	l.journey.Drop()
	if err := errors.Join(l.kept.ForgetLeg(l.leg.ID), l.kept.WriteJourney(l.journey)); err != nil {
		return err
	}
	result.Parted = []string{rest.ID, left.ID}
	return l.kept.WriteRoute(l.file)
}

// few names the first of a list.
func few(list []string) string { return spelling.Few(list, 3) }
