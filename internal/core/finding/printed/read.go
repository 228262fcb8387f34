// Package printed reads what stages print, by one table of forms: findings, crashes, results of tests.
package printed

import (
	"bufio"
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/finding/suites"
	"bellwether/internal/core/lazyregexp"
)

// Source says whose output is read.
type Source struct {
	Root    string // what the names of own packages begin with, where a tool names those
	Dir     string // the component's folder, relative to the project
	Scratch string // the folder that stages ran in, whose paths are told as the project's
	Watch   []Watch
}

// Watch is a pattern of the project's own.
type Watch struct {
	Kind    finding.Kind
	Pattern *lazyregexp.Regexp // a group "text" is what is told; without one it is the line
}

// Report is what was read of an output.
type Report struct {
	Tests    []finding.Test
	Findings []finding.Finding
	More     int              // findings beyond those that are kept
	Crash    *finding.Crash   // the first that was printed, nil for none
	Notes    []string         // what could not be read, as sentences
	Last     []string         // the last lines that are not empty
	Counted  *finding.Counted // what the runner counted, nil for nothing
}

const (
	// maxLine is how much of a line is read, in bytes.
	maxLine = 64 << 10
	// maxDocument bounds a document that stands in an output, in bytes.
	maxDocument = 32 << 20
	// lastLines is how many lines of the end are kept.
	lastLines = 20
)

// Reader reads outputs of one stage: what it printed, and what it wrote to files.
type Reader struct {
	sink
	report Report
	tap    suites.TapReader
	gotest *suites.GoTests
	stack  stacks
	index  *index
	line   int
	inXML  int // how many suites of JUnit XML are open
	xml    bytes.Buffer
	sarif  *bytes.Buffer // what is left of an output that is SARIF
	header string        // a line that is a path alone, and what lies below it is about
	last   [lastLines]string
	lasts  int
	// What runners tell of tests in texts for people, read where there is no stream.
	runners []suites.Runner
	// A finding whose place or text is still to come.
	pending *pattern
	waiting finding.Finding
	at      spot
	looked  int
}

// NewReader is a reader for what a source prints.
func NewReader(s Source) *Reader {
	r := &Reader{sink: sink{Source: s}, index: newIndex(patterns()), runners: suites.Runners()}
	r.gotest = suites.NewGoTests(func(pkg string) string { return path.Join(s.Dir, strings.TrimPrefix(pkg, s.Root)) })
	r.stack = stacks{
		place: func(file, line string) string { return r.place(spot{file: file, line: line}) },
		done:  r.crashed,
		none:  r.known,
	}
	return r
}

// Output reads what a stage printed: TAP, the Go test JSON stream, JUnit XML and
// SARIF as they stand in it, and else line by line.
func (r *Reader) Output(out io.Reader) error {
	lines := bufio.NewReaderSize(out, maxLine)
	for {
		text, err := lines.ReadSlice('\n')
		if len(text) > 0 {
			r.Take(text)
		}
		for errors.Is(err, bufio.ErrBufferFull) { // the rest of a long line
			_, err = lines.ReadSlice('\n')
		}
		if errors.Is(err, io.EOF) {
			r.flush()
			return nil
		}
		if err != nil {
			r.flush()
			return err
		}
	}
}

// Results reads a file of results: JUnit XML, SARIF, TAP, or the Go test JSON
// stream, whichever it holds.
func (r *Reader) Results(name string, file io.Reader) {
	begin := bufio.NewReaderSize(file, 4096)
	head, _ := begin.Peek(2048)
	var err error
	switch trimmed := bytes.TrimLeft(head, "\ufeff \t\r\n"); {
	case bytes.HasPrefix(trimmed, []byte("<")):
		var tests []finding.Test
		if bytes.Contains(head, []byte("<TestRun")) {
			tests, err = suites.ReadTRX(begin)
		} else {
			tests, err = suites.ReadJUnit(begin)
		}
		r.report.Tests = append(r.report.Tests, tests...)
	case bytes.HasPrefix(trimmed, []byte("{")) && !bytes.Contains(head, []byte(`"Action"`)):
		err = readSARIF(begin, &r.sink)
	default:
		err = r.Output(begin)
	}
	if err != nil {
		r.report.Notes = append(r.report.Notes, fmt.Sprintf("%s can be read only in part: %v", name, err))
	}
}

