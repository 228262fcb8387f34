package look

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/pin"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/shelf"
	"bellwether/internal/work/tree"
)

// remarks tell what does not fit in the project as it is: needs that are not
// met, what clashes, families that are apart, what has ended or will, what goes
// on under another name, and places that assume another runtime than runs.
func remarks(ctx context.Context, d *desk.Desk, t *tree.Tree, places *tree.Places) ([]output.SurveyRemark, error) {
	s, err := shelf.Read(ctx, d, t)
	if err != nil {
		return nil, err
	}
	packages, err := d.Effective(ctx, t)
	if err != nil {
		return nil, err
	}
	r := &remarker{desk: d, shelf: s, places: places, world: packages.World(), orders: t.Table.Order}
	places.Add(r.world)
	for _, d := range packages.Demands() {
		r.demand(d)
	}
	for _, n := range packages.Unread() {
		r.list = append(r.list, output.SurveyRemark{Kind: "states", Subject: n.Subject.String(), Text: n.Text})
	}
	for _, rule := range s.Rules {
		if rule.Foreign == "" {
			r.rule(rule)
		}
	}
	r.endsOfLines()
	r.assumed(ctx)
	return r.list, nil
}

type remarker struct {
	desk   *desk.Desk
	shelf  *shelf.Shelf
	places *tree.Places
	world  compat.World // packages and what is stated
	orders func(kind string) version.Order
	list   []output.SurveyRemark
}

// short lists the places that are not enough for a condition, with what they
// state; not turns it round.
func (r *remarker) short(c compat.Condition, not bool) []model.Pin {
	var short []model.Pin
	for _, q := range r.places.Of(c.Subject) {
		if low := pin.Low(q); low != nil && q.List == nil && c.Range.Contains(low) == not {
			short = append(short, q)
		}
	}
	return short
}

// demand tells of a need that a package states and that places do not meet.
func (r *remarker) demand(d compat.Demand) {
	short := r.short(d.Need, false)
	if len(short) == 0 || d.Place == short[0].Site.String() {
		return
	}
	by := strings.TrimSpace(d.By.Name + " " + d.Which)
	if len(d.Via) > 0 {
		by += ", by way of " + strings.Join(d.Via, ", ") + ","
	}
	r.list = append(r.list, output.SurveyRemark{
		Kind: "states", Subject: d.Need.Subject.String(),
		Text: fmt.Sprintf("is stated as %s, and %s needs %s", gathered(short), by, d.Need.Text), Place: d.Place,
		Fix: "bellwether prereqs tells the whole chain",
	})
}

func (r *remarker) rule(rule *compat.Rule) {
	add := func(subject model.Subject, text string) {
		r.list = append(
			r.list,
			output.SurveyRemark{
				Kind: string(rule.Kind), Subject: subject.String(), Text: text, Because: rule.Because, Place: rule.Place(), Rule: rule.ID,
			},
		)
	}
	switch rule.Kind {
	case compat.Together:
		r.together(rule, add)
		return
	case compat.Replaced:
		if all := r.world[rule.Old]; len(all) > 0 {
			add(rule.Old, fmt.Sprintf("%s goes on as %s", all[0], rule.New))
		}
		return
	case compat.Stepwise, compat.Branch:
		return
	}
	if slices.ContainsFunc(rule.When, func(c compat.Condition) bool { return !r.world.Holds(c) }) {
		return
	}
	subject := rule.When[0].Subject
	switch rule.Kind {
	case compat.Needs:
		for _, then := range rule.Then {
			if then.Subject.IsPin() {
				if short := r.short(then, false); len(short) > 0 {
					add(then.Subject, fmt.Sprintf("is stated as %s, and %s needs %s", gathered(short), subject, then.Text))
				}
			} else if all := r.world[then.Subject]; len(all) > 0 && !r.world.Holds(then) {
				add(then.Subject, fmt.Sprintf("is at %s, and %s needs %s", all[0], subject, then.Text))
			}
		}
	case compat.Clashes:
		var others []string
		for _, c := range rule.When[1:] {
			others = append(others, fmt.Sprintf("%s %s", c.Subject, r.world[c.Subject][0]))
		}
		add(subject, fmt.Sprintf("%s does not work with %s", r.world[subject][0], strings.Join(others, " and ")))
	case compat.Restored:
		for _, then := range rule.Then {
			if !r.world.Holds(then) {
				add(subject, fmt.Sprintf("%s is without %s, which %s gives back", r.world[subject][0], rule.Feature, then))
			}
		}
	case compat.Ends:
		r.ends(subject, r.world[subject][0].String(), rule.On, rule)
	}
}

