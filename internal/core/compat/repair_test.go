package compat

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/charset"
	"bellwether/internal/core/rewrite"
)

// repairs are the rules of all books in testdata/repairs. Each carries its cases as examples.
func repairs(t *testing.T) (rules []*Rule) {
	t.Helper()
	files, err := filepath.Glob("testdata/repairs/*.yaml")
	require.NoError(t, err)
	for _, file := range files {
		src, err := os.ReadFile(file)
		require.NoError(t, err)
		b, faults := Parse(file, src, orders)
		for _, f := range faults {
			t.Error(f)
		}
		rules = append(rules, b.Rules...)
	}
	return rules
}

// TestRepairs runs every case: what it becomes, and that a second time changes nothing.
func TestRepairs(t *testing.T) {
	cases := 0
	languages := map[string]bool{}
	for _, r := range repairs(t) {
		problems, err := r.Repair.CheckExamples(context.Background())
		require.NoError(t, err, r.ID)
		for _, p := range problems {
			t.Errorf("%s:%d: %s: %s", r.File, p.Line, r.ID, p.Text)
		}
		for _, e := range r.Repair.Examples {
			cases++
			languages[filepath.Ext(e.File)] = true
		}
	}
	t.Logf("%d cases, %d kinds of files", cases, len(languages))
}

// TestManual runs the examples of the manual.
func TestManual(t *testing.T) {
	manual, err := os.ReadFile("../../../docs/rules.md")
	require.NoError(t, err)
	rules := 0
	for _, m := range regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllSubmatch(manual, -1) {
		b, faults := Parse("docs/rules.md", m[1], orders)
		for _, f := range faults {
			t.Error(f)
		}
		remarks, err := Check(context.Background(), b, orders)
		require.NoError(t, err)
		for _, r := range remarks {
			t.Errorf("%s: %s\n%s", r.Rule.ID, r.Text, strings.Join(r.Lines, "\n"))
		}
		rules += len(b.Rules)
	}
	assert.GreaterOrEqual(t, rules, 22)
}

// rewritten applies a rule to one file's bytes.
func rewritten(t *testing.T, r *Rule, name string, data []byte) []byte {
	t.Helper()
	result, err := rewrite.Run(context.Background(), []*rewrite.Rule{r.Repair}, rewrite.Input{
		Names: []string{name}, Read: func(string) ([]byte, error) { return data, nil },
	})
	require.NoError(t, err)
	for _, e := range result.Edits {
		if e.File == name {
			return e.New
		}
	}
	return data
}

// TestRepairsInOtherWriting sees that line ends, encodings and a missing end of the last line
// make no difference, and stay.
func TestRepairsInOtherWriting(t *testing.T) {
	for _, r := range repairs(t) {
		switch r.Repair.Body.(type) {
		case *rewrite.Move, *rewrite.ToDo:
			continue
		}
		for _, e := range r.Repair.Examples {
			if e.After == "" || e.Before == e.After {
				continue
			}
			crlf := func(text string) []byte { return []byte(strings.ReplaceAll(text, "\n", "\r\n")) }
			wide := func(text string) []byte {
				data, err := charset.Encode(text, charset.UTF16LE)
				require.NoError(t, err)
				return data
			}
			marked := func(text string) []byte { return append([]byte("\xef\xbb\xbf"), text...) }
			bare := func(text string) []byte { return []byte(strings.TrimRight(text, "\n")) }
			for name, write := range map[string]func(string) []byte{"CRLF": crlf, "UTF-16": wide, "a byte order mark": marked} {
				if strings.Contains(e.Before, "\\\n") && name == "CRLF" {
					continue
				}
				got := rewritten(t, r, e.File, write(e.Before))
				assert.Equal(t, string(write(e.After)), string(got), "%s:%d with %s", r.File, e.Line, name)
			}
			if _, line := r.Repair.Body.(*rewrite.Line); !line && strings.HasSuffix(e.Before, "\n") &&
				!bytes.Contains(bare(e.Before), []byte("<<")) {
				got := rewritten(t, r, e.File, bare(e.Before))
				assert.Equal(
					t,
					string(bare(e.After)),
					string(bytes.TrimRight(got, "\n")),
					"%s:%d without the last line end",
					r.File,
					e.Line,
				)
			}
		}
	}
}
