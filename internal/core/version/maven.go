package version

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Maven is the order and the range dialect of Maven, after ComparableVersion and VersionRange of
// maven-artifact 3.8. Gradle's repositories have versions of the same order.
type Maven struct{}

// mavenVersion is a version as a list of numbers, words and lists below them.
type mavenVersion struct {
	text  string
	items mavenItem
}

// mavenItem is a number, a word or a list, by its kind.
type mavenItem struct {
	kind   byte   // 'n', 'w' or 'l'
	number string // without leading zeros; empty for 0
	word   string
	list   []mavenItem
}

// Parse reads a version; every text is one.
func (Maven) Parse(text string) (Version, error) { return newMavenVersion(text), nil }

func newMavenVersion(text string) *mavenVersion {
	p := &mavenParser{lists: [][]mavenItem{nil}}
	p.read(strings.ToLower(text))
	return &mavenVersion{text: text, items: p.whole()}
}

// mavenParser reads a version from left to right. A hyphen, and a change between digits and letters,
// begin a list within the present one.
type mavenParser struct{ lists [][]mavenItem }

func (p *mavenParser) add(item mavenItem) {
	last := len(p.lists) - 1
	p.lists[last] = append(p.lists[last], item)
}

func (p *mavenParser) deeper() { p.lists = append(p.lists, nil) }

func (p *mavenParser) read(text string) {
	digits, start := false, 0
	for i := range len(text) {
		c := text[i]
		switch {
		case c == '.' || c == '-':
			if i == start {
				p.add(mavenItem{kind: 'n'})
			} else {
				p.add(mavenPart(digits, text[start:i], false))
			}
			start = i + 1
			if c == '-' {
				p.deeper()
			}
		case isDigit(c) != digits:
			if i > start {
				if !digits {
					p.asBehindHyphen()
				}
				p.add(mavenPart(digits, text[start:i], !digits))
				start = i
				p.deeper()
			}
			digits = !digits
		}
	}
	if len(text) > start {
		if !digits {
			p.asBehindHyphen()
		}
		p.add(mavenPart(digits, text[start:], false))
	}
}

