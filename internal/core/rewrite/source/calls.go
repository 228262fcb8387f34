package source

import (
	"slices"
	"strings"

	"bellwether/internal/core/lazyregexp"
)

// ScriptCall is a call of a manifest's script by a package client, with words of its own for the script's command line.
type ScriptCall struct {
	At     int    // the offset of the call
	Script string // its name
	More   string // the words that go to the end of the script's command line
}

// clientCall is a package client with all that follows it on its command line, which may go on in the next line. It ends with the
// text that it stands in: a quote closes what began before the call, unless it opens a word.
var clientCall = lazyregexp.New(`\b(npm|pnpm|yarn)((?:[ \t]+|\\\r?\n)` +
	`(?:[ \t=]"[^"\n]*"|[ \t=]'[^'\n]*'|[^\n\\;|&"'` + "`" + `]|\\\r?\n|\\[^\r\n])*)`)

// ScriptCalls are the calls in a text of scripts that there are, where they add words. npm takes words after a "--" only, others
// take all that follow the name.
func ScriptCalls(text string, there func(script string) bool) (all []ScriptCall) {
	for _, m := range clientCall.FindAllStringSubmatchIndex(text, -1) {
		client, rest := text[m[2]:m[3]], strings.NewReplacer("\\\r\n", " ", "\\\n", " ").Replace(text[m[4]:m[5]])
		said := strings.Fields(rest)
		name := slices.IndexFunc(said, there)
		dashes := slices.Index(said, "--")
		if name < 0 || dashes >= 0 && dashes < name {
			continue
		}
		from := name + 1
		switch {
		case dashes >= 0:
			from = dashes + 1
		case client == "npm":
			continue
		}
		if from < len(said) {
			all = append(all, ScriptCall{m[0], said[name], strings.Join(said[from:], " ")})
		}
	}
	return all
}
