package finding

import (
	"path"
	"regexp"
	"slices"
	"strings"
)

// ReadTests reads the results of tests, one by one, in whichever standard
// stream a text holds: TAP, or the Go test JSON stream. Packages are named by
// paths that begin with root, which lies in the folder dir of the project.
func ReadTests(text, root, dir string) []Test {
	if tests, ok := ReadTAP(strings.NewReader(text)); ok {
		return tests
	}
	tests, _ := ReadGoTest(strings.NewReader(text), func(pkg string) string {
		return path.Join(dir, strings.TrimPrefix(pkg, root))
	})
	return tests
}

// Readable is what a person would have seen of a text, where that is a stream
// made for programs.
func Readable(text string) string {
	var b strings.Builder
	stream := false
	eachGoEvent(strings.NewReader(text), func(e goEvent) {
		stream = true
		b.WriteString(e.Output)
	})
	if !stream {
		return text
	}
	return b.String()
}

// Finding is something that a compiler or checker says of a place.
type Finding struct {
	Place string `json:"place"` // "file:line:column"
	Text  string `json:"text"`
}

// maxFindings bounds how many are kept of one stage.
const maxFindings = 200

var placed = regexp.MustCompile(`^(?:\w+: )?([^\s:()]+\.\w+):(\d+)(:\d+)?:? (\S.*)$`)

// ReadFindings reads lines of the form "file:line:column: text" (GNU Coding
// Standards, "Formatting Error Messages"), with files relative to dir. Each is
// told once.
func ReadFindings(text, dir string) []Finding {
	var all []Finding
	for line := range strings.Lines(text) {
		m := placed.FindStringSubmatch(strings.TrimRight(plain(line), "\r\n"))
		if m == nil || path.IsAbs(m[1]) || len(all) == maxFindings {
			continue
		}
		f := Finding{Place: path.Join(dir, m[1]) + ":" + m[2] + m[3], Text: m[4]}
		if !slices.Contains(all, f) {
			all = append(all, f)
		}
	}
	return all
}

// file is the place without line and column.
func (f Finding) file() string {
	name, _, _ := strings.Cut(f.Place, ":")
	return name
}

// newFindings are those of after that before did not have. Lines move, so that
// only file and text count.
func newFindings(before, after []Finding) []Finding {
	left := map[[2]string]int{}
	for _, f := range before {
		left[[2]string{f.file(), f.Text}]++
	}
	var fresh []Finding
	for _, f := range after {
		key := [2]string{f.file(), f.Text}
		if left[key] > 0 {
			left[key]--
			continue
		}
		fresh = append(fresh, f)
	}
	return fresh
}
