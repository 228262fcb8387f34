package finding

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
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
var sourceLine = regexp.MustCompile(`^\s*(?:>?\s*\d+\s*\|.*|\|?\s*\^+~*\s*|\d+\|.*)$`)

// frame is a line of a stack, in the forms that test runners print.
var frame = regexp.MustCompile(`^(?:at (?:.*?\()?((?:file://)?[^()\s]+:\d+(?::\d+)?)\)?|❯ (?:.* )?(\S+:\d+:\d+)|# (\./\S+:\d+)(?::in .*)?|(\S+\.py:\d+): \S*)$`)

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
	return []runner{&jestTests{}, &vitestTests{}, &mochaTests{}, &nodeTests{}, &pytestTests{}, &rspecTests{}, &cargoTests{}, &dotnetTests{}}
}

// number is a number that an expression found.
func number(text string) int {
	n, _ := strconv.Atoi(text)
	return n
}

// counts are "2 failed", "1 skipped" and the like in a line.
var counts = regexp.MustCompile(`(\d+) (failed|failing|failures?|errors?|passed|passing|skipped|pending|todo|ignored|xfailed|xpassed|examples?)\b`)

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
type outline []struct {
	indent int
	text   string
}

// under are the headings that something lies under.
func (o *outline) under(indent int) []string {
	*o = slices.DeleteFunc(*o, func(h struct {
		indent int
		text   string
	}) bool {
		return h.indent >= indent
	})
	var names []string
	for _, h := range *o {
		names = append(names, h.text)
	}
	return names
}

func (o *outline) open(indent int, text string) {
	o.under(indent)
	*o = append(*o, struct {
		indent int
		text   string
	}{indent, text})
}

