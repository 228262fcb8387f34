package version

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/lazyregexp"
)

// Gem is the order and the requirement dialect of RubyGems, after Gem::Version and
// Gem::Requirement. A requirement of several parts has commas between them.
type Gem struct{}

// gemVersion is a version: numbers and words, in their order.
type gemVersion struct {
	text     string
	segments []string // as written, without what stands between them
	ordered  []string // without zeros that count for nothing
	pre      bool     // it has a word
}

var (
	gemVersionForm = lazyregexp.New(`^\s*(?:[0-9]+(?:\.[0-9a-zA-Z]+)*(?:-[0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*)?)?\s*$`)
	gemSegment     = lazyregexp.New(`[0-9]+|[a-zA-Z]+`)
	gemPart        = lazyregexp.New(`^\s*(=|!=|>=|<=|~>|>|<)?\s*([0-9]+(?:\.[0-9a-zA-Z]+)*(?:-[0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*)?)\s*$`)
)

// Parse reads a version. An empty text is 0.
func (Gem) Parse(text string) (Version, error) {
	if !gemVersionForm.MatchString(text) || strings.ContainsAny(text, "\n\r") && strings.TrimSpace(text) == "" && text != "" {
		return nil, fmt.Errorf("%q is not a version of a gem", text)
	}
	return newGemVersion(text), nil
}

func newGemVersion(text string) *gemVersion {
	bare := strings.TrimSpace(text)
	if bare == "" {
		bare = "0"
	}
	v := &gemVersion{text: bare, segments: gemSegment.FindAllString(strings.ReplaceAll(bare, "-", ".pre."), -1)}
	words := slices.IndexFunc(v.segments, isWord)
	numbers, rest := v.segments, []string(nil)
	if words >= 0 {
		v.pre = true
		numbers, rest = v.segments[:words], v.segments[words:]
	}
	v.ordered = slices.Concat(withoutZeros(numbers), withoutZeros(rest))
	return v
}

func isWord(segment string) bool { return !allDigits(segment) }

// withoutZeros is a list without the zeros at its end.
func withoutZeros(segments []string) []string {
	n := len(segments)
	for n > 0 && strings.Trim(segments[n-1], "0") == "" {
		n--
	}
	return segments[:n]
}

func (v *gemVersion) String() string { return v.text }

func (v *gemVersion) Preview() bool { return v.pre }

// Line is the major; in the first one, each minor is a line of its own.
func (v *gemVersion) Line() string {
	if major := v.number(0); major != "0" {
		return major
	}
	return "0." + v.number(1)
}

// number is one of the leading numbers, "0" for one that is not written.
func (v *gemVersion) number(i int) string {
	for k := 0; k <= i && k < len(v.segments); k++ {
		if isWord(v.segments[k]) {
			return "0"
		}
	}
	if i >= len(v.segments) {
		return "0"
	}
	return cmp.Or(strings.TrimLeft(v.segments[i], "0"), "0")
}

func (v *gemVersion) Compare(other Version) int {
	w := other.(*gemVersion)
	for i := range max(len(v.ordered), len(w.ordered)) {
		a, b := "0", "0"
		if i < len(v.ordered) {
			a = v.ordered[i]
		}
		if i < len(w.ordered) {
			b = w.ordered[i]
		}
		if c := compareSegments(a, b); c != 0 {
			return c
		}
	}
	return 0
}

// compareSegments orders numbers as numbers, words as bytes, and words before numbers.
func compareSegments(a, b string) int {
	switch x, y := isWord(a), isWord(b); {
	case x && y:
		return strings.Compare(a, b)
	case x:
		return -1
	case y:
		return 1
	}
	return compareNumbers(strings.TrimLeft(a, "0"), strings.TrimLeft(b, "0"))
}

// release is the version without its words.
func (v *gemVersion) release() *gemVersion {
	if !v.pre {
		return v
	}
	return newGemVersion(strings.Join(v.segments[:slices.IndexFunc(v.segments, isWord)], "."))
}

// bump is the version that "~>" ends before: the last number but one, raised by one.
func (v *gemVersion) bump() *gemVersion {
	numbers := slices.Clone(v.segments)
	if at := slices.IndexFunc(numbers, isWord); at >= 0 {
		numbers = numbers[:at]
	}
	if len(numbers) > 1 {
		numbers = numbers[:len(numbers)-1]
	}
	last := len(numbers) - 1
	numbers[last] = raised(numbers[last])
	return newGemVersion(strings.Join(numbers, "."))
}

// raised is a decimal number and one, of any length.
func raised(number string) string {
	digits := []byte("0" + number)
	for i := len(digits) - 1; ; i-- {
		if digits[i] < '9' {
			digits[i]++
			break
		}
		digits[i] = '0'
	}
	return cmp.Or(strings.TrimLeft(string(digits), "0"), "0")
}

// GemRange is a requirement of several parts that all hold.
type GemRange struct {
	text  string
	parts []GemPart
}

