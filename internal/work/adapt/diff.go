package adapt

import (
	"fmt"
	"io/fs"
	"strings"

	"bellwether/internal/core/charset"
	"bellwether/internal/core/merge"
	"bellwether/internal/core/model"
)

// Diff is edits as a unified diff.
func Diff(edits []model.FileEdit) string {
	var b strings.Builder
	for _, e := range edits {
		b.WriteString(diffOf(e))
	}
	return b.String()
}

// diffOf is the diff of one file; that of a file which is no text says only that it changes.
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
	end := ""
	if strings.Contains(e.File, " ") {
		end = "\t" // so that the name is read to its end
	}
	head := fmt.Sprintf("--- %s%s\n+++ %s%s\n", from, end, to, end)
	if err != nil || err2 != nil {
		return head
	}
	if diff := merge.Unified(before, after); diff != "" {
		return head + diff
	}
	return ""
}

// readFile reads a file of the project; nil bytes would mean that there is none.
func readFile(files fs.FS, name string) ([]byte, error) {
	data, err := fs.ReadFile(files, name)
	if err == nil && data == nil {
		data = []byte{}
	}
	return data, err
}