// marked is an expression's match of a line that begins, behind its indentation, with one
// of some marks; most lines do not.
func marked(re *regexp.Regexp, line, marks string) []string {
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
var took = regexp.MustCompile(` \(?\d[\d.]* ?(?:ms|s|m)\)?(?: \[.*\])?$`)

// jestTests read Jest: files that passed or failed, the tests of each where it is alone
// or --verbose is given, and the failed ones with their causes.
type jestTests struct {
	results
	file string
	tree outline
	open bool // the tests of a file are being listed
}

var (
	jestFile = regexp.MustCompile(`^(PASS|FAIL)\s+(?:.*\s)?(\S+\.\w+)(?: \([\d.]+ m?s\))?$`)
	jestTest = regexp.MustCompile(`^( +)(✓|✕|○|✎|√|×) (?:skipped |todo )?(.+)$`)
	jestFail = regexp.MustCompile(`^  ● (.+)$`)
)

func (j *jestTests) take(line string) {
	if !j.sure && !strings.HasPrefix(line, "PASS") && !strings.HasPrefix(line, "FAIL") {
		return
	}
	if m := marked(jestFile, line, "PF"); m != nil {
		j.sure, j.file, j.tree, j.open, j.cause = true, m[2], nil, true, 0
		j.put(Test{Name: j.file, Passed: m[1] == "PASS", Whole: true})
		return
	}
	if m := marked(jestFail, line, "●"); m != nil && j.file != "" {
		j.open = false
		parts := strings.Split(m[1], " › ")
		switch {
		case m[1] == "Test suite failed to run":
			j.fails(Test{Name: j.file, Whole: true})
		case m[1] != "Console":
			name := joined(append([]string{j.file}, parts...)...)
			_, listed := j.at[name]
			within := j.file
			if listed {
				within = ""
			}
			j.fails(Test{Name: name, Within: within})
		}
		return
	}
	if strings.HasPrefix(line, "Tests: ") && strings.HasSuffix(line, " total") {
		j.counted, j.cause = countedIn(line), 0
		return
	}
	if line == "" {
		j.open = j.open && len(j.tree) == 0
	}
	if m := marked(jestTest, line, "✓✕○✎√×"); m != nil && j.open {
		names := append([]string{j.file}, j.tree.under(len(m[1]))...)
		j.put(Test{Name: joined(append(names, took.ReplaceAllString(m[3], ""))...), Passed: m[2] == "✓" || m[2] == "√", Skipped: m[2] == "○" || m[2] == "✎"})
		return
	}
	if j.open && strings.HasPrefix(line, "  ") && !strings.HasPrefix(strings.TrimSpace(line), "●") {
		j.tree.open(indentOf(line), strings.TrimSpace(line))
	}
	j.why(line)
}

// vitestTests read Vitest: files, the tests that failed, and with the verbose reporter all.
type vitestTests struct{ results }

var (
	vitestBegin = regexp.MustCompile(`^ ?(?:RUN|DEV) +v\d`)
	vitestFile  = regexp.MustCompile(`^ (✓|❯|×|↓) (?:\|[^|]+\| +)?(\S+) +\((\d+) tests?\b`)
	vitestTest  = regexp.MustCompile(`^ +(✓|×|↓|□) (?:\|[^|]+\| +)?(\S+\.\w+ > .+)$`)
	vitestFail  = regexp.MustCompile(`^ FAIL +(?:\|[^|]+\| +)?(\S+)(?: > (.+?)| \[ .* \])?$`)
)

func (v *vitestTests) take(line string) {
	if !v.sure && !strings.Contains(line, " v") {
		return
	}
	if vitestBegin.MatchString(line) {
		v.sure = true
		return
	}
	if !v.sure {
		return
	}
	if m := marked(vitestFile, line, "✓❯×↓"); m != nil {
		v.put(Test{Name: m[2], Passed: m[1] == "✓", Skipped: m[1] == "↓", Whole: true})
	} else if m := marked(vitestTest, line, "✓×↓□"); m != nil {
		v.put(Test{Name: took.ReplaceAllString(m[2], ""), Passed: m[1] == "✓", Skipped: m[1] == "↓" || m[1] == "□"})
	} else if m := marked(vitestFail, line, "F"); m != nil {
		t := Test{Name: joined(m[1], m[2]), Whole: m[2] == ""}
		if _, listed := v.at[t.Name]; !listed && m[2] != "" {
			t.Within = m[1]
		}
		v.fails(t)
	} else if strings.HasPrefix(strings.TrimSpace(line), "Tests  ") {
		v.counted, v.cause = countedIn(line), 0
	} else {
		v.why(line)
	}
}

// mochaTests read Mocha's usual reporter: all tests in their groups, and the causes of
// those that failed, below.
type mochaTests struct {
	results
	tree  outline
	below bool // the counts were told, and causes follow
	parts []string
}

var (
	mochaTest  = regexp.MustCompile(`^( +)(✓|✔|√|-|\d+\)) (.+)$`)
	mochaCount = regexp.MustCompile(`^  \d+ (passing|pending|failing)\b`)
	mochaFail  = regexp.MustCompile(`^  \d+\) (.+)$`)
)

func (m *mochaTests) take(line string) {
	if !m.below && !strings.HasPrefix(line, "  ") {
		return
	}
	if mochaCount.MatchString(line) {
		if !m.below {
			m.counted = &Counted{}
		}
		m.sure, m.below = true, true
		more := countedIn(line)
		m.counted.Passed, m.counted.Failed, m.counted.Skipped = m.counted.Passed+more.Passed, m.counted.Failed+more.Failed, m.counted.Skipped+more.Skipped
		return
	}
	if m.below {
		m.failure(line)
		return
	}
	if found := marked(mochaTest, line, "✓✔√-0123456789"); found != nil {
		names := m.tree.under(len(found[1]))
		name := took.ReplaceAllString(found[3], "")
		failed := found[2] != "-" && strings.HasSuffix(found[2], ")")
		m.put(Test{Name: joined(append(names, name)...), Passed: !failed && found[2] != "-", Skipped: found[2] == "-"})
		return
	}
	if text := strings.TrimSpace(line); text != "" && strings.HasPrefix(line, "  ") {
		m.tree.open(indentOf(line), text)
	}
}

// failure takes a line of the list of failures: the names, one a line, then the cause.
func (m *mochaTests) failure(line string) {
	if found := mochaFail.FindStringSubmatch(line); found != nil {
		m.parts, m.cause = []string{strings.TrimSuffix(found[1], ":")}, 0
		if strings.HasSuffix(found[1], ":") {
			m.fails(Test{Name: joined(m.parts...)})
			m.parts = nil
		}
		return
	}
	if len(m.parts) > 0 {
		text := strings.TrimSpace(line)
		m.parts = append(m.parts, strings.TrimSuffix(text, ":"))
		if strings.HasSuffix(text, ":") {
			m.fails(Test{Name: joined(m.parts...)})
			m.parts = nil
		}
		return
	}
	m.why(line)
}

// nodeTests read the reporter for people of Node.js's own runner.
type nodeTests struct {
	results
	tree  []string // headings, by depth
	below bool
}

var nodeLine = regexp.MustCompile(`^( *)(▶|✔|✖|﹣|⚠) (.+?)(?: \([\d.]+ms\))?( # (?:SKIP|TODO).*)?$`)

func (n *nodeTests) take(line string) {
	if strings.HasPrefix(line, "ℹ tests ") {
		n.sure = true
	}
	if strings.HasPrefix(line, "✖ failing tests:") {
		n.below, n.cause = true, 0 // what comes tells once more what is known
	}
	m := marked(nodeLine, line, "▶✔✖﹣⚠")
	if m == nil {
		n.why(line)
		return
	}
	if n.below {
		return
	}
	n.cause = 0
	depth := len(m[1]) / 2
	n.tree = n.tree[:min(depth, len(n.tree))]
	switch {
	case m[2] == "▶":
		for len(n.tree) < depth {
			n.tree = append(n.tree, "")
		}
		n.tree = append(n.tree, m[3])
	case n.group(joined(append(slices.Clone(n.tree), m[3])...)): // the end of a group
	case m[2] == "✖":
		n.fails(Test{Name: joined(append(slices.Clone(n.tree), m[3])...)})
	default:
		n.put(Test{Name: joined(append(slices.Clone(n.tree), m[3])...), Passed: m[2] == "✔", Skipped: m[4] != "" || m[2] == "﹣"})
	}
}

// group tells whether there are tests below a name.
func (n *nodeTests) group(name string) bool {
	return slices.ContainsFunc(n.tests, func(t Test) bool { return strings.HasPrefix(t.Name, name+" > ") })
}

// pytestTests read pytest: files and the tests that failed, and with -v all tests.
type pytestTests struct {
	results
	names map[string]bool // that were told one by one
	whose string          // the failure that is being told
}

var (
	pytestFile  = regexp.MustCompile(`^(\S+\.py) ([.FEsxX]+)\s*(?:\[ *\d+%\])?$`)
	pytestTest  = regexp.MustCompile(`^(\S+\.py)::(\S.*?) (PASSED|FAILED|ERROR|SKIPPED|XFAIL|XPASS)(?: \(.*\))?\s*(?:\[ *\d+%\])?$`)
	pytestShort = regexp.MustCompile(`^(FAILED|ERROR) (\S+\.py)(?:::(\S.*?))?(?: - (.*))?$`)
	pytestHead  = regexp.MustCompile(`^_{3,} (?:ERROR (?:collecting|at \w+ of) )?(.+?) _{3,}$`)
	pytestCount = regexp.MustCompile(`^=+ (.*\b(?:passed|failed|errors?|skipped|no tests ran)\b.* in [\d.]+m?s.*?) =+$`)
	pytestCause = regexp.MustCompile(`^E\s{2,}(.*)$`)
)

func (p *pytestTests) take(line string) {
	if strings.Contains(line, "= test session starts =") {
		p.sure, p.names = true, map[string]bool{}
		return
	}
	if !p.sure {
		return
	}
	if m := pytestFile.FindStringSubmatch(line); m != nil {
		p.put(Test{Name: m[1], Passed: !strings.ContainsAny(m[2], "FE"), Whole: true})
	} else if m := pytestTest.FindStringSubmatch(line); m != nil {
		name := joined(m[1], strings.ReplaceAll(m[2], "::", " > "))
		p.names[name] = true
		p.put(Test{Name: name, Passed: m[3] == "PASSED" || m[3] == "XPASS", Skipped: m[3] == "SKIPPED" || m[3] == "XFAIL"})
	} else if m := pytestHead.FindStringSubmatch(line); m != nil {
		p.whose, p.lines = strings.ReplaceAll(m[1], ".", " > "), 0
		if strings.HasSuffix(m[1], ".py") {
			p.whose = m[1]
		}
	} else if m := pytestCause.FindStringSubmatch(line); m != nil {
		p.because(m[1])
	} else if m := pytestShort.FindStringSubmatch(line); m != nil {
		name := joined(m[2], strings.ReplaceAll(m[3], "::", " > "))
		t := Test{Name: name, Whole: m[3] == "", Message: m[4]}
		if !p.names[name] && m[3] != "" {
			t.Within = m[2]
		}
		i := p.put(t)
		if told := p.told(name); told != "" {
			p.tests[i].Message = told
		} else if p.tests[i].Message == "" {
			p.tests[i].Message = m[4]
		}
	} else if m := pytestCount.FindStringSubmatch(line); m != nil {
		p.counted = countedIn(m[1])
	}
}

// because takes a line of a cause, which is told before the file is known.
func (p *pytestTests) because(text string) {
	if p.lines++; p.lines > maxCause || strings.TrimSpace(text) == "" {
		return
	}
	i := p.put(Test{Name: pytestHeld + p.whose})
	if p.tests[i].Message != "" {
		p.tests[i].Message += "\n"
	}
	p.tests[i].Message += text
}

// pytestHeld marks what is known of a failure before the test's file is.
const pytestHeld = "\x00"

func (p *pytestTests) told(name string) string {
	for _, t := range p.tests {
		if whose, held := strings.CutPrefix(t.Name, pytestHeld); held && (name == whose || strings.HasSuffix(name, " > "+whose)) {
			return t.Message
		}
	}
	return ""
}

func (p *pytestTests) end() *results {
	p.tests = slices.DeleteFunc(p.tests, func(t Test) bool { return strings.HasPrefix(t.Name, pytestHeld) })
	return p.results.end()
}

// rspecTests read RSpec: the examples that failed, with their causes.
type rspecTests struct {
	results
	list string // the list that is being told, "Failures" or another
}

var (
	rspecItem  = regexp.MustCompile(`^  \d+\) (.+)$`)
	rspecCount = regexp.MustCompile(`^\d+ examples?, \d+ failures?`)
	rspecRerun = regexp.MustCompile(`^rspec (\./\S+) # (.+)$`)
)

func (r *rspecTests) take(line string) {
	if !r.begins(line) {
		r.why(line)
		return
	}
	if m := rspecItem.FindStringSubmatch(line); m != nil && r.list != "" {
		if r.cause = 0; r.list == "Failures" {
			r.fails(Test{Name: m[1], Within: rspecAll})
		} else {
			r.put(Test{Name: m[1], Skipped: true, Within: rspecAll})
		}
		return
	}
	switch {
	case line == "Failures:", strings.HasPrefix(line, "Pending:"):
		r.list, _, _ = strings.Cut(line, ":")
	case rspecCount.MatchString(line):
		r.sure, r.list, r.cause = true, "", 0
		c := countedIn(line)
		c.Passed = number(strings.Fields(line)[0]) - c.Failed - c.Skipped
		r.counted = c
		r.put(Test{Name: rspecAll, Passed: true, Whole: true})
	case rspecRerun.MatchString(line):
		m := rspecRerun.FindStringSubmatch(line)
		if i, known := r.at[m[2]]; known && r.tests[i].Place == "" {
			r.tests[i].Place = strings.TrimPrefix(m[1], "./")
		}
	default:
		r.why(strings.TrimPrefix(strings.TrimSpace(line), "Failure/Error: "))
	}
}

// begins tells whether a line may be one of those that are looked for.
func (r *rspecTests) begins(line string) bool {
	if r.list != "" || line == "Failures:" || strings.HasPrefix(line, "Pending:") || strings.HasPrefix(line, "rspec ") {
		return true
	}
	return line != "" && line[0] >= '0' && line[0] <= '9' && strings.Contains(line, " example")
}

// rspecAll stands for the examples that passed, which are not named.
const rspecAll = "examples"

// cargoTests read what cargo test prints: all tests, and the causes of those that failed.
type cargoTests struct {
	results
	crate string
}

var (
	cargoRuns = regexp.MustCompile(`^ +(?:Running (?:unittests )?(\S+) \(|Doc-tests (\S+))`)
	cargoTest = regexp.MustCompile(`^test (.+?)(?: - should panic)? \.\.\. (ok|FAILED|ignored)(?:, .*)?$`)
	cargoFail = regexp.MustCompile(`^---- (.+) stdout ----$`)
	// cargoBegins is what lines begin with that are looked at.
	cargoBegins = []string{"     Running", "   Doc-tests", "test ", "---- "}
	cargoPanic  = regexp.MustCompile(`^thread '.*' (?:\(\d+\) )?panicked at (\S+:\d+:\d+):$`)
)

func (c *cargoTests) take(line string) {
	if c.cause == 0 && !slices.ContainsFunc(cargoBegins, func(text string) bool { return strings.HasPrefix(line, text) }) {
		return
	}
	if m := cargoRuns.FindStringSubmatch(line); m != nil {
		c.crate = m[1] + m[2]
	} else if m := cargoTest.FindStringSubmatch(line); m != nil {
		c.put(Test{Name: joined(c.crate, m[1]), Passed: m[2] == "ok", Skipped: m[2] == "ignored"})
	} else if m := cargoFail.FindStringSubmatch(line); m != nil {
		c.fails(Test{Name: joined(c.crate, m[1])})
	} else if strings.HasPrefix(line, "test result: ") {
		c.sure, c.cause = true, 0
	} else if m := cargoPanic.FindStringSubmatch(line); m != nil && c.cause > 0 {
		c.tests[c.cause-1].Place = m[1]
	} else if strings.HasPrefix(line, "stack backtrace:") || strings.HasPrefix(line, "note: ") || line == "" && c.lines > 0 {
		c.cause = 0
	} else {
		c.why(line)
	}
}

// dotnetTests read what dotnet test prints: the tests that it names, and its counts.
type dotnetTests struct{ results }

var (
	dotnetTest  = regexp.MustCompile(`^  (Passed|Failed|Skipped) (\S.*?) \[[^\]]*\]$`)
	dotnetCount = regexp.MustCompile(`^(?:Passed|Failed)! +- Failed: +(\d+), Passed: +(\d+), Skipped: +(\d+), Total: +\d+`)
	dotnetOld   = regexp.MustCompile(`^ {4,5}(Passed|Failed|Skipped): (\d+)$`)
)

func (d *dotnetTests) take(line string) {
	if d.cause == 0 && !strings.HasPrefix(line, "  ") && !strings.HasPrefix(line, "Passed!") && !strings.HasPrefix(line, "Failed!") {
		return
	}
	if m := dotnetTest.FindStringSubmatch(line); m != nil {
		d.cause = 0
		if t := (Test{Name: m[2], Passed: m[1] == "Passed", Skipped: m[1] == "Skipped"}); m[1] == "Failed" {
			d.fails(t)
		} else {
			d.put(t)
		}
		return
	}
	if m := dotnetCount.FindStringSubmatch(line); m != nil {
		d.add(number(m[2]), number(m[1]), number(m[3]))
		return
	}
	if m := dotnetOld.FindStringSubmatch(line); m != nil {
		n := map[string]int{m[1]: number(m[2])}
		d.add(n["Passed"], n["Failed"], n["Skipped"])
		return
	}
	switch strings.TrimSpace(line) {
	case "Error Message:":
	case "Stack Trace:", "Standard Output Messages:":
		d.cause = 0
	default:
		d.why(line)
	}
}

// add adds to the counts: each project tells its own.
func (d *dotnetTests) add(passed, failed, skipped int) {
	if d.counted == nil {
		d.counted = &Counted{}
	}
	d.sure, d.cause = true, 0
	d.counted.Passed, d.counted.Failed, d.counted.Skipped = d.counted.Passed+passed, d.counted.Failed+failed, d.counted.Skipped+skipped
}