// Report is all that was read so far.
func (r *Reader) Report() *Report {
	report := r.report
	report.Tests = append(report.Tests, r.tap.Tests...)
	report.Tests = append(report.Tests, r.gotest.Kept()...)
	if len(report.Tests) == 0 {
		for _, runner := range r.runners {
			found := runner.End()
			report.Tests = append(report.Tests, found.Tests...)
			report.count(found.Counted)
		}
	}
	for i := range report.Tests {
		t := &report.Tests[i]
		if t.Place != "" {
			t.Place = cmp.Or(r.trim(t.Place), t.Place)
		}
		// A file of tests that cannot be loaded is told by its path.
		t.Name, t.Within, t.Message = r.ours(t.Name), r.ours(t.Within), r.ours(t.Message)
	}
	r.beneath(report.Tests)
	report.Findings, report.More = r.Sorted(), r.More
	for i := max(0, r.lasts-lastLines); i < r.lasts; i++ {
		report.Last = append(report.Last, r.ours(r.last[i%lastLines]))
	}
	return &report
}

// noCause is what a runner says of a file that ended before it could tell anything.
var noCause = lazyregexp.New(`^'?test failed'?$`)

// beneath gives a test of which the runner only says that it failed what crashed in its
// file.
func (r *Reader) beneath(tests []finding.Test) {
	crash := r.report.Crash
	for i := range tests {
		if t := &tests[i]; crash != nil && noCause.MatchString(t.Message) && strings.HasPrefix(crash.Place, t.Name+":") {
			t.Message, t.Place = crash.Text, crash.Place
		}
	}
}

// count adds what a runner counted.
func (r *Report) count(c *finding.Counted) {
	switch {
	case c == nil:
	case r.Counted == nil:
		r.Counted = c
	default:
		r.Counted = &finding.Counted{
			Passed: r.Counted.Passed + c.Passed, Failed: r.Counted.Failed + c.Failed, Skipped: r.Counted.Skipped + c.Skipped,
		}
	}
}

// Take reads a line, as it was printed.
func (r *Reader) Take(text []byte) {
	r.line++
	if r.sarif != nil {
		r.document(r.sarif, text)
		return
	}
	if r.line <= 4 && bytes.Contains(text, []byte("sarif")) && (text[0] == '{' || r.lasts > 0 && r.last[0] == "{") {
		r.sarif = bytes.NewBufferString(strings.Join(r.last[:min(r.lasts, lastLines)], "\n"))
		r.lasts = 0
		r.document(r.sarif, text)
		return
	}
	if r.inXML > 0 || bytes.Contains(text, []byte("<testsuite")) && bytes.HasPrefix(bytes.TrimLeft(text, "\ufeff \t"), []byte("<")) {
		r.suites(text)
		return
	}
	if text[0] == '{' && bytes.Contains(text, []byte(`"Action":`)) {
		if e, ok := suites.ReadGoEvent(text); ok {
			r.event(e)
			return
		}
	}
	if bytes.IndexByte(text, 0) >= 0 {
		return // no text
	}
	r.plain(strings.TrimRight(plain(string(text)), " \t\r\n"))
}

// document keeps a part of a document that stands in the output.
func (r *Reader) document(into *bytes.Buffer, text []byte) {
	if into.Len()+len(text) <= maxDocument {
		into.Write(text)
	}
}

// suites keeps lines of JUnit XML until the outermost suite ends, and reads it then.
func (r *Reader) suites(text []byte) {
	r.document(&r.xml, text)
	r.inXML += bytes.Count(text, []byte("<testsuite")) - bytes.Count(text, []byte("</testsuite"))
	for _, tag := range bytes.Split(text, []byte("<testsuite"))[1:] {
		if end := bytes.IndexByte(tag, '>'); end > 0 && tag[end-1] == '/' {
			r.inXML--
		}
	}
	if r.inXML <= 0 {
		r.readSuites()
	}
}

func (r *Reader) readSuites() {
	tests, err := suites.ReadJUnit(&r.xml)
	r.report.Tests = append(r.report.Tests, tests...)
	if err != nil {
		r.report.Notes = append(r.report.Notes, fmt.Sprintf("the JUnit XML in the output can be read only in part: %v", err))
	}
	r.inXML = 0
	r.xml.Reset()
}

// event takes an event of the Go test JSON stream. What a test prints is the
// test's; what builds and packages print is read like any output.
func (r *Reader) event(e suites.GoEvent) {
	r.gotest.Event(e)
	if e.Output == "" {
		return
	}
	line := strings.TrimRight(plain(e.Output), " \t\r\n")
	if e.Action == "build-output" || e.Test == "" {
		r.plain(line)
	} else {
		r.keep(line)
	}
}

// keep remembers a line as one of the last.
func (r *Reader) keep(line string) {
	if line != "" {
		r.last[r.lasts%lastLines] = line
		r.lasts++
	}
}