// together tells of the members of a family that are apart from most.
func (r *remarker) together(rule *compat.Rule, add func(model.Subject, string)) {
	order := r.orders(rule.Subjects[0].Kind)
	var here []model.Subject
	for _, s := range rule.Subjects {
		if len(r.world[s]) > 0 {
			here = append(here, s)
		}
	}
	with := func(s model.Subject) (same, apart []string) {
		for _, o := range here {
			text := fmt.Sprintf("%s %s", o.Name, r.world[o][0])
			switch {
			case o == s:
			case order.Step(r.world[s][0], r.world[o][0]) <= rule.Share.Reach():
				same = append(same, text)
			default:
				apart = append(apart, text)
			}
		}
		return same, apart
	}
	for i, s := range here {
		same, apart := with(s)
		// Of two that are apart, the later one in the rule is the straggler.
		if len(apart) > len(same) && (len(here) > 2 || i == len(here)-1) {
			add(s, fmt.Sprintf("%s and %s differ; they should share one %s", r.world[s][0], strings.Join(apart, ", "), rule.Share))
		}
	}
}

// endsOfLines tells which stated runtimes are past the end of their line, or
// will be within the year.
func (r *remarker) endsOfLines() {
	for _, pins := range r.places.Groups {
		byRange := map[string]time.Time{} // zero for no end that a line has
		byEnd := map[time.Time][]model.Pin{}
		for _, q := range pins {
			on, known := byRange[q.Range]
			if v, err := (version.Plain{}).Parse(q.Range); !known && err == nil && pin.Exact(q) {
				end, rule := r.shelf.Ends(q.Subject, v)
				if rule == nil {
					on = end
				}
				byRange[q.Range] = on
			}
			if !on.IsZero() && pin.Exact(q) {
				byEnd[on] = append(byEnd[on], q)
			}
		}
		for _, on := range slices.SortedFunc(maps.Keys(byEnd), time.Time.Compare) {
			r.ends(pins[0].Subject, gathered(byEnd[on]), on, nil)
		}
	}
}

// soon is how many days before its end a line is told of.
const soon = 365

func (r *remarker) ends(subject model.Subject, what string, on time.Time, rule *compat.Rule) {
	left := int((on.Unix() - r.desk.Today().Unix()) / (24 * 60 * 60))
	if left > soon && rule == nil {
		return
	}
	remark := output.SurveyRemark{Kind: string(compat.Ends), Subject: subject.String(), On: on.Format(time.DateOnly), Days: left}
	if rule != nil {
		remark.Because, remark.Place, remark.Rule = rule.Because, rule.Place(), rule.ID
	}
	remark.Text = fmt.Sprintf("%s: past its end since %s", what, remark.On)
	if on.After(r.desk.Today()) {
		remark.Text = fmt.Sprintf("%s: ends on %s, in %s", what, remark.On, days(remark.Days))
	}
	r.list = append(r.list, remark)
}

func days(n int) string {
	if n == 1 {
		return "1 day"
	}
	return fmt.Sprintf("%d days", n)
}

// assumed tells of places that make resolving assume another runtime than the
// one that is installed or stated.
func (r *remarker) assumed(ctx context.Context) {
	for _, pins := range r.places.Groups {
		for _, q := range pins {
			if !q.Assumed {
				continue
			}
			runs := ""
			if v := tree.Stated(pins); v != nil {
				runs = v.String()
			} else if all := r.desk.Machine().Versions(ctx, q.Subject); len(all) > 0 {
				runs = all[0].Version
			}
			if runs != "" && version.CompareStated(q.Range, runs) < 0 {
				r.list = append(r.list, output.SurveyRemark{
					Kind: "assumes", Subject: q.Subject.String(), Text: fmt.Sprintf("%s is assumed when resolving, and %s "+
						"runs", q.Range, runs), Place: q.Site.String(),
					Fix: fmt.Sprintf("state %s there, or drop it", runs),
				})
			}
		}
	}
}