// GemPart is one part of a requirement.
type GemPart struct {
	Op   string // "=", "!=", ">", "<", ">=", "<=" or "~>"
	Text string // the version as it is written
	v    *gemVersion
	bare bool // it is written without an operator
	end  *gemVersion
}

// ParseRange reads a requirement; an empty one holds for every version.
func (Gem) ParseRange(text string) (Range, error) {
	r := &GemRange{text: text}
	if strings.TrimSpace(text) == "" {
		return r, nil
	}
	for field := range strings.SplitSeq(text, ",") {
		m := gemPart.FindStringSubmatch(strings.TrimSpace(field))
		if m == nil {
			return nil, fmt.Errorf("%q is not a requirement of a gem (want ~> 1.2, >= 1.2, < 2 or the like)", text)
		}
		p := GemPart{Op: m[1], Text: m[2], v: newGemVersion(m[2])}
		if p.Op == "" {
			p.Op, p.bare = "=", true
		}
		if p.Op == "~>" {
			p.end = p.v.bump()
		}
		r.parts = append(r.parts, p)
	}
	return r, nil
}

// String is the requirement as it was read.
func (r *GemRange) String() string { return r.text }

// Parts are the requirement's parts, in the order in which they are written.
func (r *GemRange) Parts() []GemPart { return r.parts }

// Preview tells whether a part names a pre-release, which lets pre-releases in.
func (r *GemRange) Preview() bool {
	return slices.ContainsFunc(r.parts, func(p GemPart) bool { return p.v.pre })
}

// Contains tells whether all parts hold.
func (r *GemRange) Contains(version Version) bool {
	v, ok := version.(*gemVersion)
	return ok && !slices.ContainsFunc(r.parts, func(p GemPart) bool { return !p.holds(v) })
}

func (p GemPart) holds(v *gemVersion) bool {
	c := v.Compare(p.v)
	switch p.Op {
	case "=":
		return c == 0
	case "!=":
		return c != 0
	case ">":
		return c > 0
	case "<":
		return c < 0
	case ">=":
		return c >= 0
	case "<=":
		return c <= 0
	}
	return c >= 0 && v.release().Compare(p.end) < 0
}

// Step compares numbers in their places.
func (Gem) Step(from, to Version) Reach { return stepByNumbers(from.(*gemVersion), to.(*gemVersion)) }

// Restate writes a requirement anew so that it starts at v: "~> 4.0" becomes "~> 5.1" with as many
// numbers, ">= 4.0, < 5" becomes ">= 5.1, < 6", "4.2.6" becomes "5.1.3".
func (o Gem) Restate(old string, v Version) string {
	rng, err := o.ParseRange(old)
	if err != nil {
		return v.String()
	}
	r := rng.(*GemRange)
	var parts []string
	for _, p := range r.parts {
		text := p.Restated(v)
		if text != "" {
			parts = append(parts, text)
		}
	}
	fresh := strings.Join(parts, ", ")
	if again, err := o.ParseRange(fresh); fresh == "" || err != nil || !again.Contains(v) {
		return "~> " + short(v.(*gemVersion), 2)
	}
	return fresh
}

// Restated writes one part anew; it is empty for one that says nothing of v any more.
func (p GemPart) Restated(version Version) string {
	v := version.(*gemVersion)
	n := len(p.v.segments)
	switch {
	case p.bare:
		return v.text
	case p.Op == "=":
		return "= " + v.text
	case p.Op == "!=":
		return p.Op + " " + p.Text
	case p.Op == "~>":
		text := short(v, max(n, 2))
		if n == 1 {
			text = short(v, 1)
		}
		if next := newGemVersion(text); v.Compare(next) < 0 { // 5.0.rc1 is before 5.0
			text = v.text
		}
		return "~> " + text
	case p.Op == ">=" || p.Op == ">":
		if n < len(v.segments) && !v.pre {
			return ">= " + short(v, n)
		}
		return ">= " + v.text
	case p.holds(v):
		return p.Op + " " + p.Text
	}
	// An end: the next major, in as many numbers.
	next := raised(v.number(0)) + strings.Repeat(".0", max(0, min(n, 3)-1))
	if p.v.pre {
		next += ".a"
	}
	return "< " + next
}

// short is a version in so many numbers.
func short(v *gemVersion, n int) string {
	if v.pre {
		return v.text
	}
	var numbers []string
	for i := range n {
		numbers = append(numbers, v.number(i))
	}
	return strings.Join(numbers, ".")
}

// Onward is v and what comes later in its line: "~> 1.2", "~> 1.2, >= 1.2.3", "~> 0.5.3".
func (Gem) Onward(of Version) string {
	v := of.(*gemVersion)
	n, next := 2, raised(v.number(0))
	if v.number(0) == "0" {
		n, next = 3, "0."+raised(v.number(1))
	}
	if v.pre { // "~> 2.0" begins at 2.0, behind its pre-releases
		return ">= " + v.text + ", < " + next
	}
	near := short(v, n)
	if newGemVersion(near).Compare(v) == 0 {
		return "~> " + near
	}
	return "~> " + near + ", >= " + v.text
}
