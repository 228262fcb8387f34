package look

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/pin"
	"bellwether/internal/host/machine"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/need"
	"bellwether/internal/work/notes"
	"bellwether/internal/work/plan"
	"bellwether/internal/work/shelf"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/world"
)

// Prereqs tells what must be true first: every runtime, tool, platform and image
// that the destination needs, with those that they need in turn; with now, what is locked now
// needs. The error is a *solve.Conflict where nothing meets all of it.
func Prereqs(ctx context.Context, d *desk.Desk, t *tree.Tree, r world.Request, now bool) (*output.Prereqs, error) {
	s, err := plan.Shelf(ctx, d, t, r)
	if err != nil {
		return nil, err
	}
	result := &output.Prereqs{Rows: []output.Prereq{}, Chain: []output.ChainLink{}, Notes: slices.Clone(s.Notes)}
	end := t
	if !now {
		planned, err := plan.Compute(ctx, d, t, s, r)
		if err != nil {
			return nil, err
		}
		result.Destination = planned.Route.Destination
		result.Unconfirmed = notes.Needs(ctx, d, t, planned.Route.Legs)
		if end, err = t.In(planned.End().Files); err != nil {
			return nil, err
		}
		end = end.WithPlaces(t)
	}
	asker := plan.Asker(d, s, r)
	q, err := asker.Question(ctx, end)
	if err != nil {
		return nil, err
	}
	a, err := q.Answer(ctx)
	if err != nil {
		return nil, err
	}
	packages, err := d.Effective(ctx, end)
	if err != nil {
		return nil, err
	}
	for _, n := range packages.Unread() {
		result.Notes = append(result.Notes, n.Subject.String()+" "+n.Text)
	}
	for _, d := range a.Unmet {
		result.Notes = append(result.Notes, need.Unmet(d))
	}
	needs, err := asker.Needs(ctx, end, a)
	if err != nil {
		return nil, err
	}
	places, err := t.Places()
	if err != nil {
		return nil, err
	}
	was, err := d.Effective(ctx, t)
	if err != nil {
		return nil, err
	}
	is, err := d.Effective(ctx, end)
	if err != nil {
		return nil, err
	}
	w := &prereqWriter{
		desk: d, shelf: s, tree: t, places: places, now: was, end: is, answer: a, installed: map[model.Subject][]machine.Installed{},
	}
	for _, n := range needs {
		w.installed[n.Subject] = n.Installed
		result.Rows = append(result.Rows, w.row(n))
	}
	for _, l := range a.Links {
		result.Chain = append(result.Chain, w.link(l))
	}
	result.Rows = append(result.Rows, w.packages()...)
	return result, nil
}

// prereqWriter puts what was found into the words of results.
type prereqWriter struct {
	desk     *desk.Desk
	shelf    *shelf.Shelf
	tree     *tree.Tree   // as it is now
	places   *tree.Places // likewise
	now, end *tree.Packages
	answer   *compat.Answer
	// installed has what each runtime and tool has here, what starts first.
	installed map[model.Subject][]machine.Installed
}

// name is a subject with the version that it has in the end.
func (w *prereqWriter) name(s model.Subject) string {
	if v := w.answer.Chosen[s]; v != nil {
		return s.String() + " " + v.String()
	}
	if all := w.end.Of(s); len(all) > 0 && all[0].Version != "" {
		return s.String() + " " + all[0].Version
	}
	return s.String()
}

func (w *prereqWriter) link(l compat.Link) output.ChainLink {
	link := output.ChainLink{By: w.name(l.By), Need: l.Need.Subject.String(), Range: l.Need.Text, Holds: w.holds(l)}
	if l.Not {
		link.Range = "not " + l.Need.Text
	}
	var with []string
	for _, c := range l.With {
		with = append(with, c.String())
	}
	link.With = strings.Join(with, ", ")
	if l.Rule != nil {
		link.Rule, link.Because, link.Source, link.Place = l.Rule.ID, l.Rule.Because, l.Rule.Source, l.Rule.Place()
	} else {
		link.Place, link.Because = l.Demand.Place, "it states so"
		if len(l.Demand.Via) > 0 {
			link.With = "by way of " + strings.Join(l.Demand.Via, ", ")
		}
	}
	return link
}

