package notes

import (
	"slices"
	"strings"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/version"
)

// Kind is what an entry is about.
type Kind string

// The kinds, those first that a person has to know first.
const (
	Breaking   Kind = "breaking"
	Removed    Kind = "removed"
	Needs      Kind = "needs" // a runtime or tool
	Renamed    Kind = "renamed"
	Deprecated Kind = "deprecated"
	Security   Kind = "security"
	Added      Kind = "added"
	Fixed      Kind = "fixed"
	Other      Kind = "other" // what is not understood stays as text
)

// Kinds are all of them, in their order.
var Kinds = []Kind{Breaking, Removed, Needs, Renamed, Deprecated, Security, Added, Fixed, Other}

// Entry is one thing that a release says.
type Entry struct {
	Kind  Kind
	Text  string // in one line, as it is written
	Line  int
	Names []string // in code font, in quotes, or called: verify(). Each once, without those that it says to use instead
	// Renames are what it plainly says is called otherwise.
	Renames []Rename
	Need    *Need
	label   bool // it only says what the entries nested in it are
}

// Rename is something that goes on under another name.
type Rename struct{ Old, New string }

// Need is a runtime or tool that a release asks for.
type Need struct {
	Name    string // as people say it: "Node.js"
	Version string // the least
	After   bool   // the version is one that is supported no more, with all before it: a later one is asked for
}

// sections are the words of a heading that tell the kind of what is below it.
var sections = []struct {
	words *lazyregexp.Regexp
	kind  Kind
}{
	{lazyregexp.New(`(?i)\bbreaking|💥|backwards?[ -]incompatib|incompatible|\bmajor changes|upgrade notes|migrat(ion|ing)`), Breaking},
	{lazyregexp.New(`(?i)\bremov(ed|als?)\b|\bdropped\b|🔥`), Removed},
	{lazyregexp.New(`(?i)\brequirements?\b|\bprerequisites?\b`), Needs},
	{lazyregexp.New(`(?i)\brenam(ed|es|ings?)\b`), Renamed},
	{lazyregexp.New(`(?i)\bdeprecat`), Deprecated},
	{lazyregexp.New(`(?i)\bsecurity|vulnerab`), Security},
	{lazyregexp.New(`(?i)\badd(ed|itions?)\b|\bnew\b|features?|enhancements?|✨|🚀|minor changes`), Added},
	{lazyregexp.New(`(?i)\bfix(ed|es)?\b|bug ?fix|🐛|patch(es)? changes|\bbugs?\b`), Fixed},
}

// says are the words of an entry that tell its kind, whatever section it stands in.
var says = []struct {
	words *lazyregexp.Regexp
	kind  Kind
}{
	{lazyregexp.New(`(?i)\bbreaking\b[ :!*-]|^\W*breaking\b|💥|^\w+(\([^)]*\))?!:|\bincompatible\b`), Breaking},
	{needWords, Needs},
	{
		lazyregexp.New(
			`(?i)^\W*(\w+(\([^)]*\))?:\s*)?(remov(e|ed|es|al of)|drop(s|ped)?|delet(e|ed))\b|\b(has|have|was|were|is|are) (been ` +
				`)?(removed|dropped)\b|\bno longer (available|exists?|supported)|\bdrops? support\b`,
		),
		Removed,
	},
	{lazyregexp.New(`(?i)^\W*(\w+(\([^)]*\))?:\s*)?renam(e|ed|es)\b|\b(is|are|was|were|has been|have been) renamed\b`), Renamed},
	{lazyregexp.New(`(?i)\bdeprecat(e|ed|es|ion|ing)\b`), Deprecated},
	{lazyregexp.New(`(?i)\bCVE-\d|\bGHSA-|\bvulnerab|^\W*security\b`), Security},
}

const runtimes = `node(?:\.?js)?|npm|yarn|pnpm|go|golang|python|java|jdk|jre|ruby|rubygems|bundler|php|\.net|dotnet|` +
	`typescript|rust|rustc|elixir|` +
	`erlang(?:/otp)?|otp|gradle|maven|kotlin|scala|dart|swift|android|ios|xcode|composer`

var (
	needWords = lazyregexp.New(
		`(?i)\b(?:requires?|required|needs?|minimum(?: supported)?|bump(?:s|ed)?(?: the)? min(?:imum)?\w*|drop(?:s|ped)? support ` +
			`for|no longer supports?|now on|at least)\b` +
			`[^.;]{0,60}?(?:^|[^\w])(` + runtimes + `)\b`,
	)
	needVersion = lazyregexp.New(
		`(?i)(?:^|[^\w])(` + runtimes + `)(?:\s+versions?)?(?:\s+(?:to|is|of|now))*[\s:]*(?:>=|≥|v)?\s*v?([0-9]+(?:\.[0-9]+)*)`,
	)
	// What is supported no more: the name, and the versions behind it.
	needDropped = lazyregexp.New(
		`(?i)\b(?:drop(?:s|ped|ping)?|remov(?:es?|ed|ing)|no longer supports?|ends?|ended)\b(?:\s+(?:the\s+)?support(?:ing)?)?` +
			`(?:\s+(?:of|for))?` +
			`(?:\s+(?:old|older|end-of-life|eol|unsupported))?\s+(` + runtimes + `)(?:\s+versions?)?` +
			`((?:[\s,/&]*(?:and|or|through|to)?\s*(?:<=|<|≤)?\s*v?[0-9]+(?:\.[0-9x]+)*)+)(?:$|[^\w.]|\.(?:\s|$))`,
	)
	droppedNumber = lazyregexp.New(`[0-9]+(?:\.[0-9]+)*`)
	bullet        = lazyregexp.New(`^(\s*)(?:[-*+•o–]|\(?[0-9]{1,3}[.)])\s+(.*)$`)
	subHeading    = lazyregexp.New(
		`^\s*(?:#{1,6}\s+(.*?)\s*#*|={2,6}\s+(.*?)|\*\*([^*]+)\*\*:?|__([^_]+)__:?|([A-Z][A-Za-z /&-]{2,40}):)\s*$`,
	)
	// A name without quotes is one where it is called: verify(), .positional(), Socket#join().
	called = lazyregexp.New(`(?:^|[\s(,])(\.?[A-Za-z_$][\w$]*(?:[.#][A-Za-z_$][\w$]*)*)\(\)`)
	// Names that are to be used instead.
	instead = lazyregexp.New(
		`(?i)\b(?:use|in favou?r of|replaced (?:by|with)|switch to|prefer|consistent with)\s+(?:the\s+)?(?:new\s+)?` +
			`(?:\x60[^\x60\n]+\x60(?:,?\s*(?:\b(?:and|or)\b|\|\|)?\s*))+`,
	)
	code = lazyregexp.New("``([^`]+)``|`([^`\n]+)`|<code>([^<]+)</code>|\"([^\"\\s]{3,60})\"|(?:^|[\\s(])'([^'\\s]{3,60})'")
)

