package version

import (
	"cmp"
	"fmt"
	"strings"

	"bellwether/internal/core/lazyregexp"
)

// GoMod is the order of Go module versions: Semantic Versioning 2.0.0 with a
// "v" in front, where "v1" and "v1.2" are short for "v1.0.0" and "v1.2.0".
// Ranges are the version queries of the Go Modules Reference.
type GoMod struct{}

// moduleVersion is a version of a Go module. Numbers stay texts, since they
// have no upper bound.
type moduleVersion struct {
	core  [3]string // major, minor, patch, without leading zeros
	pre   string    // without the hyphen
	build string    // without the plus: "incompatible"
	text  string
}

var pseudoForm = lazyregexp.New(`(?:^|[.])[0-9]{14}-[0-9a-z]{12}$`)

// Parse reads a version. That of an untagged commit (a pseudo-version) is one, too.
func (GoMod) Parse(text string) (Version, error) {
	v, err := parseModuleVersion(text)
	if err != nil {
		return nil, err
	}
	return v, nil
}

// parseModuleVersion is written by hand, since a graph is full of versions.
func parseModuleVersion(text string) (*moduleVersion, error) {
	v := &moduleVersion{core: [3]string{"0", "0", "0"}, text: text}
	rest, ok := strings.CutPrefix(text, "v")
	count := 0
	for ; ok && count < 3; count++ {
		n := 0
		for n < len(rest) && rest[n] >= '0' && rest[n] <= '9' {
			n++
		}
		if ok = n == 1 || n > 1 && rest[0] != '0'; !ok {
			break
		}
		v.core[count], rest = rest[:n], rest[n:]
		if count < 2 && strings.HasPrefix(rest, ".") {
			rest = rest[1:]
		} else if rest == "" || count == 2 {
			count++
			break
		} else {
			ok = false
		}
	}
	if ok && count == 3 {
		var hasPre, hasBuild bool
		rest, v.build, hasBuild = strings.Cut(rest, "+")
		v.pre, hasPre = strings.CutPrefix(rest, "-")
		if !hasPre {
			ok, v.pre = rest == "", ""
		}
		ok = ok && (!hasPre || validIdentifiers(v.pre) && !leadingZero(v.pre)) && (!hasBuild || validIdentifiers(v.build))
	} else if rest != "" {
		ok = false
	}
	if !ok {
		return nil, fmt.Errorf("%q is not a Go module version (want v1.2.3)", text)
	}
	return v, nil
}

// leadingZero tells of a number among the identifiers that starts with a zero.
func leadingZero(identifiers string) bool {
	for id := range strings.SplitSeq(identifiers, ".") {
		if len(id) > 1 && id[0] == '0' && allDigits(id) {
			return true
		}
	}
	return false
}

func (v *moduleVersion) String() string { return v.text }

// Preview does not hold for pseudo-versions: where they are in use, there is
// nothing else.
func (v *moduleVersion) Preview() bool { return v.pre != "" && !v.pseudo() }

func (v *moduleVersion) pseudo() bool { return pseudoForm.MatchString(v.pre) }

// Line is the major version. All of v0 is one line, since most modules that
// stay there keep to compatible steps.
func (v *moduleVersion) Line() string { return "v" + v.core[0] }

func (v *moduleVersion) Compare(other Version) int {
	w := other.(*moduleVersion)
	for i := range v.core {
		if c := compareNumbers(v.core[i], w.core[i]); c != 0 {
			return c
		}
	}
	return comparePre(v.pre, w.pre, compareNumbers)
}

// compareNumbers orders decimal numbers of any length without leading zeros.
func compareNumbers(a, b string) int {
	return cmp.Or(cmp.Compare(len(a), len(b)), strings.Compare(a, b))
}

// Step is the size of the step between two versions.
func (GoMod) Step(from, to Version) Reach {
	a, b := from.(*moduleVersion), to.(*moduleVersion)
	switch {
	case a.Compare(b) == 0:
		return Stay
	case a.core[0] != b.core[0]:
		return Major
	case a.core[1] != b.core[1]:
		return Minor
	}
	return Patch
}

// Onward is v's line.
func (o GoMod) Onward(v Version) string { return LineOf(o, v) }

// Restate gives the new version: a Go requirement is nothing but a version.
func (GoMod) Restate(_ string, v Version) string { return v.String() }

// goQuery is a version query: terms that all hold.
type goQuery struct {
	text  string
	terms []goTerm
}

// goTerm is one comparison. An operator of "" asks for the version itself, or
// for any with the given start if components are missing.
type goTerm struct {
	op      string
	v       *moduleVersion
	missing int
}

// ParseRange reads a version query: a version, the start of one ("v1.2"), a
// comparison (">=v1.2.0"), several of them with spaces between, or "latest".
func (GoMod) ParseRange(text string) (Range, error) {
	q := &goQuery{text: text}
	if text == "latest" {
		return q, nil
	}
	for field := range strings.FieldsSeq(text) {
		version := strings.TrimLeft(field, "<>=")
		t := goTerm{op: field[:len(field)-len(version)], missing: 2 - strings.Count(strings.SplitN(version, "-", 2)[0], ".")}
		switch t.op {
		case "", "<", "<=", ">", ">=":
		default:
			return nil, fmt.Errorf("%q is not a version query: there is no operator %q", text, t.op)
		}
		var err error
		if t.v, err = parseModuleVersion(version); err != nil {
			return nil, fmt.Errorf("%q is not a version query (want v1.2.3, v1.2, v1, >=v1.2.0, or latest)", text)
		}
		q.terms = append(q.terms, t)
	}
	if len(q.terms) == 0 {
		return nil, fmt.Errorf("an empty text is not a version query")
	}
	return q, nil
}

func (q *goQuery) String() string { return q.text }

func (q *goQuery) Contains(version Version) bool {
	v, ok := version.(*moduleVersion)
	if !ok || len(q.terms) == 0 && v.Preview() {
		return false
	}
	for _, t := range q.terms {
		if !t.holds(v) {
			return false
		}
	}
	return true
}

func (t goTerm) holds(v *moduleVersion) bool {
	c := v.Compare(t.v)
	switch {
	case t.op == "" && t.missing == 0:
		return c == 0
	case v.Preview() && t.v.pre == "":
		return false
	}
	switch t.op {
	case "<":
		return c < 0
	case "<=":
		return c <= 0
	case ">":
		return c > 0
	case ">=":
		return c >= 0
	}
	for i := range 3 - t.missing {
		if v.core[i] != t.v.core[i] {
			return false
		}
	}
	return true
}
