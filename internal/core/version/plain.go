package version

import (
	"cmp"
	"fmt"
	"math"
	"strconv"
	"strings"

	"bellwether/internal/core/lazyregexp"
)

// Plain is the order of runtimes, tools and platforms, and of all that has no
// dialect of its own: numbers with dots, of any count. Its ranges read what the
// files of many ecosystems have in common: >=, >, <=, <, =, ==, !=, ^, ~, ~> and
// ~=, with spaces or commas for "and", || or | for "or", and x or * for any
// number. A bare version stands for all that begin with it.
type Plain struct{}

type plain struct {
	text    string
	numbers []int
	suffix  string
	open    bool // numbers that are not there are as high as can be, not zero
}

var (
	plainForm   = lazyregexp.New(`^v?([0-9]{1,9}(?:\.[0-9]{1,9})*)(?:[-+_.]?([A-Za-z][0-9A-Za-z.+_-]*)|[-+_][0-9A-Za-z.+_-]*)?$`)
	previewForm = lazyregexp.New(`(?i)^(alpha|beta|rc|pre|preview|dev|snapshot|ea|m[0-9]|a[0-9]|b[0-9])`)
)

// Parse reads "20", "3.12.1", "v8.0.100", "17.0.9-ea". Numbers that are left out
// are zero.
func (Plain) Parse(text string) (Version, error) {
	v, err := parsePlain(text)
	if err != nil {
		return nil, err
	}
	return v, nil
}

// Newest reads a version as what a file means that states it: "20" is the newest
// 20 there is.
func (Plain) Newest(text string) (Version, error) {
	v, err := parsePlain(text)
	if err != nil {
		return nil, err
	}
	v.open = true
	return v, nil
}

func parsePlain(text string) (*plain, error) {
	m := plainForm.FindStringSubmatch(text)
	if m == nil {
		return nil, fmt.Errorf("%q is not a version (want numbers with dots, 20 or 3.12.1)", text)
	}
	v := &plain{text: text, suffix: m[2]}
	for part := range strings.SplitSeq(m[1], ".") {
		n, _ := strconv.Atoi(part) // the form has digits only
		v.numbers = append(v.numbers, n)
	}
	return v, nil
}

func (v *plain) String() string { return v.text }
func (v *plain) Preview() bool  { return previewForm.MatchString(v.suffix) }
func (v *plain) Line() string   { return strconv.Itoa(v.numbers[0]) }

// at is the number at a place, whether or not it is there.
func (v *plain) at(i int) int {
	switch {
	case i < len(v.numbers):
		return v.numbers[i]
	case v.open:
		return math.MaxInt
	}
	return 0
}

func (v *plain) Compare(other Version) int {
	w := other.(*plain)
	for i := range max(len(v.numbers), len(w.numbers)) + 1 {
		if c := cmp.Compare(v.at(i), w.at(i)); c != 0 {
			return c
		}
	}
	a, b := v.Preview(), w.Preview()
	switch {
	case a && !b:
		return -1
	case b && !a:
		return 1
	case a:
		return strings.Compare(strings.ToLower(v.suffix), strings.ToLower(w.suffix))
	}
	return 0
}

// Step is major where the first numbers differ, minor where the second do.
func (Plain) Step(from, to Version) Reach {
	a, b := from.(*plain), to.(*plain)
	switch {
	case a.Compare(b) == 0:
		return Stay
	case a.at(0) != b.at(0):
		return Major
	case a.at(1) != b.at(1):
		return Minor
	}
	return Patch
}

// plainBounds are one condition of a range, as the versions from low (included)
// to below high.
type plainBounds struct {
	op, text  string // the text without the operator
	low, high *plain // nil for no bound
	not       bool   // the versions outside
}

func (c plainBounds) contains(v *plain) bool {
	inside := (c.low == nil || v.Compare(c.low) >= 0) && (c.high == nil || v.Compare(c.high) < 0)
	return inside != c.not
}

type plainRange struct {
	text         string
	alternatives [][]plainBounds
}

var plainBoundsForm = lazyregexp.New(
	`^(>=|<=|==|!=|~>|~=|>|<|=|\^|~)?\s*v?([0-9]{1,9}(?:\.[0-9]{1,9})*)?((?:\.?[xX*])*)([-+_.]?[A-Za-z][0-9A-Za-z.+_-]*)?`,
)

// ParseRange reads a range.
func (Plain) ParseRange(text string) (Range, error) {
	r := plainRange{text: text}
	wrong := fmt.Errorf("%q is not a range (want >=20, ^3.11, >=3.9,<4 or 18 || 20)", text)
	if strings.TrimSpace(text) == "" {
		return nil, wrong
	}
	for alternative := range strings.SplitSeq(strings.ReplaceAll(text, "||", "|"), "|") {
		var all []plainBounds
		rest := strings.TrimSpace(alternative)
		if from, to, found := strings.Cut(rest, " - "); found {
			rest = ">=" + strings.TrimSpace(from) + " <=" + strings.TrimSpace(to)
		}
		for rest != "" {
			m := plainBoundsForm.FindStringSubmatch(rest)
			if len(m) == 0 || m[0] == "" || m[2] == "" && m[3] == "" {
				return nil, wrong
			}
			all = append(all, newPlainBounds(m[1], m[2], strings.TrimLeft(m[4], "-+_.")))
			rest = rest[len(m[0]):]
			trimmed := strings.TrimLeft(rest, ", ")
			if trimmed == rest && rest != "" {
				return nil, wrong
			}
			rest = trimmed
		}
		if len(all) == 0 {
			return nil, wrong
		}
		r.alternatives = append(r.alternatives, all)
	}
	return r, nil
}

