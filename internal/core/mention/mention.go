// Package mention finds where a project's files mention names: as identifiers, imports, keys of
// configuration, options or names of files. Comments do not count.
package mention

import (
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/keys"
	"bellwether/internal/core/lex"
)

// Names are the names that are looked for.
type Names struct {
	byWord map[string][]string // by their longest run of letters and digits
}

// NewNames readies names.
func NewNames(names []string) *Names {
	n := &Names{byWord: map[string][]string{}}
	for _, name := range names {
		longest := ""
		eachWord(name, func(word string) {
			if len(word) > len(longest) {
				longest = word
			}
		})
		if longest != "" {
			n.byWord[longest] = append(n.byWord[longest], name)
		}
	}
	return n
}

// Empty tells whether there is nothing to look for.
func (n *Names) Empty() bool { return len(n.byWord) == 0 }

// In gives the lines in which a file mentions names, counted from 1; line 0 is the file's own
// name. A text of a language that is not known has none but its name.
func (n *Names) In(file, text string) map[string][]int {
	found := map[string][]int{}
	var here []string
	seen := map[string]bool{}
	eachWord(text, func(word string) {
		if names, ok := n.byWord[word]; ok && !seen[word] {
			seen[word] = true
			here = append(here, names...)
		}
	})
	eachWord(path.Base(file), func(word string) {
		for _, name := range n.byWord[word] {
			if path.Base(file) == name || strings.HasSuffix(file, "/"+strings.TrimPrefix(name, "./")) {
				found[name] = append(found[name], 0)
			}
		}
	})
	lang := lex.Of(file)
	if len(here) == 0 || lang == nil {
		return found
	}
	code := withoutComments(lang, text)
	nested := keysOf(file, text)
	for _, name := range here {
		if names := strings.Split(name, "."); len(names) > 1 {
			for _, e := range nested {
				if len(e.Path) >= len(names) && slices.Equal(e.Path[len(e.Path)-len(names):], names) {
					found[name] = append(found[name], e.Line)
				}
			}
		}
		for _, at := range places(code, name) {
			line := strings.Count(code[:at], "\n") + 1
			if !slices.Contains(found[name], line) {
				found[name] = append(found[name], line)
			}
		}
	}
	return found
}

// keysOf are the keys of a file of configuration.
func keysOf(file, text string) []*keys.Entry {
	format, ok := keys.FormatOf(file)
	if !ok {
		return nil
	}
	d, err := keys.Read(format, text)
	if err != nil {
		return nil
	}
	return d.Entries
}

// withoutComments is a text with blanks in the place of its comments.
func withoutComments(lang *lex.Language, text string) string {
	out := []byte(text)
	for _, t := range lex.Split(lang, text) {
		if t.Kind != lex.Comment {
			continue
		}
		for i := t.Start; i < t.End; i++ {
			if out[i] != '\n' {
				out[i] = ' '
			}
		}
	}
	return string(out)
}

// places are where a name stands in a text by itself, not as part of a longer one.
func places(text, name string) (all []int) {
	for from := 0; ; {
		at := strings.Index(text[from:], name)
		if at < 0 {
			return all
		}
		at += from
		from = at + len(name)
		before, after := byte(' '), byte(' ')
		if at > 0 {
			before = text[at-1]
		}
		if from < len(text) {
			after = text[from]
		}
		if wordy(before) && wordy(name[0]) || wordy(after) && wordy(name[len(name)-1]) || before == '-' || after == '-' {
			continue
		}
		all = append(all, at)
	}
}

func wordy(c byte) bool {
	return c == '_' || c == '$' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

// eachWord calls do for each run of letters and digits.
func eachWord(text string, do func(word string)) {
	for i := 0; i < len(text); {
		if !wordy(text[i]) || text[i] == '$' {
			i++
			continue
		}
		from := i
		for i < len(text) && wordy(text[i]) && text[i] != '$' {
			i++
		}
		do(text[from:i])
	}
}
