package version

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"bellwether/internal/core/lazyregexp"
)

// NPM is the version order and range dialect of npm: Semantic Versioning with
// npm's range syntax, both read leniently, as the npm client reads them.
// With Previews set, ranges do not leave out pre-releases.
type NPM struct{ Previews bool }

// Parse reads a version such as "1.2.3-rc.1".
func (NPM) Parse(text string) (Version, error) {
	v, err := parseSemver(text)
	if err != nil {
		return nil, err
	}
	return v, nil
}

// Step is Major if the compatible line changes, else Minor or Patch.
func (NPM) Step(from, to Version) Reach {
	a, b := from.(*semver), to.(*semver)
	switch {
	case a.Line() != b.Line():
		return Major
	case a.minor != b.minor:
		return Minor
	case a.Compare(b) != 0:
		return Patch
	}
	return Stay
}

// comparator is one bound: "<", "<=", ">", ">=" or "=" and a version. The
// zero comparator lets every version pass.
type comparator struct {
	op string
	v  semver
}

func (c *comparator) admits(v *semver) bool {
	if c.op == "" {
		return true
	}
	d := v.Compare(&c.v)
	switch c.op {
	case "<":
		return d < 0
	case "<=":
		return d <= 0
	case ">":
		return d > 0
	case ">=":
		return d >= 0
	}
	return d == 0
}

// npmRange is a union of intersections of comparators.
type npmRange struct {
	text     string
	sets     [][]comparator
	previews bool
}

func (r *npmRange) String() string { return r.text }

func (r *npmRange) Contains(version Version) bool {
	v := version.(*semver)
	return slices.ContainsFunc(r.sets, func(set []comparator) bool { return r.setContains(set, v) })
}

func (r *npmRange) setContains(set []comparator, v *semver) bool {
	for i := range set {
		if !set[i].admits(v) {
			return false
		}
	}
	if v.pre == "" || r.previews {
		return true
	}
	// A pre-release is only meant where a bound names a pre-release of the
	// same version.
	return slices.ContainsFunc(set, func(c comparator) bool {
		return c.op != "" && c.v.pre != "" && c.v.compareCore(v) == 0
	})
}

// ParseRange reads "^1.2 || 3.x", "1 - 2", ">=1 <2", "" and the like.
func (o NPM) ParseRange(text string) (Range, error) {
	r := &npmRange{text: text, previews: o.Previews}
	spaced := text
	if strings.ContainsFunc(text, isSpace) {
		spaced = strings.Join(strings.FieldsFunc(text, isSpace), " ")
	}
	for part := range strings.SplitSeq(spaced, "||") {
		set, ok, err := o.parseSet(strings.TrimFunc(part, isSpace))
		if err != nil {
			return nil, fmt.Errorf("%q is not an npm range: %w", text, err)
		}
		if ok {
			r.sets = append(r.sets, set)
		}
	}
	if len(r.sets) == 0 {
		return nil, fmt.Errorf("%q is not an npm range (want something like ^1.2.3, ~1.2, 1.x or >=1 <3)", text)
	}
	return r, nil
}

// What npm takes out of a range before it splits it at spaces: what names a build, and
// the spaces behind an operator, if a version follows.
var (
	buildText     = lazyregexp.New(`\+[0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*`)
	afterOperator = lazyregexp.New(`([<>]=?|=) *([v= ]*[0-9xX*])`)
	afterTilde    = lazyregexp.New(`~>? +`)
	afterCaret    = lazyregexp.New(`\^ +`)
	star          = lazyregexp.New(`^([^*]*?)[<>]?=?\*`)
)

