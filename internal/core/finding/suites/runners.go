// Package suites reads what test runners print and write: each kind of runner, and the common formats of results.
package suites

import (
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/lazyregexp"
)

// MaxCause is how many lines of what went wrong with a test are kept.
const MaxCause = 6

// maxTold is up to how many lines a cause and its stack are looked for.
const maxTold = 200

// Runner reads what one kind of test runner prints for people. It is shown every line,
// and takes none away from others.
type Runner interface {
	Take(line string)
	End() *Results
}

// Results are tests that a runner told of, in its order, each name once.
type Results struct {
	Tests   []finding.Test
	at      map[string]int
	Counted *finding.Counted
	cause   int  // whose cause is being told, counted from 1; 0 for nobody's
	lines   int  // of it, so far
	told    int  // lines that were looked at for it
	sure    bool // the runner showed itself by something that only it prints
}

// put adds a test, or tells more of one: that it failed counts more than that it passed.
func (r *Results) put(t finding.Test) int {
	if r.at == nil {
		r.at = map[string]int{}
	}
	i, known := r.at[t.Name]
	if !known {
		i = len(r.Tests)
		r.at[t.Name] = i
		r.Tests = append(r.Tests, t)
	} else if !t.Passed && !t.Skipped {
		r.Tests[i].Passed, r.Tests[i].Skipped = false, false
	}
	return i
}

// fails adds a test that failed, the cause of which follows.
func (r *Results) fails(t finding.Test) {
	t.Passed = false
	i := r.put(t)
	r.cause, r.lines, r.told = 0, 0, 0
	if r.Tests[i].Message == "" { // some tell it twice
		r.cause = i + 1
	}
}

// why takes a line of the cause of the test that failed last, but for frames of source
// text around it.
func (r *Results) why(line string) {
	if r.cause == 0 {
		return
	}
	if r.told++; r.told > maxTold {
		r.cause = 0
		return
	}
	t := &r.Tests[r.cause-1]
	text := strings.TrimSpace(line)
	switch at := placeIn(text); {
	case text == "" && r.lines == 0:
	case at != "":
		if t.Place == "" && at != "?" && !finding.InRuntime(at) && packageName(at) == "" {
			t.Place, r.cause = at, 0
		}
	case strings.HasPrefix(text, "ℹ "):
		r.cause = 0
	case strings.Trim(text, "{}[](), ") == "", sourceLine.MatchString(line), r.lines == MaxCause, strings.Trim(text, "─-=_ ⎯") == "":
	default:
		if t.Message != "" {
			t.Message += "\n"
		}
		t.Message += text
		r.lines++
	}
}

// End gives what was read, once there is no more.
func (r *Results) End() *Results {
	if !r.sure {
		return &Results{}
	}
	// A file stands for its tests only where those are not named.
	named := map[string]bool{}
	for _, t := range r.Tests {
		if file, _, below := strings.Cut(t.Name, " > "); below && (t.Within == "" || !t.Passed) {
			named[file] = true
		}
	}
	r.Tests = slices.DeleteFunc(r.Tests, func(t finding.Test) bool { return t.Whole && named[t.Name] })
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
	name, _ := finding.PackageOf(place)
	return name
}

// Runners are all kinds that are read.
func Runners() []Runner {
	return []Runner{
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

func countedIn(line string) *finding.Counted {
	c := &finding.Counted{}
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
