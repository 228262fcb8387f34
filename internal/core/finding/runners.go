package finding

import (
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"bellwether/internal/core/lazyregexp"
)

// Counted is what a test runner itself counted, where it names only some of its tests.
type Counted struct {
	Passed  int `json:"passed"`
	Failed  int `json:"failed"`
	Skipped int `json:"skipped"`
}

// maxCause is how many lines of what went wrong with a test are kept.
const maxCause = 6

// maxTold is up to how many lines a cause and its stack are looked for.
const maxTold = 200

// runner reads what one kind of test runner prints for people. It is shown every line,
// and takes none away from others.
type runner interface {
	take(line string)
	end() *results
}

// results are tests that a runner told of, in its order, each name once.
type results struct {
	tests   []Test
	at      map[string]int
	counted *Counted
	cause   int  // whose cause is being told, counted from 1; 0 for nobody's
	lines   int  // of it, so far
	told    int  // lines that were looked at for it
	sure    bool // the runner showed itself by something that only it prints
}

// put adds a test, or tells more of one: that it failed counts more than that it passed.
func (r *results) put(t Test) int {
	if r.at == nil {
		r.at = map[string]int{}
	}
	i, known := r.at[t.Name]
	if !known {
		i = len(r.tests)
		r.at[t.Name] = i
		r.tests = append(r.tests, t)
	} else if !t.Passed && !t.Skipped {
		r.tests[i].Passed, r.tests[i].Skipped = false, false
	}
	return i
}

// fails adds a test that failed, the cause of which follows.
func (r *results) fails(t Test) {
	t.Passed = false
	i := r.put(t)
	r.cause, r.lines, r.told = 0, 0, 0
	if r.tests[i].Message == "" { // some tell it twice
		r.cause = i + 1
	}
}

// why takes a line of the cause of the test that failed last, but for frames of source
// text around it.
func (r *results) why(line string) {
	if r.cause == 0 {
		return
	}
	if r.told++; r.told > maxTold {
		r.cause = 0
		return
	}
	t := &r.tests[r.cause-1]
	text := strings.TrimSpace(line)
	switch at := placeIn(text); {
	case text == "" && r.lines == 0:
	case at != "":
		if t.Place == "" && at != "?" && !inRuntime(at) && packageName(at) == "" {
			t.Place, r.cause = at, 0
		}
	case strings.HasPrefix(text, "ℹ "):
		r.cause = 0
	case strings.Trim(text, "{}[](), ") == "", sourceLine.MatchString(line), r.lines == maxCause, strings.Trim(text, "─-=_ ⎯") == "":
	default:
		if t.Message != "" {
			t.Message += "\n"
		}
		t.Message += text
		r.lines++
	}
}

func (r *results) end() *results {
	if !r.sure {
		return &results{}
	}
	// A file stands for its tests only where those are not named.
	named := map[string]bool{}
	for _, t := range r.tests {
		if file, _, below := strings.Cut(t.Name, " > "); below && (t.Within == "" || !t.Passed) {
			named[file] = true
		}
	}
	r.tests = slices.DeleteFunc(r.tests, func(t Test) bool { return t.Whole && named[t.Name] })
	return r
}

// sourceLine is a line of source text as runners show it: "> 3 | it(…", "  ^".
var sourceLine = lazyregexp.New(`^\s*(?:>?\s*\d+\s*\|.*|\|?\s*\^+~*\s*|\d+\|.*)$`)

// frame is a line of a stack, in the forms that test runners print.
var frame = lazyregexp.New(
	`^(?:at (?:.*?\()?((?:file://)?[^()\s]+:\d+(?::\d+)?)\)?|❯ (?:.* )?(\S+:\d+:\d+)|# (\./\S+:\d+)(?::in .*)?|` +
		`(\S+\.py:\d+): \S*|(\S+\.rb:\d+):in .*)$`,
)

// placeIn is the place that a line of a stack names, "" for another line.
func placeIn(line string) string {
	m := frame.FindStringSubmatch(line)
	if m == nil {
		if strings.HasPrefix(line, "at ") {
			return "?"
		}
		return ""
	}
	for _, place := range m[1:] {
		if place != "" {
			return strings.TrimPrefix(place, "./")
		}
	}
	return "?"
}

func packageName(place string) string {
	name, _ := packageOf(place)
	return name
}

// runners are all kinds that are read.
func runners() []runner {
	return []runner{
		&jestTests{},
		&vitestTests{},
		&mochaTests{},
		&nodeTests{},
		&pytestTests{},
		&rspecTests{},
		&minitestTests{},
		&cargoTests{},
		&dotnetTests{},
	}
}

// number is a number that an expression found.
func number(text string) int {
	n, _ := strconv.Atoi(text)
	return n
}

// counts are "2 failed", "1 skipped" and the like in a line.
var counts = lazyregexp.New(
	`(\d+) (failed|failing|failures?|errors?|passed|passing|skipped|pending|todo|ignored|xfailed|xpassed|examples?)\b`,
)

func countedIn(line string) *Counted {
	c := &Counted{}
	for _, m := range counts.FindAllStringSubmatch(line, -1) {
		switch m[2] {
		case "failed", "failing", "failure", "failures", "error", "errors":
			c.Failed += number(m[1])
		case "passed", "passing", "xpassed":
			c.Passed += number(m[1])
		case "skipped", "pending", "todo", "ignored", "xfailed":
			c.Skipped += number(m[1])
		}
	}
	return c
}

// outline remembers headings by how far they are indented.
type outline []outlined

type outlined struct {
	indent int
	text   string
}

// under are the headings that something lies under.
func (o *outline) under(indent int) []string {
	*o = slices.DeleteFunc(*o, func(h outlined) bool { return h.indent >= indent })
	var names []string
	for _, h := range *o {
		names = append(names, h.text)
	}
	return names
}

func (o *outline) open(indent int, text string) {
	o.under(indent)
	*o = append(*o, outlined{indent, text})
}

// marked is an expression's match of a line that begins, behind its indentation, with one
// of some marks; most lines do not.
func marked(re *lazyregexp.Regexp, line, marks string) []string {
	first, _ := utf8.DecodeRuneInString(strings.TrimLeft(line, " "))
	if first == utf8.RuneError || !strings.ContainsRune(marks, first) {
		return nil
	}
	return re.FindStringSubmatch(line)
}

func indentOf(line string) int { return len(line) - len(strings.TrimLeft(line, " ")) }

func joined(names ...string) string {
	return strings.Join(slices.DeleteFunc(names, func(name string) bool { return name == "" }), " > ")
}

// took is how long something took, as runners put it behind a name.
var took = lazyregexp.New(` \(?\d[\d.]* ?(?:ms|s|m)\)?(?: \[.*\])?$`)