// parseSet reads the comparators between two "||". Unreadable ones are
// dropped, as npm does, but ok is false if nothing readable remains.
func (o NPM) parseSet(text string) (set []comparator, ok bool, err error) {
	if strings.Contains(text, "+") {
		text = strings.TrimFunc(buildText.ReplaceAllString(text, ""), isSpace)
	}
	if text == "" {
		return []comparator{{}}, true, nil
	}
	if strings.Contains(text, " ") {
		if from, to, found := cutHyphen(text); found {
			if set, ok := o.hyphen(from, to); ok {
				return o.checked(set)
			}
		}
		text = afterOperator.ReplaceAllString(text, "$1$2")
		text = afterTilde.ReplaceAllString(text, "~")
		text = afterCaret.ReplaceAllString(text, "^")
	}
	words := strings.Split(text, " ")
	for i, word := range words {
		bounds, ok := o.parseComparator(word)
		if !ok && strings.Contains(word, "*") {
			// npm drops the first one anywhere, if a whole version is left.
			word = star.ReplaceAllString(word, "$1")
			p, whole := parsePartial(strings.TrimLeft(word, "<>="))
			if bounds, ok = o.parseComparator(word); !whole || !p.isExact {
				ok = false
			}
		}
		// What any version passes is dropped between others, whether they can be read or not.
		inside := i > 0 && i < len(words)-1 && len(bounds) == 1 && bounds[0].op == ""
		if ok && !inside {
			set = append(set, bounds...)
		}
	}
	return o.checked(set)
}

func (NPM) checked(set []comparator) ([]comparator, bool, error) {
	for _, c := range set {
		if max(c.v.major, c.v.minor, c.v.patch) > maxComponent {
			return nil, false, fmt.Errorf("a component is larger than %d", maxComponent)
		}
	}
	return set, len(set) > 0, nil
}

// cutHyphen splits "1.0 - 2.0" at its hyphen.
func cutHyphen(text string) (from, to string, found bool) {
	fields := strings.FieldsFunc(text, isSpace)
	at := slices.Index(fields, "-")
	if at <= 0 || at == len(fields)-1 {
		return "", "", false
	}
	return strings.Join(fields[:at], " "), strings.Join(fields[at+1:], " "), true
}

func (o NPM) hyphen(from, to string) ([]comparator, bool) {
	a, okA := parsePartial(from)
	b, okB := parsePartial(to)
	if !okA || !okB {
		return nil, false
	}
	var set []comparator
	if !a.wildM {
		low := a.lowest()
		if low.pre == "" && (o.Previews) {
			low.pre = "0"
		}
		set = append(set, comparator{reaches(">=", from, a), low})
	}
	switch {
	case b.wildM:
	case b.wildMin:
		set = append(set, below(b.major+1, 0, 0))
	case b.wildP:
		set = append(set, below(b.major, b.minor+1, 0))
	case b.pre == "" && o.Previews:
		set = append(set, below(b.major, b.minor, b.patch+1))
	default:
		op := "<="
		if b.pre == "" {
			op = reaches("<=", to, b)
		}
		set = append(set, comparator{op, b.lowest()})
	}
	if len(set) == 0 {
		set = []comparator{{}}
	}
	return set, true
}

// reaches is the operator of one end of "1.0.0 - 2.0.0": npm separates it from the version
// where that has a space in it.
func reaches(op, text string, p partial) string {
	if p.isExact && strings.Contains(text, " ") {
		return "="
	}
	return op
}

func (o NPM) parseComparator(word string) ([]comparator, bool) {
	switch {
	case strings.HasPrefix(word, "^"):
		p, ok := parsePartial(word[1:])
		return o.caret(p), ok
	case strings.HasPrefix(word, "~"):
		p, ok := parsePartial(strings.TrimPrefix(word[1:], ">"))
		return o.tilde(p), ok
	}
	op := ""
	for _, candidate := range []string{"<=", ">=", "<", ">", "="} {
		if strings.HasPrefix(word, candidate) {
			op = candidate
			break
		}
	}
	p, ok := parsePartial(word[len(op):])
	return o.bound(op, p), ok && !p.gap
}

// lowest is the smallest version that p stands for.
func (p partial) lowest() semver {
	v := semver{major: p.major, minor: p.minor, patch: p.patch, pre: p.pre}
	if p.wildMin {
		v.minor = 0
	}
	if p.wildP {
		v.patch = 0
	}
	return v
}

// from is the bound from p on, including its pre-releases if they are wanted.
func (o NPM) from(p partial) comparator {
	low := p.lowest()
	if o.Previews && low.pre == "" {
		low.pre = "0"
	}
	return comparator{">=", low}
}