// maxEntry is how long an entry may become, in bytes; what is more of it is left out.
const maxEntry = 4000

// linked is a link of Markdown, of which the text is kept.
var linked = lazyregexp.New(`!?\[([^\]]*)\]\((?:[^()]|\([^)]*\))*\)`)

var reference = lazyregexp.New(`^\[[^\]]+\]:\s*\S+$`)

// kindOf is the kind of what stands below a heading.
func kindOf(label string) Kind {
	for _, s := range sections {
		if s.words.MatchString(label) {
			return s.kind
		}
	}
	return ""
}

// read finds out what an entry says.
func (e *Entry) read() {
	e.Text = strings.Join(strings.Fields(linked.ReplaceAllString(e.Text, "$1")), " ")
	if len(e.Text) > maxEntry {
		e.Text = strings.ToValidUTF8(e.Text[:maxEntry], "") + "…"
	}
	e.Names = namesIn(e.Text)
	e.Renames = Renames(e.Text)
	e.Need = needOf(e.Text)
	rank := slices.Index(Kinds, e.Kind)
	for _, s := range says {
		if !s.words.MatchString(e.Text) || s.kind == Needs && e.Need == nil {
			continue
		}
		if n := slices.Index(Kinds, s.kind); rank < 0 || n < rank || e.Kind == Added || e.Kind == Fixed {
			e.Kind, rank = s.kind, n
		}
		break
	}
	if e.Need != nil && e.Kind != Breaking && e.Kind != Security {
		e.Kind, rank = Needs, slices.Index(Kinds, Needs)
	}
	if len(e.Renames) > 0 && (rank < 0 || rank > slices.Index(Kinds, Renamed)) && e.Kind != Deprecated {
		e.Kind = Renamed
	}
	if e.Kind == "" {
		e.Kind = Other
	}
	e.Text = strings.ReplaceAll(e.Text, "**", "")
}

// namesIn are the names that a text speaks of, but for those that it says to use instead of one of them.
func namesIn(text string) []string {
	spans := instead.FindAllStringIndex(text, -1)
	if len(spans) == 0 || len(allNames(text[:spans[0][0]])) == 0 { // the first is what the text is about
		return allNames(text)
	}
	var rest strings.Builder
	from := 0
	for _, span := range spans {
		rest.WriteString(text[from:span[0]] + ".")
		from = span[1]
	}
	return allNames(rest.String() + text[from:])
}

// allNames are the names in a text: in code font, in quotes, or called.
func allNames(text string) (names []string) {
	for _, m := range code.FindAllStringSubmatch(text, -1) {
		if name := strings.TrimSpace(strings.Join(m[1:], "")); isName(name) {
			names = append(names, plainName(name))
		}
	}
	for _, m := range called.FindAllStringSubmatch(text, -1) {
		class, member, method := strings.Cut(m[1], "#")
		switch {
		case method && isName(member):
			names = append(names, "."+member)
		case !method && isName(class):
			names = append(names, class)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// needOf is the runtime or tool that an entry asks for, or supports no more.
func needOf(text string) *Need {
	if m := needDropped.FindStringSubmatch(text); m != nil {
		last := "" // of "Node 10, 12 and 13" the last one
		for _, number := range droppedNumber.FindAllString(m[2], -1) {
			if last == "" || version.CompareStated(number, last) > 0 {
				last = number
			}
		}
		return &Need{m[1], last, !strings.Contains(m[2], "<") || strings.Contains(m[2], "<=")}
	}
	if !needWords.MatchString(text) {
		return nil
	}
	m := needVersion.FindStringSubmatch(text)
	if m == nil {
		return nil
	}
	return &Need{Name: m[1], Version: m[2]}
}

// isName tells whether a text in code font may be a name: of a function, a key, an option, a
// file, a module.
func isName(text string) bool {
	return len(text) <= 100 && nameLike.MatchString(plainName(text))
}

var nameLike = lazyregexp.New(`^(--?|@|#|\.|/|\$)?[A-Za-z_][\w$@/.:-]*$`)

// plainName is a name without what may stand behind and before it.
func plainName(text string) string {
	if at := strings.IndexAny(text, "(={ "); at > 0 && !strings.HasPrefix(text, "import ") {
		text = text[:at]
	}
	return strings.TrimRight(text, "()[]{};,:.!?")
}
