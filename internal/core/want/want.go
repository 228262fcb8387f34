// Package want makes subjects of a solver's problem out of requirements and a goal: which
// candidates a requirement may become, in which order they are tried, when it is decided, and
// with which sentences a proof tells all that. It is the same for all ecosystems; what is
// particular to one it is told.
package want

import (
	"cmp"
	"fmt"
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
)

// Candidate is a release that a requirement may become.
type Candidate struct {
	Text    string // the version as it is written
	Version version.Version
	InRange bool // what the requirement asks for has it
	Shunned bool // nobody should go there by itself: it is deprecated, taken back, a pre-release
	Unfit   bool // it does not run on what is installed
	Apart   bool // it is known under another name, which nobody goes to unasked and no rule speaks of
}

// Tendency is which candidates are tried first where nothing asks for the newest.
type Tendency int

// The tendencies. What is locked comes before all others in each.
const (
	Nearest Tendency = iota // the newest of the same line, then of the next one, and so on
	Lowest                  // the lowest that will do, upwards before downwards
)

// Want is a requirement that is to be met.
type Want struct {
	Name       string // what the manifest calls it; rules and previews speak of it
	Key        string // how bounds speak of it; empty for Name
	Candidates []Candidate
	Locked     version.Version // nil for none
	At         int             // the index of the candidate that is locked, -1 for none
	Tendency   Tendency
	Weight     int  // how many others want to meet it: heavy ones are decided first
	Still      bool // it moves only where a bound names it, as a runtime does
	Strict     bool // what does not run here cannot be had at all
	Previews   bool // pre-releases may be taken by what moves it by name
	// Promised is that others count on what the manifest asks for: it is widened only for
	// another line, and only where that is asked for by name.
	Promised bool
	// Indirect is that only the lock has it: nothing of the project itself asks for it.
	Indirect bool
	// Newest lets the newest come first where that is asked for; runtimes are raised no more
	// than they must be.
	Newest bool
	// Stays is a candidate that a bound allows in any case, nil for none.
	Stays func(i int) bool
	// Unlocked orders candidates where nothing is locked and the newest is not asked for; nil
	// for the order of the tendency.
	Unlocked func(a, b int) int
	// Asks is the sentence of what the manifest asks for, and Down that nobody asked for an older version
	// than the locked one. Both are without a full stop.
	Asks, Down string
	// Hidden adds to Down what would be newer and is not allowed; nil for nothing.
	Hidden func(allowed []bool) string
}

func (w *Want) key() string { return cmp.Or(w.Key, w.Name) }

// Allowed tells which candidates a goal lets the requirement become.
func (w *Want) Allowed(goal *contract.Goal) []bool {
	bound := goal.Bound(w.key())
	preview := slices.Contains(goal.Previews, w.Name)
	allowed := make([]bool, len(w.Candidates))
	for i, c := range w.Candidates {
		shown := preview || !c.Version.Preview() || c.InRange || i == w.At || w.Previews && !goal.Fit
		switch {
		case w.Promised:
			widens := bound.Allow != nil && goal.Leads(w.key()) >= 0 && (w.Locked == nil || c.Version.Line() != w.Locked.Line())
			allowed[i] = c.InRange || widens && shown && bound.Allow(c.Version)
		case bound.Allow != nil:
			allowed[i] = w.Stays != nil && w.Stays(i) || shown && bound.Allow(c.Version)
		case w.Locked != nil:
			allowed[i] = i == w.At || !w.Still && !c.Apart && shown && c.Version.Compare(w.Locked) > 0
		default:
			allowed[i] = c.InRange
		}
		if (goal.Fit || w.Strict) && i != w.At && c.Unfit {
			allowed[i] = false
		}
	}
	return allowed
}

// Why says who laid down what is allowed.
func (w *Want) Why(goal *contract.Goal, allowed []bool) solve.Why {
	bound := goal.Bound(w.key())
	return func() string {
		switch {
		case w.Promised, bound.Allow == nil && w.Locked == nil:
			return w.Asks
		case bound.Allow != nil && bound.Why != "":
			return bound.Why
		case bound.Allow != nil:
			return fmt.Sprintf("%s is to be %s", model.Spoken(w.key()), solve.Runs(w.Texts(), func(i int) bool { return allowed[i] }))
		case w.Hidden != nil:
			return w.Down + w.Hidden(allowed)
		}
		return w.Down
	}
}

// Texts are the candidates as they are written.
func (w *Want) Texts() []string {
	texts := make([]string, len(w.Candidates))
	for i, c := range w.Candidates {
		texts[i] = c.Text
	}
	return texts
}

// Preference is the order in which candidates are tried.
func (w *Want) Preference(goal *contract.Goal) []int {
	newest := w.Newest && goal.Bound(w.key()).Newest
	order := make([]int, len(w.Candidates))
	for i := range order {
		order[i] = i
	}
	var compare func(a, b int) int
	switch {
	case goal.Fixes && w.Locked != nil && !newest:
		compare = w.nearest
	case w.Unlocked != nil && w.Locked == nil && !newest:
		compare = w.Unlocked
	case goal.Indirect && w.Indirect && w.Locked != nil && w.Tendency == Nearest:
		compare = w.fresher()
	case newest || w.At < 0 && w.Tendency == Nearest:
		compare = w.newer
	case w.Tendency == Lowest:
		compare = w.lower
	default:
		compare = w.nearer()
	}
	slices.SortStableFunc(order, compare)
	return order
}

// newer puts the newest first, behind all against which nothing speaks.
func (w *Want) newer(a, b int) int {
	if d := First(!w.bad(a), !w.bad(b)); d != 0 {
		return d
	}
	return b - a
}