// plain reads a line of text without its end.
func (r *Reader) plain(line string) {
	r.keep(line)
	for _, runner := range r.runners {
		runner.Take(line)
	}
	if r.tap.Seen || strings.HasPrefix(line, "TAP version ") {
		if r.tap.Take(line) {
			return
		}
		if passed, ok := strings.CutPrefix(strings.TrimLeft(line, " "), "# "); ok {
			line = passed // what was printed, as a runner passes it on
		}
	}
	if r.pending != nil && r.follow(line) {
		return
	}
	before := r.pending
	if r.stack.Take(line) {
		return
	}
	// What ended may have been no stack, but something whose place follows here.
	if r.pending != before && r.pending != nil && r.follow(line) {
		return
	}
	r.known(line)
}

// known reads a line that stands for itself.
func (r *Reader) known(line string) {
	p, f, at, ok := r.index.find(line)
	if !ok {
		r.watched(line)
		r.heading(line)
		return
	}
	r.settle()
	if p.under {
		at.file = r.header
	}
	if p.head || p.look > 0 && at.file == "" {
		r.pending, r.waiting, r.at, r.looked = p, f, at, 0
		return
	}
	r.put(f, at)
}

// follow looks for the text or the place of a finding that was begun; it is true
// for a line that is no more than that.
func (r *Reader) follow(line string) bool {
	p := r.pending
	if p.head {
		if line == "" {
			return false
		}
		r.waiting.Text = strings.TrimSpace(line)
		if p.says != "" {
			r.waiting.Text = p.says
		}
		r.settle()
		return true
	}
	if at, ok := p.where(line); ok {
		if r.at.file == "" && !finding.InRuntime(at.file) {
			r.at = at
			r.settle()
		}
		return true
	}
	if r.looked++; r.looked >= p.look {
		r.settle()
	}
	return false
}

// settle hands over the finding that was begun.
func (r *Reader) settle() {
	if r.pending != nil {
		r.put(r.waiting, r.at)
		r.pending = nil
	}
}

// flush ends what the end of the output leaves open.
func (r *Reader) flush() {
	r.settle()
	r.stack.End()
	r.stack.first = ""
	if r.inXML > 0 {
		r.readSuites()
	}
	if r.sarif != nil {
		if err := readSARIF(r.sarif, &r.sink); err != nil {
			r.report.Notes = append(r.report.Notes, fmt.Sprintf("the output can be read only in part: %v", err))
		}
		r.sarif = nil
	}
	r.line, r.header = 0, ""
}

// crashed takes a stack that was read.
func (r *Reader) crashed(c finding.Crash, tool string) {
	c.Text = r.ours(c.Text)
	for i := range c.Frames {
		c.Frames[i] = r.ours(c.Frames[i])
	}
	if pkg, version := namedIn(c.Text); pkg != "" {
		c.Package, c.Version = pkg, version
	}
	if r.report.Crash == nil {
		r.report.Crash = &c
	}
	r.Add(finding.Finding{Kind: finding.Failure, Tool: tool, Text: c.Text, Place: c.Place, Package: c.Package, Version: c.Version})
}

// absent are the words by which runtimes name a package that they do not find.
var absent = lazyregexp.New(
	`(?:Cannot find (?:module|package)|(?:Can't|Could not) resolve|No module named|cannot load such file --|no required module ` +
		`provides package) ['"]?((?:@[\w-]+/)?[\w-][\w.-]*)`,
)

// namedIn is the package that an error's text names as what is wrong.
func namedIn(text string) (pkg, version string) {
	if pkg, version = finding.PackageOf(text); pkg != "" {
		return pkg, version
	}
	if m := absent.FindStringSubmatch(text); m != nil {
		return m[1], ""
	}
	return "", ""
}

// watched counts a line by the project's own patterns.
func (r *Reader) watched(line string) {
	for _, w := range r.Watch {
		m := w.Pattern.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		text := line
		if i := w.Pattern.SubexpIndex("text"); i > 0 {
			text = m[i]
		}
		r.put(finding.Finding{Kind: w.Kind, Tool: "watch", Text: text}, spot{})
		return
	}
}

// lonePath is a line that names a file and says nothing else.
var lonePath = lazyregexp.New(`^(?:/|[A-Za-z]:\\)?[\w@.+/\\-]+\.\w+$`)

func (r *Reader) heading(line string) {
	if len(line) > 2 && len(line) < 400 && !strings.Contains(line, " ") && lonePath.MatchString(line) {
		r.header = line
	}
}

// compilers are the tools that write what others write alike, by the files that
// they write of.
var compilers = map[string]string{
	".rs": "rustc", ".rb": "ruby", ".ex": "mix", ".exs": "mix", ".c": "cc", ".h": "cc", ".cc": "cc", ".cpp": "cc",
	".py": "python", ".kt": "kotlin",
}
