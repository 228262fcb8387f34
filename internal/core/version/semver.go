package version

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
)

// maxComponent is the largest number that JavaScript counts exactly; larger
// components make a version invalid in npm's dialect.
const maxComponent = 1<<53 - 1

// maxVersionLength bounds the text of a version, as npm does.
const maxVersionLength = 256

// semver is a version after Semantic Versioning 2.0.0, read as leniently as
// npm reads it: a leading "v" or "=", leading zeros, and a missing hyphen
// before the pre-release are let pass.
type semver struct {
	major, minor, patch uint64
	pre                 string // without the hyphen
	text                string
}

func (v *semver) String() string { return v.text }

func (v *semver) Preview() bool { return v.pre != "" }

func (v *semver) Line() string {
	switch {
	case v.major > 0:
		return strconv.FormatUint(v.major, 10)
	case v.minor > 0:
		return "0." + strconv.FormatUint(v.minor, 10)
	default:
		return "0.0." + strconv.FormatUint(v.patch, 10)
	}
}

func (v *semver) Compare(other Version) int {
	w := other.(*semver)
	if c := v.compareCore(w); c != 0 {
		return c
	}
	return comparePre(v.pre, w.pre, compareAsFloats)
}

func (v *semver) compareCore(w *semver) int {
	for _, c := range [...][2]uint64{{v.major, w.major}, {v.minor, w.minor}, {v.patch, w.patch}} {
		if c[0] != c[1] {
			if c[0] < c[1] {
				return -1
			}
			return 1
		}
	}
	return 0
}

// comparePre orders two pre-releases by Semantic Versioning §11: identifier by
// identifier, numbers before words, a longer list after its prefix, and none
// at all after any. What numbers are compared by is the dialect's.
func comparePre(a, b string, numbers func(x, y string) int) int {
	switch {
	case a == b:
		return 0
	case a == "":
		return 1
	case b == "":
		return -1
	}
	for {
		x, restA, moreA := strings.Cut(a, ".")
		y, restB, moreB := strings.Cut(b, ".")
		if c := compareIdentifier(x, y, numbers); c != 0 {
			return c
		}
		switch {
		case !moreA && !moreB:
			return 0
		case !moreA:
			return -1
		case !moreB:
			return 1
		}
		a, b = restA, restB
	}
}

func compareIdentifier(x, y string, numbers func(x, y string) int) int {
	nx, ny := allDigits(x), allDigits(y)
	switch {
	case nx && ny:
		return numbers(x, y)
	case nx:
		return -1
	case ny:
		return 1
	}
	return strings.Compare(x, y)
}

// compareAsFloats is how npm compares numbers, also beyond 2^53.
func compareAsFloats(x, y string) int {
	fx, _ := strconv.ParseFloat(x, 64)
	fy, _ := strconv.ParseFloat(y, 64)
	return cmp.Compare(fx, fy)
}

func allDigits(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return s != ""
}

// partial is a version of which components may be missing or wild, the
// building stone of npm's ranges.
type partial struct {
	major, minor, patch   uint64
	wildM, wildMin, wildP bool // each wild if an earlier one is
	components            int  // how many were written
	pre                   string
	tooLarge              bool
	gap                   bool // a component is written behind a wild one
	isExact               bool
}

// parsePartial reads "1", "1.x", "v1.2.3-rc.1+build" and the like. The whole
// text must match.
func parsePartial(s string) (p partial, ok bool) {
	i := 0
	for i < len(s) && (s[i] == 'v' || s[i] == '=' || isSpace(rune(s[i]))) {
		i++
	}
	slots := [...]struct {
		n    *uint64
		wild *bool
	}{{&p.major, &p.wildM}, {&p.minor, &p.wildMin}, {&p.patch, &p.wildP}}
	p.wildM, p.wildMin, p.wildP = true, true, true
	for k, slot := range slots {
		if k > 0 {
			if i >= len(s) || s[i] != '.' {
				break
			}
			i++
		}
		if i < len(s) && (s[i] == 'x' || s[i] == 'X' || s[i] == '*') {
			i++
		} else {
			start := i
			for i < len(s) && s[i] >= '0' && s[i] <= '9' {
				i++
			}
			if i == start {
				return p, false
			}
			n, err := strconv.ParseUint(s[start:i], 10, 64)
			if err != nil || n > maxComponent {
				n, p.tooLarge = maxComponent+1, true
			}
			*slot.n, *slot.wild = n, false
		}
		p.components++
	}
	if p.components == 3 {
		rest, isPre := s[i:], false
		if strings.HasPrefix(rest, "-") {
			rest, isPre = rest[1:], true
		} else if rest != "" && rest[0] != '+' {
			isPre = true
		}
		pre, build, hasBuild := strings.Cut(rest, "+")
		if isPre {
			if !validIdentifiers(pre) {
				// "1.2.3--" has the hyphen inside the identifier.
				if pre, build, hasBuild = strings.Cut(s[i:], "+"); !validIdentifiers(pre) {
					return p, false
				}
			}
			p.pre = pre
		} else if pre != "" {
			return p, false
		}
		if hasBuild && !validIdentifiers(build) {
			return p, false
		}
	} else if i != len(s) {
		return p, false
	}
	p.isExact = !p.wildM && !p.wildMin && !p.wildP
	p.gap = p.wildM && !p.wildMin || p.wildMin && !p.wildP
	p.wildMin = p.wildM || p.wildMin
	p.wildP = p.wildMin || p.wildP
	return p, true
}

func validIdentifiers(s string) bool {
	for id := range strings.SplitSeq(s, ".") {
		if id == "" {
			return false
		}
		for i := range len(id) {
			c := id[i]
			if c != '-' && (c < '0' || c > '9') && (c < 'A' || c > 'Z') && (c < 'a' || c > 'z') {
				return false
			}
		}
	}
	return true
}

// isSpace tells what JavaScript's \s matches.
func isSpace(r rune) bool {
	switch r {
	case ' ', '\t', '\n', '\v', '\f', '\r', 0xA0, 0x1680, 0x2028, 0x2029, 0x202F, 0x205F, 0x3000, 0xFEFF:
		return true
	}
	return r >= 0x2000 && r <= 0x200A
}

func parseSemver(text string) (*semver, error) {
	s := strings.TrimFunc(text, isSpace)
	p, ok := parsePartial(s)
	if !ok || !p.isExact || p.tooLarge || len(text) > maxVersionLength {
		return nil, fmt.Errorf("%q is not a version (want major.minor.patch)", text)
	}
	return &semver{p.major, p.minor, p.patch, p.pre, s}, nil
}
