package compat

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/charset"
	"bellwether/internal/core/lex"
	"bellwether/internal/core/pattern"
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

// spaced is code with other white space between its tokens, and with comments, wherever brackets
// are open, so that line ends mean nothing.
func spaced(lang *lex.Language, text string) string {
	comment := " /* wide */ "
	if lang.Name == "python" || lang.Name == "ruby" || lang.Name == "shell" {
		comment = " # wide\n  "
	}
	if lang.Name == "html" {
		return text
	}
	tokens := lex.Said(lex.Split(lang, text))
	var b strings.Builder
	var open []string
	at := 0
	for i, k := range tokens {
		word := k.Of(text)
		inside := len(open) > 0 && open[len(open)-1] != "<" && i > 0 && tokens[i-1].End <= k.Start
		if inside && strings.Contains(",)]}", word) {
			b.WriteString(text[at:k.Start] + comment)
			at = k.Start
		}
		switch {
		case k.Pair > i && strings.Contains("([{<", word[:1]):
			open = append(open, word[:1])
		case k.Pair >= 0 && k.Pair < i && len(open) > 0:
			open = open[:len(open)-1]
		}
		b.WriteString(text[at:k.End])
		at = k.End
	}
	return b.String() + text[at:]
}

// TestPatternsInOtherSpacing sees that white space and comments between tokens change nothing of
// what patterns do.
func TestPatternsInOtherSpacing(t *testing.T) {
	tried := 0
	for _, r := range repairs(t) {
		if _, shape := r.Repair.Body.(*rewrite.Shape); !shape {
			continue
		}
		for _, e := range r.Repair.Examples {
			lang := lex.Of(e.File)
			wide := spaced(lang, e.Before)
			if wide == e.Before || slices.Contains([]string{"dockerfile", "yaml", "json", "makefile", "php"}, lang.Name) {
				continue
			}
			got := string(rewritten(t, r, e.File, []byte(wide)))
			assert.Equal(t, pattern.Tokens(lang, e.After), pattern.Tokens(lang, got), "%s:%d: %s\nof\n%s", r.File, e.Line, got, wide)
			tried++
		}
	}
	assert.Greater(t, tried, 15)
}