// below is the bound that ends before every pre-release of the version.
func below(major, minor, patch uint64) comparator {
	return comparator{"<", semver{major: major, minor: minor, patch: patch, pre: "0"}}
}

func (o NPM) caret(p partial) []comparator {
	low := o.from(p)
	if p.isExact {
		low.v = p.lowest()
	}
	switch {
	case p.wildM:
		return []comparator{{}}
	case p.major > 0 || p.wildMin:
		return []comparator{low, below(p.major+1, 0, 0)}
	case p.minor > 0 || p.wildP:
		return []comparator{low, below(0, p.minor+1, 0)}
	default:
		return []comparator{low, below(0, 0, p.patch+1)}
	}
}

func (o NPM) tilde(p partial) []comparator {
	switch {
	case p.wildM:
		return []comparator{{}}
	case p.wildMin:
		return []comparator{o.from(p), below(p.major+1, 0, 0)}
	case p.wildP:
		return []comparator{o.from(p), below(p.major, p.minor+1, 0)}
	default:
		return []comparator{{">=", p.lowest()}, below(p.major, p.minor+1, 0)}
	}
}

// bound reads a comparison with a version that may have wild components.
func (o NPM) bound(op string, p partial) []comparator {
	if p.wildM {
		if op == "<" || op == ">" {
			return []comparator{below(0, 0, 0)}
		}
		return []comparator{{}}
	}
	if !p.wildP {
		if op == "" {
			op = "="
		}
		return []comparator{{op, p.lowest()}}
	}
	next := below(p.major+1, 0, 0)
	if !p.wildMin {
		next = below(p.major, p.minor+1, 0)
	}
	switch op {
	case ">":
		next.op = ">="
		if !o.Previews {
			next.v.pre = ""
		}
		return []comparator{next}
	case "<=":
		return []comparator{next}
	case "<":
		low := p.lowest()
		return []comparator{below(low.major, low.minor, low.patch)}
	case ">=":
		return []comparator{o.from(p)}
	default:
		return []comparator{o.from(p), next}
	}
}

// Onward is the caret range that begins with v.
func (o NPM) Onward(v Version) string { return "^" + v.String() }

// Restate writes a range that starts at v in the style of old: the same
// operator and the same number of components where old is one simple
// comparator, a caret otherwise. A pre-release is always written whole.
func (o NPM) Restate(old string, version Version) string {
	v := version.(*semver)
	trimmed := strings.TrimFunc(old, isSpace)
	op := trimmed[:len(trimmed)-len(strings.TrimLeft(trimmed, "^~>=< "))]
	p, ok := parsePartial(trimmed[len(op):])
	switch strings.TrimSpace(op) {
	case "", "=", "^", "~", ">=":
	default:
		ok = false
	}
	if !ok || p.wildM {
		if ok && p.components == 1 {
			return old // "*" says that any version will do
		}
		return "^" + v.text
	}
	if v.pre != "" || p.components == 3 && p.isExact {
		return op + v.text
	}
	wild := trimmed[len(trimmed)-1:]
	numbers := []uint64{v.major, v.minor, v.patch}
	var b strings.Builder
	b.WriteString(op)
	for i := range p.components {
		if i > 0 {
			b.WriteByte('.')
		}
		if i == 1 && p.wildMin || i == 2 && p.wildP {
			b.WriteString(wild)
			continue
		}
		b.WriteString(strconv.FormatUint(numbers[i], 10))
	}
	return b.String()
}

// Intersects tells whether some version is in both ranges. It is exact for
// ranges whose bounds are releases; pre-release bounds are read generously.
func (o NPM) Intersects(a, b Range) bool {
	ra, rb := a.(*npmRange), b.(*npmRange)
	all := *ra
	all.previews = true
	other := *rb
	other.previews = true
	points := []semver{{}}
	for _, r := range []*npmRange{ra, rb} {
		for _, set := range r.sets {
			for _, c := range set {
				point := c.v
				if c.op == ">" {
					point.patch, point.pre = point.patch+1, ""
				}
				points = append(points, point)
			}
		}
	}
	return slices.ContainsFunc(points, func(v semver) bool { return all.Contains(&v) && other.Contains(&v) })
}
