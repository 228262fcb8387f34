package cli

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/standin/verdict"
)

// TestPages sees that the manual says what the commands say of themselves; -update writes it.
func TestPages(t *testing.T) {
	const folder = "../../docs/commands"
	want := map[string]string{}
	var add func(cmd *cobra.Command)
	add = func(cmd *cobra.Command) {
		want[pageName(cmd)] = page(cmd)
		for _, c := range cmd.Commands() {
			if c.Name() != "help" && c.Name() != "completion" {
				add(c)
			}
		}
	}
	root := (&app{}).root()
	add(root)
	if verdict.Updating() {
		require.NoError(t, os.RemoveAll(folder))
		require.NoError(t, os.MkdirAll(folder, 0o755))
		for name, text := range want {
			require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
		}
	}
	there, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Len(t, there, len(want), "a page for each command")
	for name, text := range want {
		data, err := os.ReadFile(filepath.Join(folder, name))
		require.NoError(t, err)
		assert.Equal(t, text, string(data), "%s: run the test with -args -update", name)
	}
}

// TestManual sees that the manual pages say what the commands say of themselves; -update writes them.
func TestManual(t *testing.T) {
	made := t.TempDir()
	root := (&app{}).root()
	root.InitDefaultHelpCmd()
	root.DisableAutoGenTag = true // the same program writes the same pages
	date := time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)
	heading := &doc.GenManHeader{Title: "BELLWETHER", Section: "1", Source: "bellwether", Manual: "Bellwether", Date: &date}
	require.NoError(t, doc.GenManTree(root, heading, made))
	if verdict.Updating() {
		require.NoError(t, os.RemoveAll("man1"))
		require.NoError(t, os.CopyFS("man1", os.DirFS(made)))
		return // what is built in is what was there before
	}
	written := filepath.Join(t.TempDir(), "new", "man1")
	var out, errs bytes.Buffer
	require.Zero(t, Main([]string{"man", written}, &out, &errs), errs.String())
	pages, err := os.ReadDir(made)
	require.NoError(t, err)
	there, err := os.ReadDir(written)
	require.NoError(t, err)
	assert.Len(t, there, len(pages), "a page for each command")
	for _, page := range pages {
		want, err := os.ReadFile(filepath.Join(made, page.Name()))
		require.NoError(t, err)
		got, err := os.ReadFile(filepath.Join(written, page.Name()))
		require.NoError(t, err)
		assert.Equal(t, string(want), string(got), "%s: run the test with -args -update", page.Name())
	}
}

// page is what a command says of itself, as a page of the manual in Markdown.
func page(cmd *cobra.Command) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n\n%s.\n\n%s\n\n    %s\n", cmd.CommandPath(), cmd.Short, strings.TrimSpace(cmd.Long), cmd.UseLine())
	if cmd.Example != "" {
		b.WriteString("\n## Examples\n\n")
		for line := range strings.Lines(cmd.Example) {
			b.WriteString("  " + line)
		}
		b.WriteString("\n")
	}
	if flags := flagRows(cmd.NonInheritedFlags()); flags != "" {
		b.WriteString("\n## Options\n\n| option | what it does |\n| --- | --- |\n" + flags)
	}
	var below []string
	for _, c := range cmd.Commands() {
		if !c.IsAvailableCommand() {
			continue
		}
		below = append(below, fmt.Sprintf("- [%s](%s): %s\n", c.CommandPath(), pageName(c), strings.ToLower(c.Short[:1])+c.Short[1:]))
	}
	if len(below) > 0 {
		b.WriteString("\n## Commands\n\n" + strings.Join(below, ""))
	}
	return b.String()
}

// pageName is the file of a command's page.
func pageName(cmd *cobra.Command) string {
	return strings.ReplaceAll(cmd.CommandPath(), " ", "-") + ".md"
}

// flagRows are the rows of a table of options.
func flagRows(flags *pflag.FlagSet) string {
	var b strings.Builder
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Name == "help" || f.Hidden {
			return
		}
		value, what := pflag.UnquoteUsage(f)
		name := "--" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", " + name
		}
		if value != "" {
			name += " " + value
		}
		if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "[]" && f.DefValue != "0" {
			what += " (" + f.DefValue + " if it is not given)"
		}
		fmt.Fprintf(&b, "| `%s` | %s |\n", name, strings.ReplaceAll(what, "|", "\\|"))
	})
	return b.String()
}
