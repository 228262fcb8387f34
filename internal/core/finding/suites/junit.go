package suites

import (
	"encoding/xml"
	"errors"
	"io"
	"path"
	"strings"

	"bellwether/internal/core/finding"
)

// ReadJUnit reads results in the XML that JUnit made common: suites, cases, failure,
// error and skipped. What was read before a mistake in the XML is kept; the error
// tells of it.
func ReadJUnit(r io.Reader) (tests []finding.Test, err error) {
	d := lenient(r)
	var names []string // of the suites around
	var now *junitCase
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return tests, nil
		}
		if err != nil {
			return tests, err
		}
		switch t := token.(type) {
		case xml.StartElement:
			switch t.Name.Local {
			case "testsuite":
				names = append(names, attribute(t, "name"))
			case "testcase":
				now = newJUnitCase(t, names)
			case "failure", "error", "skipped":
				if now != nil {
					now.ended(t)
				}
			}
		case xml.CharData:
			if now != nil && now.inside {
				now.text.Write(t)
			}
		case xml.EndElement:
			switch {
			case t.Name.Local == "testsuite" && len(names) > 0:
				names = names[:len(names)-1]
			case t.Name.Local == "testcase" && now != nil:
				tests = append(tests, now.test())
				now = nil
			case now != nil:
				now.inside = false
			}
		}
	}
}

// lenient reads XML that is not quite right, and takes every encoding for UTF-8.
func lenient(r io.Reader) *xml.Decoder {
	d := xml.NewDecoder(r)
	d.Strict = false
	d.CharsetReader = func(_ string, input io.Reader) (io.Reader, error) { return input, nil }
	return d
}

// junitCase is a test case while it is read.
type junitCase struct {
	finding.Test
	text   strings.Builder // of its failure
	inside bool
}

func newJUnitCase(t xml.StartElement, suites []string) *junitCase {
	c := &junitCase{Test: finding.Test{Name: attribute(t, "name"), Passed: true}}
	group := attribute(t, "classname")
	if group == "" && len(suites) > 0 {
		group = suites[len(suites)-1]
	}
	if group != "" && !strings.HasPrefix(c.Name, group) {
		c.Name = group + " > " + c.Name
	}
	if file := attribute(t, "file"); file != "" {
		c.Place = path.Clean(strings.ReplaceAll(file, "\\", "/"))
		if line := attribute(t, "line"); line != "" {
			c.Place += ":" + line
		}
	}
	return c
}

func (c *junitCase) ended(t xml.StartElement) {
	c.inside = true
	if t.Name.Local == "skipped" {
		c.Skipped = true
		return
	}
	c.Passed, c.Message = false, attribute(t, "message")
}

// test is the case as a whole. Of a failure without a message the first line
// counts that says something.
func (c *junitCase) test() finding.Test {
	if c.Passed {
		c.Place = ""
	} else if c.Message == "" {
		c.Message = causeIn(c.text.String())
	} else {
		c.Message = causeIn(c.Message)
	}
	return c.Test
}

// causeIn are the first lines of what went wrong, up to a stack.
func causeIn(text string) string {
	var lines []string
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if len(lines) > 0 && (placeIn(line) != "" || strings.HasPrefix(line, "Stack:")) || len(lines) == MaxCause {
			break
		}
		if line != "" {
			lines = append(lines, line)
		}
	}
	return strings.Join(lines, "\n")
}

func firstLine(text string) string {
	for line := range strings.Lines(text) {
		if line = strings.TrimSpace(line); line != "" {
			return line
		}
	}
	return ""
}

func attribute(t xml.StartElement, name string) string {
	for _, a := range t.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}
