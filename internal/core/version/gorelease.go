package version

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"bellwether/internal/core/lazyregexp"
)

// GoRelease is the order of releases of Go itself, as go.mod's go line writes
// them: "1.21" (the language version) before "1.22rc1" before "1.22.0".
type GoRelease struct{}

type goRelease struct {
	major, minor int
	patch        int    // -1 where it is not stated
	kind         string // "beta" or "rc"; empty for a release
	number       int    // of the beta or rc
	text         string
}

var goReleaseForm = lazyregexp.New(
	`^(?:go)?([1-9][0-9]{0,8})(?:\.(0|[1-9][0-9]{0,8})(?:(beta|rc)([1-9][0-9]{0,8})|\.(0|[1-9][0-9]{0,8}))?)?$`,
)

// Parse reads "1.21", "1.21.3", "1.22rc1", each with or without "go" in front.
func (GoRelease) Parse(text string) (Version, error) {
	v, err := parseGoRelease(text)
	if err != nil {
		return nil, err
	}
	return v, nil
}

func parseGoRelease(text string) (*goRelease, error) {
	m := goReleaseForm.FindStringSubmatch(text)
	if m == nil {
		return nil, fmt.Errorf("%q is not a release of Go (want 1.24 or 1.24.1)", text)
	}
	number := func(s string, missing int) int {
		if n, err := strconv.Atoi(s); err == nil {
			return n
		}
		return missing
	}
	return &goRelease{number(m[1], 0), number(m[2], 0), number(m[5], -1), m[3], number(m[4], 0), strings.TrimPrefix(text, "go")}, nil
}

func (v *goRelease) String() string { return v.text }
func (v *goRelease) Preview() bool  { return v.kind != "" }
func (v *goRelease) Line() string   { return fmt.Sprintf("%d.%d", v.major, v.minor) }

func (v *goRelease) Compare(other Version) int {
	w := other.(*goRelease)
	if c := cmp.Or(v.major-w.major, v.minor-w.minor); c != 0 {
		return c
	}
	a, b := v.stage(), w.stage()
	for i := range a {
		if a[i] != b[i] {
			return a[i] - b[i]
		}
	}
	return 0
}

// stage orders what shares a minor: from Go 1.21 on the language version comes
// before its previews, earlier it is the same as the first release.
func (v *goRelease) stage() [3]int {
	switch {
	case v.kind == "beta":
		return [3]int{1, v.number, 0}
	case v.kind == "rc":
		return [3]int{2, v.number, 0}
	case v.patch >= 0:
		return [3]int{3, v.patch, 0}
	case v.major == 1 && v.minor < 21:
		return [3]int{3, 0, 0}
	}
	return [3]int{0, 0, 0}
}

// Step is a minor one between language versions: old code stays good.
func (GoRelease) Step(from, to Version) Reach {
	a, b := from.(*goRelease), to.(*goRelease)
	switch {
	case a.Compare(b) == 0:
		return Stay
	case a.major != b.major || a.minor != b.minor:
		return Minor
	}
	return Patch
}

// Onward is v's line.
func (o GoRelease) Onward(v Version) string { return LineOf(o, v) }

// Restate gives the new version.
func (GoRelease) Restate(_ string, v Version) string { return v.String() }

// ParseRange reads "1.24" (any release of it, and itself), "1.24.1", or
// "latest".
func (GoRelease) ParseRange(text string) (Range, error) {
	if text == "latest" {
		return goReleases{text: text}, nil
	}
	v, err := parseGoRelease(text)
	if err != nil {
		return nil, err
	}
	return goReleases{text, v}, nil
}

type goReleases struct {
	text string
	v    *goRelease // nil for any
}

func (r goReleases) String() string { return r.text }

func (r goReleases) Contains(version Version) bool {
	v, ok := version.(*goRelease)
	switch {
	case !ok || v.Preview() && (r.v == nil || r.v.kind == ""):
		return false
	case r.v == nil:
		return true
	case r.v.patch < 0 && r.v.kind == "":
		return v.major == r.v.major && v.minor == r.v.minor
	}
	return v.Compare(r.v) == 0
}
