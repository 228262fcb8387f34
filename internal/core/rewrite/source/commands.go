package source

import (
	"encoding/json"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/keys"
	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/splice"
)

// Command is a command line that is a text within a file of another format.
type Command struct {
	Name string // of the manifest's script that it is; empty for others
	Line string // as a shell reads it
	// Put gives the edit that puts another line in its place.
	Put func(line string) (splice.Edit, error)
}

// Lists of words that are commands: in a container file (its exec form), and below the keys of compose files and of orchestrators
// that name a program.
var (
	containerLists = lazyregexp.New(`(?mi)^[ \t]*(?:(?:RUN|CMD|ENTRYPOINT|SHELL)|HEALTHCHECK[^\n]*\bCMD)[ \t]+(\[[^\n]*\])[ \t]*\r?$`)
	keyedLists     = lazyregexp.New(`(?m)^[ \t-]*(?:command|entrypoint|args|cmd|test)[ \t]*:[ \t]*(\[[^\n]*\])[ \t]*(?:#[^\n]*)?\r?$`)
)

// Commands are the command lines that a file of another format has: the scripts of a manifest, and lists of words.
func (f *File) Commands() (all []Command) {
	switch {
	case path.Base(f.Name) == "package.json":
		d, err := f.Config()
		if d == nil || err != nil {
			return nil
		}
		for _, e := range d.Find([]string{"scripts", "*"}) {
			put := func(line string) (splice.Edit, error) { return d.Set(e, keys.Value{Text: line}) }
			all = append(all, Command{e.Path[len(e.Path)-1], e.Text, put})
		}
	case f.Lang != nil && f.Lang.Name == "dockerfile":
		return f.lists(containerLists)
	case f.Lang != nil && f.Lang.Name == "yaml":
		return f.lists(keyedLists)
	}
	return all
}

// special are the characters that mean something to a shell.
const special = " \t\"$&|;<>()`\\*?[]#~{}"

// lists are commands that are lists of words.
func (f *File) lists(where *lazyregexp.Regexp) (all []Command) {
	for _, m := range where.FindAllStringSubmatchIndex(f.Text, -1) {
		list := f.Text[m[2]:m[3]]
		var words []string
		odd := func(w string) bool { return strings.ContainsAny(w, "'\n") }
		if yaml.Unmarshal([]byte(list), &words) != nil || slices.ContainsFunc(words, odd) {
			continue
		}
		for i, w := range words {
			if w == "" || strings.ContainsAny(w, special) {
				words[i] = "'" + w + "'"
			}
		}
		all = append(all, Command{"", strings.Join(words, " "), func(line string) (splice.Edit, error) {
			return splice.Edit{Start: m[2], End: m[3], New: listed(line, list)}, nil
		}})
	}
	return all
}

// listed is a command line as a list of words, written as another list is.
func listed(line, like string) string {
	var written []string
	for _, w := range words(line) {
		text := w
		if strings.ContainsAny(like, `"'`) || strings.ContainsAny(w, " ,:#[]{}\"'") || w == "" {
			if quoted, err := json.Marshal(w); err == nil {
				text = string(quoted)
			}
		}
		written = append(written, text)
	}
	if strings.Contains(like, ", ") {
		return "[" + strings.Join(written, ", ") + "]"
	}
	return "[" + strings.Join(written, ",") + "]"
}

// words are the words of a command line, without their single quotes.
func words(line string) (all []string) {
	word, quoted, open := "", false, false
	for _, r := range line {
		switch {
		case r == '\'':
			quoted, open = !quoted, true
		case (r == ' ' || r == '\t') && !quoted:
			if open {
				all = append(all, word)
			}
			word, open = "", false
		default:
			word += string(r)
			open = true
		}
	}
	if open {
		all = append(all, word)
	}
	return all
}
