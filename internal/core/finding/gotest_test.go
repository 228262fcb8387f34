package finding

import (
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
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
	assert.Equal(t, []Test{
		{Name: "own.example/x > TestOne > sub_a", Message: "wet feet: 3", Place: "tide/a_test.go:3"},
		{Name: "own.example/x > TestOne > dry", Passed: true},
		{Name: "own.example/x > TestSkip", Passed: true, Skipped: true},
		{Name: "own.example/x > TestGroup > one", Passed: true},
		{Name: "own.example/x/b > TestPanic", Message: "panic: assignment to entry in nil map [recovered]", Place: "tide/b/b_test.go:3"},
		{Name: "own.example/x/c > (build)", Message: "undefined: undefined", Place: "tide/c/c_test.go:3:29"},
		{Name: "own.example/x/d > (package)", Message: "no tide table found"},
	}, ReadTests(goStream, "own.example/x", "tide"))
	assert.Contains(t, Readable(goStream), "=== RUN   TestOne\n    a_test.go:3: wet feet: 3\n")
	assert.Equal(t, "as it is\n", Readable("as it is\n"))
	_, ok := ReadGoTest(strings.NewReader("{}\n{\"Time\":1}\n"), path.Clean)
	assert.False(t, ok)
}

func TestFindings(t *testing.T) {
	before := ReadFindings("# own.example/x\nvet: ./a.go:3:4: this is odd\n/usr/x.go:1:1: not ours\nb.go:7: so is this\n", "tide")
	assert.Equal(t, []Finding{{"tide/a.go:3:4", "this is odd"}, {"tide/b.go:7", "so is this"}}, before)
	after := ReadFindings("a.go:9:4: this is odd\nb.go:7: so is this\nb.go:8: so is this\n", "tide")
	assert.Equal(t, []Finding{{"tide/b.go:8", "so is this"}}, newFindings(before, after), "lines move, and counts count")
}

func FuzzReadGoTest(f *testing.F) {
	f.Add(goStream)
	f.Fuzz(func(t *testing.T, text string) {
		for _, test := range ReadTests(text, "own.example/x", ".") {
			assert.NotEmpty(t, test.Name)
		}
		ReadFindings(Readable(text), ".")
	})
}
