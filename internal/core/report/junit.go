package report

import (
	"encoding/xml"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/harmless"
)

// suites and what is in them are JUnit XML, in the form that continuous integration reads.
type suites struct {
	XMLName xml.Name `xml:"testsuites"`
	Name    string   `xml:"name,attr"`
	Suites  []suite  `xml:"testsuite"`
}

type suite struct {
	Name     string     `xml:"name,attr"`
	Tests    int        `xml:"tests,attr"`
	Failures int        `xml:"failures,attr"`
	Skipped  int        `xml:"skipped,attr"`
	Cases    []testCase `xml:"testcase"`
}

type testCase struct {
	Class   string   `xml:"classname,attr"`
	Name    string   `xml:"name,attr"`
	Failure *message `xml:"failure,omitempty"`
	Skipped *message `xml:"skipped,omitempty"`
}

type message struct {
	Text string `xml:"message,attr"`
}

// JUnit tells legs to continuous integration: what fails and did not before is a failure, what failed before is
// skipped with the reason.
func (r *Report) JUnit() ([]byte, error) {
	all := suites{Name: harmless.Line("route to " + strings.Join(r.Destination, ", "))}
	for _, l := range r.Legs {
		if l.Verification == nil {
			continue
		}
		s := suite{Name: harmless.Line("leg " + l.ID)}
		put := func(class, name string, failure, skipped string) {
			c := testCase{Class: harmless.Line(class), Name: harmless.Line(name)}
			switch {
			case failure != "":
				c.Failure = &message{harmless.Line(failure)}
				s.Failures++
			case skipped != "":
				c.Skipped = &message{harmless.Line(skipped)}
				s.Skipped++
			}
			s.Tests++
			s.Cases = append(s.Cases, c)
		}
		known := map[string]bool{}
		for _, t := range l.Comparison.StillFailing {
			known[t.Name] = true
		}
		for _, stage := range l.Verification.Stages {
			class := stage.Component + "/" + stage.Name
			broken := slices.ContainsFunc(l.Comparison.BrokenStages, func(b finding.Stage) bool {
				return b.Component == stage.Component && b.Name == stage.Name
			})
			switch {
			case broken:
				put(class, stage.Name, fmt.Sprintf("the stage %s, and did not before", stage.Status), "")
			case stage.Status == finding.Skipped || stage.Status == finding.NotRun:
				put(class, stage.Name, "", stage.Why)
			default:
				put(class, stage.Name, "", "")
			}
			for _, t := range stage.Tests {
				switch {
				case t.Failed() && known[t.Name]:
					put(class, t.Name, "", "it failed before, too: "+t.Message)
				case t.Failed():
					put(class, t.Name, "it did not fail before: "+t.Message, "")
				default:
					put(class, t.Name, "", "")
				}
			}
		}
		for _, name := range l.Comparison.Vanished {
			put("tests", name, "it ran before, and does not any more", "")
		}
		all.Suites = append(all.Suites, s)
	}
	text, err := xml.MarshalIndent(all, "", "  ")
	return append([]byte(xml.Header), append(text, '\n')...), err
}
