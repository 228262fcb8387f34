package compat

import (
	"cmp"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
)

// Demand is what a package states that it needs.
type Demand struct {
	By    model.Subject
	When  func(v version.Version) bool // the versions of By that state it; nil for whatever is there
	Which string                       // those versions, for people
	Via   []string                     // what leads to By: "quayside 4.0.0", outermost first
	Need  Condition
	Place string // of the requirement at the beginning
	// Advice gives way where something else needs a newer version: whoever stated
	// it knew of none.
	Advice bool
	// Development is that only who works on the project gets what states it.
	Development bool
}

// String is the sentence that states the demand, without a full stop.
func (d *Demand) String() string {
	text := d.By.String()
	if d.Which != "" {
		text += " " + d.Which
	}
	if len(d.Via) > 0 {
		text += " (by " + strings.Join(d.Via, ", ") + ")"
	}
	return text + " states that it needs " + d.Need.String()
}

// Strictest drops the demands that another one implies, as far as can be told
// from what their ranges are written with. Of two that say the same, the one that
// is nearest to a requirement stays.
func Strictest(demands []Demand, order version.Order) []Demand {
	var points []version.Point
	for _, d := range demands {
		points = append(points, version.Points(order, d.Need.Text)...)
	}
	slices.SortFunc(points, func(a, b version.Point) int { return a.Compare(b.Version) })
	points = slices.CompactFunc(points, func(a, b version.Point) bool { return a.Compare(b.Version) == 0 })
	sets := make([][]bool, len(demands))
	for i, d := range demands {
		sets[i] = make([]bool, len(points))
		for k, p := range points {
			sets[i][k] = d.Need.Range.Contains(p.Version)
		}
	}
	implied := func(i int) bool {
		for j := range demands {
			if i == j || demands[i].Need.Subject != demands[j].Need.Subject {
				continue
			}
			if demands[j].Advice && !demands[i].Advice {
				continue // what may give way does not stand for what may not
			}
			if demands[j].Development && !demands[i].Development {
				continue // nor what users do not get for what they do
			}
			wider, same := true, true
			for k := range points {
				wider = wider && (sets[i][k] || !sets[j][k])
				same = same && sets[i][k] == sets[j][k]
			}
			nearer := cmp.Or(len(demands[j].Via)-len(demands[i].Via), j-i) < 0
			if wider && (!same || nearer) {
				return true
			}
		}
		return false
	}
	var kept []Demand
	for i, d := range demands {
		if !implied(i) {
			kept = append(kept, d)
		}
	}
	return kept
}