// fresher puts the newest of the line first that is locked, among those against which nothing speaks.
func (w *Want) fresher() func(a, b int) int {
	lines, nearer := w.lines(), w.nearer()
	fresh := func(i int) bool { return i >= w.At && lines[i] == lines[w.At] && !w.bad(i) }
	return func(a, b int) int {
		switch {
		case fresh(a) != fresh(b):
			return First(fresh(a), fresh(b))
		case fresh(a):
			return b - a
		}
		return nearer(a, b)
	}
}

// lower puts what is locked first, then what is above it upwards, then what is below it
// downwards.
func (w *Want) lower(a, b int) int {
	if a < w.At || b < w.At {
		return b - a
	}
	return a - b
}

// nearer puts what is locked first, then what the manifest asks for, then the smallest step, among those
// against which nothing speaks.
func (w *Want) nearer() func(a, b int) int {
	lines := w.lines()
	return func(a, b int) int {
		switch {
		case a == w.At || b == w.At:
			return First(a == w.At, b == w.At)
		case w.bad(a) != w.bad(b):
			return First(!w.bad(a), !w.bad(b))
		case a > w.At && b > w.At && w.Candidates[a].InRange != w.Candidates[b].InRange: // what the manifest asks for need not be written anew
			return First(w.Candidates[a].InRange, w.Candidates[b].InRange)
		case lines[a] != lines[b]:
			return stepFrom(lines[w.At], lines[a]) - stepFrom(lines[w.At], lines[b])
		}
		return b - a
	}
}

// nearest puts what is locked first, then the next versions above it upwards, those first that the manifest asks for, among those
// against which nothing speaks.
func (w *Want) nearest(a, b int) int {
	switch {
	case a == w.At || b == w.At:
		return First(a == w.At, b == w.At)
	case w.bad(a) != w.bad(b):
		return First(!w.bad(a), !w.bad(b))
	case a > w.At && b > w.At && w.Candidates[a].InRange != w.Candidates[b].InRange:
		return First(w.Candidates[a].InRange, w.Candidates[b].InRange)
	}
	return w.lower(a, b)
}

// bad tells whether something speaks against going to a candidate by itself.
func (w *Want) bad(i int) bool { return w.Candidates[i].Shunned || w.Candidates[i].Unfit }

// lines numbers the compatible series that each candidate is in, upwards.
func (w *Want) lines() []int {
	lines := make([]int, len(w.Candidates))
	for i := 1; i < len(lines); i++ {
		lines[i] = lines[i-1]
		if w.Candidates[i].Version.Line() != w.Candidates[i-1].Version.Line() {
			lines[i]++
		}
	}
	return lines
}

// First orders what holds before what does not.
func First(a, b bool) int {
	switch {
	case a && !b:
		return -1
	case b && !a:
		return 1
	}
	return 0
}

// stepFrom is how far a line is from another; lines below come after all above.
func stepFrom(from, to int) int {
	if to < from {
		return 1<<20 + from - to
	}
	return to - from
}

// asked is more than any weight: what is asked for by name is decided before all else.
const asked = 1 << 20

// Rank is when the requirement is decided: lower ranks first.
func (w *Want) Rank(goal *contract.Goal) int {
	if at := goal.Leads(w.key()); at >= 0 {
		return at - asked
	}
	return -w.Weight
}

// State adds the requirement to a problem: its subject, what it is allowed to become, and the
// order of what is tried. It gives what is allowed, too.
func (w *Want) State(p *solve.Problem, goal *contract.Goal) (id solve.ID, allowed []bool) {
	id = p.Subject(model.Spoken(w.key()), w.Texts())
	allowed = w.Allowed(goal)
	p.Require(id, p.Pick(id, func(i int) bool { return allowed[i] }), w.Why(goal, allowed))
	p.Prefer(id, w.Preference(goal))
	p.Rank(id, w.Rank(goal))
	return id, allowed
}

// Unit is one declaration of a name in a problem, or several that share one version.
type Unit struct {
	Subject solve.ID
	Want    *Want
	Places  []string // where it is declared
}

// Rule states a rule about requirements. Find gives the units of a name; none where nothing requires it, and then the rule
// says nothing. Of names that are declared in several places it holds within each place that has both, and where no place
// has, between all.
func Rule(p *solve.Problem, r contract.Rule, find func(name string) []Unit) {
	all := make([][]Unit, len(r.Terms))
	for i, t := range r.Terms {
		if all[i] = find(t.Name); len(all[i]) == 0 {
			return
		}
	}
	for _, units := range combined(all) {
		terms := make([]solve.Term, len(units))
		for i, u := range units {
			terms[i] = solve.Term{Subject: u.Subject, In: p.Pick(u.Subject, func(c int) bool {
				return !u.Want.Candidates[c].Apart && r.Terms[i].In(u.Want.Candidates[c].Version)
			})}
		}
		p.Forbid(func() string { return r.Why }, terms...)
	}
}

// most bounds how many combinations of units a rule is stated for.
const most = 100_000

// combined gives the choices of one unit from each list that a rule is about.
func combined(lists [][]Unit) [][]Unit {
	chosen := [][]Unit{{}}
	for _, list := range lists {
		var more [][]Unit
		for _, before := range chosen {
			fitting := slices.DeleteFunc(slices.Clone(list), func(u Unit) bool { return !near(before, u) })
			if len(fitting) == 0 {
				fitting = list
			}
			for _, u := range fitting {
				more = append(more, append(slices.Clone(before), u))
			}
		}
		chosen = more[:min(len(more), most)]
	}
	return chosen
}

// near tells whether a unit is declared in a place of all others.
func near(others []Unit, u Unit) bool {
	return !slices.ContainsFunc(others, func(o Unit) bool {
		return !slices.ContainsFunc(o.Places, func(place string) bool { return slices.Contains(u.Places, place) })
	})
}
