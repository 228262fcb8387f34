// Package condition is when a declaration counts: in an environment, for a target or a platform, with a feature, in a profile.
// It parses, prints and evaluates conditions, and tells whether one implies another or two never hold together; nothing else
// (as go/build/constraint does for build constraints).
package condition

import (
	"cmp"
	"strings"
)

// Truth is what is known of a condition (Kleene's strong logic of three values).
type Truth int

// The values of truth, in the order of how much holds.
const (
	False Truth = iota
	Unknown
	True
)

// String is "no", "unknown" or "yes".
func (t Truth) String() string { return [...]string{"no", "unknown", "yes"}[t] }

// Expr is a condition: a [Term], [Not], [And] or [Or]. A nil one always holds.
type Expr interface {
	// Eval is what is known of the condition where something tells what is known of its terms.
	Eval(known func(t Term) Truth) Truth
	// String is the condition as [Parse] reads it.
	String() string
}

// Op compares the value of a key with another one.
type Op string

// The operators. A term with none asks whether the key is there at all.
const (
	Set     Op = ""
	Equal   Op = "=="
	Unequal Op = "!="
	Less    Op = "<"
	AtMost  Op = "<="
	More    Op = ">"
	AtLeast Op = ">="
)

// Term says something of one key: "profile == old", "python >= 3.9", "feature".
type Term struct {
	Key   string
	Op    Op
	Value string
}

// Not, And and Or combine conditions.
type (
	Not struct{ X Expr }
	And struct{ X, Y Expr }
	Or  struct{ X, Y Expr }
)

// Eval is what is known of the term.
func (t Term) Eval(known func(t Term) Truth) Truth { return known(t) }

// Eval is the opposite of what is known.
func (n Not) Eval(known func(t Term) Truth) Truth { return True - n.X.Eval(known) }

// Eval is what is known of the one that holds less.
func (a And) Eval(known func(t Term) Truth) Truth { return min(a.X.Eval(known), a.Y.Eval(known)) }

// Eval is what is known of the one that holds more.
func (o Or) Eval(known func(t Term) Truth) Truth { return max(o.X.Eval(known), o.Y.Eval(known)) }

// How "or" and "and" bind.
const (
	orBinds  = 1
	andBinds = 2
)

// String is "key", or "key == value" with quotes where the value needs them.
func (t Term) String() string {
	if t.Op == Set {
		return t.Key
	}
	return t.Key + " " + string(t.Op) + " " + quoted(t.Value)
}

// String is "not" with the condition.
func (n Not) String() string { return "not " + enclosed(n.X, andBinds+1) }

// String is both with "and" between.
func (a And) String() string { return enclosed(a.X, andBinds) + " and " + enclosed(a.Y, andBinds+1) }

// String is both with "or" between.
func (o Or) String() string { return enclosed(o.X, orBinds) + " or " + enclosed(o.Y, orBinds+1) }

// enclosed puts brackets around what binds less than what is around it.
func enclosed(x Expr, around int) string {
	own := andBinds + 1
	switch x.(type) {
	case And:
		own = andBinds
	case Or:
		own = orBinds
	}
	if own < around {
		return "(" + x.String() + ")"
	}
	return x.String()
}

func quoted(value string) string {
	if value != "" && strings.IndexFunc(value, func(r rune) bool { return !inWord(r) }) < 0 && !reserved(value) {
		return value
	}
	return `"` + strings.ReplaceAll(strings.ReplaceAll(value, `\`, `\\`), `"`, `\"`) + `"`
}

// All joins conditions with "and"; nil for none.
func All(list ...Expr) (all Expr) {
	for _, x := range list {
		switch {
		case x == nil:
		case all == nil:
			all = x
		default:
			all = And{all, x}
		}
	}
	return all
}

// Text is a condition as it is shown; "" for one that always holds.
func Text(x Expr) string {
	if x == nil {
		return ""
	}
	return x.String()
}

// Implies tells whether a condition holds wherever another does: it is unknown where that takes too long to find out. Compare
// orders the values of a key; nil for keys whose values are only the same or not.
func Implies(a, b Expr, compare func(key string) func(a, b string) int) Truth {
	return never(And{always(a), Not{always(b)}}, compare)
}

// Disjoint tells whether two conditions never hold together; see [Implies].
func Disjoint(a, b Expr, compare func(key string) func(a, b string) int) Truth {
	return never(And{always(a), always(b)}, compare)
}

// yes always holds.
type yes struct{}

func (yes) Eval(func(t Term) Truth) Truth { return True }
func (yes) String() string                { return "" }

// always is a condition that is not nil.
func always(x Expr) Expr {
	if x == nil {
		return yes{}
	}
	return x
}

// most bounds how many combinations of values are looked at before something is said to be unknown.
const most = 1 << 14

// never tells whether a condition holds nowhere. The values that a key may have are told apart as far as the condition does: each
// that it names, what lies between two of them, and one that it does not name. All combinations are looked at.
func never(x Expr, compare func(key string) func(a, b string) int) Truth {
	keys := keysOf(x, compare)
	all := 1
	for _, k := range keys {
		if all *= k.size(); all > most {
			return Unknown
		}
	}
	for n := range all {
		at := map[string]int{}
		for _, k := range keys {
			at[k.name] = n % k.size()
			n /= k.size()
		}
		holds := x.Eval(func(t Term) Truth {
			for _, k := range keys {
				if k.name == t.Key {
					return k.says(t, at[k.name])
				}
			}
			return Unknown
		})
		if holds == True {
			return False
		}
	}
	return True
}

// key is a key with the values that a condition names, in their order where they have one.
type key struct {
	name    string
	values  []string
	compare func(a, b string) int
}

// size is how many places a value may have: not there; and of n values, at one of them, or in one of the gaps around them. Where
// they have no order, there is one more for all that are not named.
func (k key) size() int {
	if k.compare == nil {
		return len(k.values) + 2
	}
	return 2*len(k.values) + 2
}

// says tells what a term says of a value at a place.
func (k key) says(t Term, place int) Truth {
	if place == 0 { // the key is not there
		return truth(t.Op == Unequal)
	}
	if t.Op == Set {
		return True
	}
	place--
	i := k.index(t.Value)
	side := 1
	switch {
	case k.compare != nil: // gap 0, value 0, gap 1, value 1, …
		side = cmp.Compare(place, 2*i+1)
	case place == i:
		side = 0
	}
	switch t.Op {
	case Equal:
		return truth(side == 0)
	case Unequal:
		return truth(side != 0)
	}
	if k.compare == nil {
		return Unknown
	}
	switch t.Op {
	case Less:
		return truth(side < 0)
	case AtMost:
		return truth(side <= 0)
	case More:
		return truth(side > 0)
	}
	return truth(side >= 0)
}

// index is where a value stands among those that are named.
func (k key) index(value string) int {
	for i, v := range k.values {
		if v == value || k.compare != nil && k.compare(v, value) == 0 {
			return i
		}
	}
	return -1
}

func truth(holds bool) Truth {
	if holds {
		return True
	}
	return False
}

// Compared is what is known of a term where the value of its key is; compare orders values, nil where they have no order.
func (t Term) Compared(value string, compare func(a, b string) int) Truth {
	k := key{name: t.Key, values: []string{t.Value}, compare: compare}
	place := 1 // without an order: the value itself, then others
	switch {
	case compare != nil:
		place = 2 + cmp.Compare(compare(value, t.Value), 0)
	case value != t.Value:
		place = 2
	}
	return k.says(t, place)
}