// holds tells whether a need is met as things are now.
func (w *prereqWriter) holds(l compat.Link) bool {
	if !l.Need.Subject.IsPin() {
		return w.now.World().Holds(l.Need) != l.Not
	}
	known := false
	for _, q := range w.places.Of(l.Need.Subject) {
		if low := pin.Low(q); low != nil {
			known = true
			if l.Need.Range.Contains(low) == l.Not {
				return false
			}
		}
	}
	switch installed := w.installed[l.Need.Subject]; {
	case len(installed) > 0:
		v, err := version.Plain{}.Parse(installed[0].Version)
		return installed[0].Where == "" && err == nil && l.Need.Range.Contains(v) != l.Not
	case l.Need.Subject.Kind == "tool" && machine.Askable(l.Need.Subject):
		return false
	}
	return known
}

// because are the needs that lead to a subject, from the outermost on.
func (w *prereqWriter) because(s model.Subject, seen []model.Subject) []string {
	if slices.Contains(seen, s) {
		return nil
	}
	seen = append(seen, s)
	var lines []string
	for _, l := range w.answer.Links {
		if l.Need.Subject != s {
			continue
		}
		for _, line := range append(w.because(l.By, seen), w.sentence(l)) {
			if !slices.Contains(lines, line) {
				lines = append(lines, line)
			}
		}
	}
	return lines
}

func (w *prereqWriter) sentence(l compat.Link) string {
	text := w.name(l.By) + " needs " + l.Need.String()
	if l.Not {
		text = w.name(l.By) + " does not work with " + l.Need.String()
	}
	if l.Rule != nil {
		return fmt.Sprintf("%s: %s (%s)", text, strings.TrimSuffix(l.Rule.Because, "."), l.Rule.Place())
	}
	if len(l.Demand.Via) > 0 {
		return fmt.Sprintf("%s, as it states; %s asks for it (%s)", text, strings.Join(l.Demand.Via, ", "), l.Demand.Place)
	}
	return fmt.Sprintf("%s, as it states (%s)", text, l.Demand.Place)
}

func (w *prereqWriter) row(n *need.Need) output.Prereq {
	row := output.Prereq{
		Subject: n.Subject.String(), PURL: n.Subject.PURL(n.To.String()), Need: n.To.String(), Wants: n.Wants.Texts(),
		Because: w.because(n.Subject, nil), Verdict: n.Verdict(),
	}
	if v := tree.Stated(n.Pins); v != nil {
		row.Have = v.String()
	}
	for _, q := range n.Pins {
		low := pin.Low(q)
		row.Stated = append(
			row.Stated,
			output.PrereqPlace{
				Place: q.Site.String(), Start: q.Site.Start, End: q.Site.End, Range: q.Range, Enough: low != nil && n.Wants.Hold(low),
				Why: q.Unknown,
			},
		)
	}
	for _, i := range n.Installed {
		row.Installed = append(row.Installed, i.Version)
	}
	if on, _ := w.shelf.Ends(n.Subject, n.To); !on.IsZero() {
		row.Ends, row.Ended = on.Format(time.DateOnly), on.Before(w.desk.Today())
	}
	row.Next = n.Next()
	return row
}

// packages are the packages that rules need.
func (w *prereqWriter) packages() []output.Prereq {
	var rows []output.Prereq
	before, after := w.now.World(), w.end.World()
	for _, l := range w.answer.Links {
		if l.Need.Subject.IsPin() || l.Not {
			continue
		}
		row := output.Prereq{
			Subject: l.Need.Subject.String(), Wants: []string{l.Need.Text}, Because: w.because(l.Need.Subject, nil), Verdict: output.VerdictUnknown,
		}
		if have := before[l.Need.Subject]; len(have) > 0 {
			row.Have = have[0].String()
		}
		for _, part := range w.tree.Parts {
			for _, r := range part.Requirements {
				if r.Subject == l.Need.Subject {
					row.Stated = append(
						row.Stated,
						output.PrereqPlace{Place: r.Site.String(), Start: r.Site.Start, End: r.Site.End, Range: r.Range, Enough: before.Holds(l.Need)},
					)
				}
			}
		}
		switch {
		case before.Holds(l.Need):
			row.Verdict, row.Need = output.VerdictMet, row.Have
		case after.Holds(l.Need):
			row.Verdict, row.Need = output.VerdictMove, after[l.Need.Subject][0].String()
		case len(row.Stated) == 0:
			row.Need, row.Next = l.Need.Text, fmt.Sprintf("add %s %s to a manifest; nothing requires it", l.Need.Subject, l.Need.Text)
		default:
			row.Verdict, row.Need = output.VerdictMove, l.Need.Text
			row.Next = fmt.Sprintf("bellwether route --to %s@%s", l.Need.Subject.Name, l.Need.Text)
		}
		row.PURL = l.Need.Subject.PURL(row.Need)
		rows = append(rows, row)
	}
	return rows
}
