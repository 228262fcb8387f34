package printed

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/finding/suites"
)

// goStream is what "go test -json" printed of four packages, without times.
const goStream = `some tool's own words
{"ImportPath":"own.example/x/c [own.example/x/c.test]","Action":"build-output","Output":"# own.example/x/c [own.example/x/c.test]\n"}
{"ImportPath":"own.example/x/c [own.example/x/c.test]","Action":"build-output","Output":"c/c_test.go:3:29: undefined: undefined\n"}
{"ImportPath":"own.example/x/c [own.example/x/c.test]","Action":"build-fail"}
{"Action":"start","Package":"own.example/x"}
{"Action":"run","Package":"own.example/x","Test":"TestOne"}
{"Action":"output","Package":"own.example/x","Test":"TestOne","Output":"=== RUN   TestOne\n"}
{"Action":"run","Package":"own.example/x","Test":"TestOne/sub_a"}
{"Action":"output","Package":"own.example/x","Test":"TestOne/sub_a","Output":"    a_test.go:3: wet feet: 3\n"}
{"Action":"output","Package":"own.example/x","Test":"TestOne/sub_a","Output":"    --- FAIL: TestOne/sub_a (0.00s)\n"}
{"Action":"fail","Package":"own.example/x","Test":"TestOne/sub_a","Elapsed":0}
{"Action":"pass","Package":"own.example/x","Test":"TestOne/dry","Elapsed":0}
{"Action":"fail","Package":"own.example/x","Test":"TestOne","Elapsed":0}
{"Action":"skip","Package":"own.example/x","Test":"TestSkip","Elapsed":0}
{"Action":"pass","Package":"own.example/x","Test":"TestGroup/one","Elapsed":0}
{"Action":"pass","Package":"own.example/x","Test":"TestGroup","Elapsed":0}
{"Action":"fail","Package":"own.example/x","Elapsed":0.004}
{"Action":"run","Package":"own.example/x/b","Test":"TestPanic"}
{"Action":"output","Package":"own.example/x/b","Test":"TestPanic","Output":"--- FAIL: TestPanic (0.00s)\n"}
{"Action":"output","Package":"own.example/x/b","Test":"TestPanic","Output":"panic: assignment to entry in nil map [recovered]\n"}
{"Action":"output","Package":"own.example/x/b","Test":"TestPanic","Output":"\t/usr/local/go/src/testing/testing.go:1974 +0x232\n"}
{"Action":"output","Package":"own.example/x/b","Test":"TestPanic","Output":"\ttide/b/b_test.go:3 +0x28\n"}
{"Action":"fail","Package":"own.example/x/b","Test":"TestPanic","Elapsed":0}
{"Action":"fail","Package":"own.example/x/b","Elapsed":0.005}
{"Action":"fail","Package":"own.example/x/c","Elapsed":0,"FailedBuild":"own.example/x/c [own.example/x/c.test]"}
{"Action":"output","Package":"own.example/x/d","Output":"no tide table found\n"}
{"Action":"fail","Package":"own.example/x/d","Elapsed":0.001}
{"Action":"skip","Package":"own.example/x/e","Elapsed":0}
`

func TestReadGoTest(t *testing.T) {
	assert.Equal(t, []finding.Test{
		{Name: "own.example/x > TestOne > sub_a", Message: "wet feet: 3", Place: "tide/a_test.go:3"},
		{Name: "own.example/x > TestOne > dry", Passed: true},
		{Name: "own.example/x > TestSkip", Passed: true, Skipped: true},
		{Name: "own.example/x > TestGroup > one", Passed: true},
		{Name: "own.example/x/b > TestPanic", Message: "panic: assignment to entry in nil map [recovered]", Place: "tide/b/b_test.go:3"},
		{Name: "own.example/x/c > (build)", Message: "undefined: undefined", Place: "tide/c/c_test.go:3:29"},
		{Name: "own.example/x/d > (package)", Message: "no tide table found"},
	}, read(t, goStream, Source{Root: "own.example/x", Dir: "tide"}).Tests)
	assert.Empty(t, read(t, "{}\n{\"Time\":1}\n", Source{}).Tests)
}

func TestFindings(t *testing.T) {
	tide := Source{Dir: "tide"}
	before := read(t, "# own.example/x\nvet: ./a.go:3:4: this is odd\n/usr/x.go:1:1: not ours\nb.go:7: so is this\n", tide).Findings
	assert.Equal(
		t, []string{"failure of go: this is odd at tide/a.go:3:4", "failure of go: not ours", "failure of go: so is this at tide/b.go:7"},
		tell(before),
	)
	after := read(t, "a.go:9:4: this is odd\nb.go:7: so is this\nb.go:8: so is this\n", tide).Findings
	assert.Equal(t, []string{"failure of go: so is this at tide/b.go:7"}, tell(finding.Missing(after, before)), "lines move, and counts count")
}

func tell(all []finding.Finding) (lines []string) {
	for _, f := range all {
		lines = append(lines, told(f))
	}
	return lines
}

func FuzzReader(f *testing.F) {
	f.Add(goStream)
	f.Add(nodeTAP)
	f.Add("<testsuites><testsuite name='a'><testcase name='b'><failure>x</failure></testcase>")
	f.Add("{\"$schema\": \"sarif\", \"runs\": [{}]}")
	f.Add("Error: x\n    at f (/s/a.js:1:2)\n  [cause]: Error: y\nTraceback (most recent call last):\n  File \"a\", line 1\nX: y\n")
	f.Add("<TestRun><UnitTestResult testName='a' outcome='Failed'/></TestRun>")
	printed, _ := filepath.Glob("testdata/runners/*.txt")
	for _, name := range printed {
		if text, err := os.ReadFile(name); err == nil {
			f.Add(string(text))
		}
	}
	f.Fuzz(func(t *testing.T, text string) {
		r := NewReader(Source{Root: "own.example/x", Dir: ".", Scratch: "/s"})
		if err := r.Output(strings.NewReader(text)); err != nil {
			t.Fatal(err)
		}
		r.Results("results", strings.NewReader(text))
		report := r.Report()
		for _, test := range report.Tests {
			if strings.Contains(test.Name, suites.PytestHeld) || strings.Count(test.Message, "\n") > suites.MaxCause {
				t.Fatalf("%+v", test)
			}
		}
		for _, f := range report.Findings {
			if f.Text == "" || f.Count < 1 || f.Kind == "" {
				t.Fatalf("%+v", f)
			}
		}
	})
}