// asBehindHyphen lets a word that comes stand in a list of its own, though a dot is before it:
// "1.rc1" is "1-rc1".
func (p *mavenParser) asBehindHyphen() {
	if len(p.lists[len(p.lists)-1]) > 0 {
		p.deeper()
	}
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// whole puts the lists into each other, the innermost first, each without what counts for nothing
// at its end.
func (p *mavenParser) whole() mavenItem {
	for i := len(p.lists) - 1; i > 0; i-- {
		p.lists[i-1] = append(p.lists[i-1], mavenItem{kind: 'l', list: normalList(p.lists[i])})
	}
	return mavenItem{kind: 'l', list: normalList(p.lists[0])}
}

func normalList(list []mavenItem) []mavenItem {
	for i := len(list) - 1; i >= 0; i-- {
		if list[i].null() {
			list = slices.Delete(list, i, i+1)
		} else if list[i].kind != 'l' {
			break
		}
	}
	return list
}

// mavenAliases are words that say the same as others.
var mavenAliases = map[string]string{"ga": "", "final": "", "release": "", "cr": "rc"}

func mavenPart(digits bool, text string, beforeDigit bool) mavenItem {
	if digits {
		return mavenItem{kind: 'n', number: strings.TrimLeft(text, "0")}
	}
	if full := map[string]string{"a": "alpha", "b": "beta", "m": "milestone"}[text]; beforeDigit && full != "" {
		text = full
	}
	if alias, known := mavenAliases[text]; known {
		text = alias
	}
	return mavenItem{kind: 'w', word: text}
}

// mavenWords are the words whose order is known, ascending; all others come behind them. The empty
// one is the release itself.
var mavenWords = []string{"alpha", "beta", "milestone", "rc", "snapshot", "", "sp"}

// rank is a word as it is compared: as texts.
func (m mavenItem) rank() string {
	if i := slices.Index(mavenWords, m.word); i >= 0 {
		return strconv.Itoa(i)
	}
	return strconv.Itoa(len(mavenWords)) + "-" + m.word
}

// mavenRelease is the rank of a release.
const mavenRelease = "5"

// null tells whether an item counts for nothing at the end of a list.
func (m mavenItem) null() bool {
	switch m.kind {
	case 'n':
		return m.number == ""
	case 'w':
		return m.rank() == mavenRelease
	}
	return len(m.list) == 0
}

// compareNull compares an item with nothing.
func (m mavenItem) compareNull() int {
	switch m.kind {
	case 'n':
		return cmp.Compare(len(m.number), 0)
	case 'w':
		return strings.Compare(m.rank(), mavenRelease)
	}
	for _, item := range m.list {
		if c := item.compareNull(); c != 0 {
			return c
		}
	}
	return 0
}

func (m mavenItem) compare(o mavenItem) int {
	switch {
	case m.kind == 'n' && o.kind == 'n':
		return compareNumbers(m.number, o.number)
	case m.kind == 'n':
		return 1 // 1.1 is after 1-sp and 1-1
	case o.kind == 'n':
		return -1
	case m.kind == 'w' && o.kind == 'w':
		return strings.Compare(m.rank(), o.rank())
	case m.kind == 'w':
		return -1 // 1-sp is before 1-1
	case o.kind == 'w':
		return 1
	}
	for i := range max(len(m.list), len(o.list)) {
		c := 0
		switch {
		case i >= len(m.list):
			c = -o.list[i].compareNull()
		case i >= len(o.list):
			c = m.list[i].compareNull()
		default:
			c = m.list[i].compare(o.list[i])
		}
		if c != 0 {
			return c
		}
	}
	return 0
}

func (v *mavenVersion) String() string { return v.text }

func (v *mavenVersion) Compare(other Version) int {
	return v.items.compare(other.(*mavenVersion).items)
}

// Preview tells whether a word of the version says that it is not meant for all.
func (v *mavenVersion) Preview() bool { return previewIn(v.items.list) }

func previewIn(list []mavenItem) bool {
	return slices.ContainsFunc(list, func(m mavenItem) bool {
		return m.kind == 'l' && previewIn(m.list) || m.kind == 'w' && m.word != "" && slices.Contains(mavenPreviews, m.word)
	})
}

// mavenPreviews are words of pre-releases, those that the order knows and others in use.
var mavenPreviews = []string{"alpha", "beta", "milestone", "rc", "snapshot", "pre", "preview", "ea", "dev", "m", "a", "b", "incubating"}

// number is one of the leading numbers, "0" for one that is not written.
func (v *mavenVersion) number(i int) string {
	for k, item := range v.items.list {
		if item.kind != 'n' {
			break
		}
		if k == i {
			return cmp.Or(item.number, "0")
		}
	}
	return "0"
}

// Line is the major; in the first one, each minor is a line of its own.
func (v *mavenVersion) Line() string {
	if major := v.number(0); major != "0" {
		return major
	}
	return "0." + v.number(1)
}

// MavenRange is a set of versions, or one version that is no more than a wish.
type MavenRange struct {
	text  string
	parts []mavenInterval
	Soft  bool // it is a version alone, which others may overrule
}

// mavenInterval is one part of a range. A missing end is nil.
type mavenInterval struct {
	from, to         *mavenVersion
	withFrom, withTo bool
}

// ParseRange reads a range: "[1.0,2.0)", "(,1.0],[1.2,)", or a version alone, which only it is in.
func (Maven) ParseRange(text string) (Range, error) {
	r := &MavenRange{text: text}
	wrong := func(why string) (Range, error) { return nil, fmt.Errorf("%q is not a range of Maven: %s", text, why) }
	rest := text
	var before *mavenInterval
	for strings.HasPrefix(rest, "[") || strings.HasPrefix(rest, "(") {
		end := strings.IndexAny(rest, ")]")
		if end < 0 {
			return wrong("a bracket is not closed")
		}
		part, why := readInterval(rest[:end+1])
		if why != "" {
			return wrong(why)
		}
		if before != nil && before.to != nil && (part.from == nil || part.from.Compare(before.to) < 0) {
			return wrong("its parts overlap")
		}
		r.parts = append(r.parts, part)
		before = &r.parts[len(r.parts)-1]
		rest = strings.TrimSpace(rest[end+1:])
		rest = strings.TrimSpace(strings.TrimPrefix(rest, ","))
	}
	if rest == "" {
		if r.parts == nil {
			return wrong("it is empty")
		}
		return r, nil
	}
	if r.parts != nil {
		return wrong("behind brackets stand only more of them")
	}
	v := newMavenVersion(strings.TrimSpace(rest))
	r.Soft, r.parts = true, []mavenInterval{{v, v, true, true}}
	return r, nil
}

// readInterval reads one pair of brackets.
func readInterval(text string) (i mavenInterval, wrong string) {
	i.withFrom, i.withTo = text[0] == '[', text[len(text)-1] == ']'
	low, high, two := strings.Cut(text[1:len(text)-1], ",")
	low, high = strings.TrimSpace(low), strings.TrimSpace(high)
	if !two {
		if !i.withFrom || !i.withTo {
			return i, "a version alone stands in [ and ]"
		}
		i.from = newMavenVersion(low)
		i.to = i.from
		return i, ""
	}
	if low != "" {
		i.from = newMavenVersion(low)
	}
	if high != "" {
		i.to = newMavenVersion(high)
	}
	if i.from != nil && i.to != nil {
		if c := i.to.Compare(i.from); c < 0 || c == 0 && (!i.withFrom || !i.withTo) {
			return i, "it ends before it begins"
		}
	}
	return i, ""
}

// String is the range as it was read.
func (r *MavenRange) String() string { return r.text }

// Contains tells whether a version lies in one of the parts.
func (r *MavenRange) Contains(version Version) bool {
	v, ok := version.(*mavenVersion)
	return ok && slices.ContainsFunc(r.parts, func(i mavenInterval) bool {
		if i.from != nil {
			if c := v.Compare(i.from); c < 0 || c == 0 && !i.withFrom {
				return false
			}
		}
		if i.to != nil {
			if c := v.Compare(i.to); c > 0 || c == 0 && !i.withTo {
				return false
			}
		}
		return true
	})
}

// Step compares numbers in their places.
func (Maven) Step(from, to Version) Reach {
	return stepByNumbers(from.(*mavenVersion), to.(*mavenVersion))
}

// Restate writes a range anew so that it gives v: "1.0" becomes the version, "[1.0]" is only it, and "[1.0,2.0)" ends with it, since
// Maven takes the newest that is in a range. One without an end starts at it.
func (o Maven) Restate(old string, v Version) string {
	rng, err := o.ParseRange(old)
	if err != nil || rng.(*MavenRange).Soft {
		return v.String()
	}
	r := rng.(*MavenRange)
	last := r.parts[len(r.parts)-1]
	switch {
	case last.from != nil && last.from == last.to:
		return "[" + v.String() + "]"
	case last.to == nil:
		return "[" + v.String() + ",)"
	}
	begin, from := "(", ""
	if last.from != nil && last.from.Compare(v) < 0 {
		from = last.from.text
	} else if last.from != nil {
		from = v.String()
	}
	if from != "" && (last.withFrom || from == v.String()) {
		begin = "["
	}
	return begin + from + "," + v.String() + "]"
}

// Onward is v and what comes later in its line: "[4.1.2,5)".
func (Maven) Onward(of Version) string {
	v := of.(*mavenVersion)
	if v.number(0) == "0" {
		return "[" + v.text + ",0." + raised(v.number(1)) + ")"
	}
	return "[" + v.text + "," + raised(v.number(0)) + ")"
}
