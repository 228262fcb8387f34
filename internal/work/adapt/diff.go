package adapt

import (
	"fmt"
	"io/fs"
	"strings"

	"github.com/pmezard/go-difflib/difflib"

	"bellwether/internal/core/charset"
	"bellwether/internal/core/model"
)

// around is how many lines of a file stand around a change.
const around = 3

// Diff is edits as a unified diff.
func Diff(edits []model.FileEdit) string {
	var b strings.Builder
	for _, e := range edits {
		b.WriteString(diffOf(e))
	}
	return b.String()
}

// diffOf is the diff of one file. The lines that are the same at both ends are left out before
// lines are compared with each other, which takes its time.
func diffOf(e model.FileEdit) string {
	before, _, err := charset.Decode(e.Old)
	after, _, err2 := charset.Decode(e.New)
	from, to := "a/"+e.File, "b/"+e.File
	if e.Old == nil {
		from = "/dev/null"
	}
	if e.New == nil {
		to = "/dev/null"
	}
	if err != nil || err2 != nil {
		return fmt.Sprintf("--- %s\n+++ %s\n", from, to)
	}
	a, b := lines(before), lines(after)
	head := 0
	for head < len(a) && head < len(b) && a[head] == b[head] {
		head++
	}
	tail := 0
	for tail < len(a)-head && tail < len(b)-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	head, tail = max(0, head-around), max(0, tail-around)
	text, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{
		A: a[head : len(a)-tail], B: b[head : len(b)-tail], FromFile: from, ToFile: to, Context: around,
	})
	if err != nil || head == 0 {
		return text
	}
	return shifted(text, head)
}

// lines are a text's lines with their ends; the last one has one in any case.
func lines(text string) []string {
	all := strings.SplitAfter(text, "\n")
	if last := len(all) - 1; all[last] == "" {
		return all[:last]
	}
	all[len(all)-1] += "\n\\ No newline at end of file\n"
	return all
}

// shifted is a diff of which the first lines were left out.
func shifted(diff string, by int) string {
	var b strings.Builder
	for line := range strings.Lines(diff) {
		var a, an, c, cn int
		switch {
		case !strings.HasPrefix(line, "@@ "):
		case scan(line, "@@ -%d,%d +%d,%d @@", &a, &an, &c, &cn):
			line = fmt.Sprintf("@@ -%d,%d +%d,%d @@\n", a+by, an, c+by, cn)
		case scan(line, "@@ -%d +%d,%d @@", &a, &c, &cn):
			line = fmt.Sprintf("@@ -%d +%d,%d @@\n", a+by, c+by, cn)
		case scan(line, "@@ -%d,%d +%d @@", &a, &an, &c):
			line = fmt.Sprintf("@@ -%d,%d +%d @@\n", a+by, an, c+by)
		case scan(line, "@@ -%d +%d @@", &a, &c):
			line = fmt.Sprintf("@@ -%d +%d @@\n", a+by, c+by)
		}
		b.WriteString(line)
	}
	return b.String()
}

func scan(line, form string, into ...any) bool {
	n, err := fmt.Sscanf(line, form, into...)
	return err == nil && n == len(into)
}

// readFile reads a file of the project; nil bytes would mean that there is none.
func readFile(files fs.FS, name string) ([]byte, error) {
	data, err := fs.ReadFile(files, name)
	if err == nil && data == nil {
		data = []byte{}
	}
	return data, err
}
