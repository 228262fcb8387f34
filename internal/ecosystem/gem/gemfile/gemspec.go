package gemfile

import (
	"path"
	"regexp"
	"slices"
	"strings"

	"bellwether/internal/core/lex"
)

// Development is the group of what a gemspec asks for for those who develop the gem.
const Development = "development"

// SpecDependencies are the dependencies that a gemspec declares. Where it declares one whose name is computed, that is
// noted. Others are the files that what it computes may stand in; nil where nothing computed is to be known.
func SpecDependencies(file, src string, others map[string][]byte) *Gemfile {
	g := newGemfile(file)
	r := newReader(file, src, g)
	r.others = others
	for i := 0; i < len(r.tokens); {
		if next := r.loop(i); next > 0 {
			i = next
			continue
		}
		r.enter(i)
		group, ok := map[string]string{
			"add_dependency": "runtime", "add_runtime_dependency": "runtime", "add_development_dependency": Development,
		}[r.text(i)]
		if !ok || r.text(i-1) != "." {
			i++
			continue
		}
		before := len(g.Gems)
		end := r.end(i)
		r.gem(i, end, arguments(r, i+1, end))
		for k := before; k < len(g.Gems); k++ {
			g.Gems[k].Group, g.Gems[k].Nested = group, true
		}
		i++
	}
	return g
}

// enter keeps count of the blocks that a token of a gemspec begins or ends. Of those a condition matters.
func (r *reader) enter(i int) {
	if r.tokens[i].Kind != lex.Word || r.text(i-1) == "." || r.text(i-1) == ":" || r.text(i+1) == ":" {
		return
	}
	switch word := r.text(i); word {
	case "if", "unless", "case":
		if r.newLine(i) || r.text(i-1) == "=" {
			r.blocks = append(r.blocks, block{kind: "condition"})
		}
	case "while", "until", "for":
		if r.newLine(i) {
			r.blocks = append(r.blocks, block{kind: "condition"})
		}
	case "do", "begin", "def", "class", "module":
		r.blocks = append(r.blocks, block{kind: word})
	case "end":
		if n := len(r.blocks); n > 0 {
			r.blocks = r.blocks[:n-1]
		}
	}
}

// SpecVersion is the version that a gemspec gives its gem: a text, a constant, a variable or a file that
// holds one, which are looked for among the other files; empty where it is computed in another way.
func SpecVersion(file, src string, others map[string][]byte) string {
	r := newReader(file, src, newGemfile(file))
	r.others = others
	for i := range r.tokens {
		if r.text(i) == "version" && r.text(i-1) == "." && r.text(i+1) == "=" {
			return r.value(i+2, r.end(i), maxSteps)
		}
	}
	for i := range r.tokens { // Gem::Specification.new "rope", "1.0.0" do |s|
		if r.text(i) == "Specification" && r.text(i+1) == "." && r.text(i+2) == "new" {
			if args := arguments(r, i+3, r.end(i+2)).strings(); len(args) > 1 {
				return args[1]
			}
		}
	}
	return ""
}

// maxSteps bounds how many variables lead to a value.
const maxSteps = 4

// value is the text that an expression of a gemspec stands for; empty where it is computed in a way that is not known.
func (r *reader) value(from, to, steps int) string {
	if !r.simple(from, to) {
		return ""
	}
	if r.plainString(from) {
		return unquoted(r.text(from))
	}
	last := ""
	for k := from; k < to; k++ {
		switch {
		case r.plainString(k): // File.read("VERSION")
			if text, ok := r.beside(unquoted(r.text(k))); ok {
				return text
			}
		case r.tokens[k].Kind == lex.Word && r.text(k-1) != "." || r.text(k-1) == "::":
			last = r.text(k)
		}
	}
	if to == from+1 && steps > 0 {
		for i := range r.tokens {
			if r.text(i) == last && r.text(i+1) == "=" && r.text(i-1) != "." && r.newLine(i) {
				return r.value(i+2, r.end(i), steps-1)
			}
		}
	}
	return constant(last, r.src, r.others)
}

// plainly are the methods that leave a text as it is, or read a file that is named.
var plainly = []string{"freeze", "dup", "to_s", "strip", "chomp", "read", "expand_path", "join", "dirname"}

// simple tells whether an expression is a name, a text or a file that is read: nothing is put together, chosen or changed in it.
func (r *reader) simple(from, to int) bool {
	for k := from; k < to; k++ {
		switch text := r.text(k); {
		case r.tokens[k].Kind == lex.Word:
			if r.text(k-1) == "." && k > from && !slices.Contains(plainly, text) {
				return false
			}
		case r.plainString(k):
		case !slices.Contains([]string{".", ":", "::", ",", "(", ")"}, text):
			return false
		}
	}
	return from < to
}

// beside is what a file holds that a gemspec names, from its own folder or, as with __FILE__, from its own name.
func (r *reader) beside(name string) (text string, ok bool) {
	dir := path.Dir(r.file)
	for _, at := range []string{path.Join(dir, name), path.Join(r.file, name), path.Join(dir, path.Base(name))} {
		if text, ok := r.others[at]; ok && path.Ext(at) != ".gemspec" {
			return strings.TrimSpace(string(text)), true
		}
	}
	return "", false
}

// constant is the text that a name is given anywhere, in the gemspec or in a file version.rb.
func constant(name, src string, others map[string][]byte) string {
	if name == "" {
		return ""
	}
	given := regexp.MustCompile(`(?m)^\s*(?:[A-Za-z]+::)*` + regexp.QuoteMeta(name) + `\s*=\s*["']([^"'#]*)["']`)
	if m := given.FindStringSubmatch(src); m != nil {
		return m[1]
	}
	found := ""
	for file, text := range others {
		if m := given.FindSubmatch(text); m != nil && path.Ext(file) == ".rb" {
			if found != "" && found != string(m[1]) {
				return "" // which of them is meant cannot be told
			}
			found = string(m[1])
		}
	}
	return found
}