// newPlainBounds reads an operator with its numbers; no numbers are any version.
func newPlainBounds(op, numbers, suffix string) plainBounds {
	if numbers == "" {
		return plainBounds{text: "*"}
	}
	c := plainBounds{op: op, text: numbers}
	v, _ := parsePlain(numbers) // the form has digits and dots only
	v.suffix = suffix
	// next is the first version that no longer begins with n of v's numbers.
	next := func(n int) *plain {
		raised := append([]int(nil), v.numbers[:n]...)
		raised[n-1]++
		return &plain{numbers: raised, suffix: "a0"} // before its first pre-release
	}
	all := len(v.numbers)
	switch op {
	case ">=":
		c.low = v
	case ">":
		c.low = next(all)
		c.low.suffix = ""
	case "<":
		c.high = v
		if suffix == "" {
			c.high = &plain{numbers: v.numbers, suffix: "a0"} // its pre-releases belong to it
		}
	case "<=":
		c.high = next(all)
	case "^":
		first := 0
		for first < all-1 && v.numbers[first] == 0 {
			first++
		}
		c.low, c.high = v, next(first+1)
	case "~":
		c.low, c.high = v, next(min(all, 2))
	case "~>", "~=":
		c.low, c.high = v, next(max(1, all-1))
	default:
		c.low, c.high, c.not = v, next(all), op == "!="
	}
	return c
}

func (r plainRange) String() string { return r.text }

func (r plainRange) Contains(version Version) bool {
	v, ok := version.(*plain)
	if !ok {
		return false
	}
	for _, all := range r.alternatives {
		inside := true
		for _, c := range all {
			inside = inside && c.contains(v)
		}
		if inside {
			return true
		}
	}
	return false
}

func stated(numbers []int) string {
	texts := make([]string, len(numbers))
	for i, n := range numbers {
		texts[i] = strconv.Itoa(n)
	}
	return strings.Join(texts, ".")
}

// restateForm is a version in a statement: its prefix, numbers, and wildcards.
var restateForm = lazyregexp.New(`^(v?)([0-9]+(?:\.[0-9]+)*)((?:\.[xX*])*)$`)

// Onward is v's line.
func (o Plain) Onward(v Version) string { return LineOf(o, v) }

// Restate writes a statement anew so that it starts at v. A bare version keeps
// as many numbers as it had, as far as v has them; a range keeps what still
// admits v, and its lower bound becomes v.
func (o Plain) Restate(old string, v Version) string {
	to := v.(*plain)
	if m := restateForm.FindStringSubmatch(old); m != nil {
		n := min(strings.Count(m[2], ".")+1, len(to.numbers))
		if to.Preview() && n == len(to.numbers) {
			return m[1] + strings.TrimPrefix(to.text, "v")
		}
		return m[1] + stated(to.numbers[:n]) + m[3]
	}
	r, err := o.ParseRange(old)
	if err != nil {
		return stated(to.numbers)
	}
	or := " || "
	if !strings.Contains(old, "||") {
		or = " | "
	}
	var kept []string
	for i, part := range strings.Split(strings.ReplaceAll(old, "||", "|"), "|") {
		all := r.(plainRange).alternatives[i]
		above := all[0].low != nil && !all[0].not && all[0].low.Compare(to) >= 0
		switch {
		case above:
			kept = append(kept, strings.TrimSpace(part))
		case plainRange{alternatives: [][]plainBounds{all}}.Contains(to) || i == len(r.(plainRange).alternatives)-1 && kept == nil:
			kept = append(kept, restateAll(all, to, strings.Contains(part, ",")))
		}
	}
	return strings.Join(kept, or)
}

// restateAll writes conditions that all hold with v for their lower bound. Upper
// bounds that v is above of are dropped.
func restateAll(all []plainBounds, v *plain, commas bool) string {
	var kept []string
	low := false
	for _, c := range all {
		switch {
		case c.low == nil && c.high == nil:
		case c.op == "" || c.op == "=" || c.op == "==":
			kept, low = append(kept, c.op+stated(v.numbers[:min(len(v.numbers), strings.Count(c.text, ".")+1)])), true
		case c.op == ">":
			kept, low = append(kept, ">="+stated(v.numbers)), true
		case c.low != nil && !c.not && !low:
			text := stated(v.numbers)
			for (c.op == "~>" || c.op == "~=") && strings.Count(text, ".") < strings.Count(c.text, ".") {
				text += ".0" // the number of numbers is part of the meaning
			}
			kept, low = append(kept, c.op+space(c.op)+text), true
		case c.contains(v) && (c.high == nil || c.not || c.high.Compare(v) > 0):
			kept = append(kept, c.op+c.text)
		}
	}
	if !low {
		kept = append([]string{">=" + stated(v.numbers)}, kept...)
	}
	if commas {
		return strings.Join(kept, ",")
	}
	return strings.Join(kept, " ")
}

// space stands after the operator that is written with one.
func space(op string) string {
	if op == "~>" {
		return " "
	}
	return ""
}
