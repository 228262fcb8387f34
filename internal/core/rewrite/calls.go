package rewrite

import (
	"fmt"
	"path"

	"bellwether/internal/core/lex"
	"bellwether/internal/core/pattern"
	"bellwether/internal/core/rewrite/source"
)

// scriptCalls lists where a script of a manifest is called with words that make its command line one that a rule is about: the program
// stands in one file then, and what it is called with in another. A to-do's text says what there is to do.
func (b *Shape) scriptCalls(r *Rule, t *state, o *Outcome) {
	shell := b.of(lex.Named("shell"))
	if shell.err != nil {
		return
	}
	scripts := t.scripts(r)
	there := func(name string) bool { return len(scripts[name]) > 0 }
	for _, name := range t.names() {
		if len(scripts) == 0 {
			break
		}
		f := t.glance(name, []string{"npm ", "yarn "}) // the first stands in "pnpm ", too
		if f == nil || Matches(r.Except, name) {
			continue
		}
		for _, call := range source.ScriptCalls(f.Text, there) {
			if reason := shell.called(r, call, scripts[call.Script]); reason != "" {
				o.Left = append(o.Left, Left{name, f.Line(call.At), reason})
			}
		}
	}
}

// script is one of a manifest's, with its command line.
type script struct{ file, line string }

// called says what a rule has to do with the call of a script, empty for nothing. Which manifest's script is meant is not known
// where several have one of its name.
func (s *shaped) called(r *Rule, call source.ScriptCall, scripts []script) string {
	for _, one := range scripts {
		line := one.line + " " + call.More
		if s.matches(one.line) || !s.matches(line) {
			continue
		}
		which := fmt.Sprintf("the script %s is called here", call.Script)
		if len(scripts) > 1 {
			which = fmt.Sprintf("the script %s of %s may be called here", call.Script, one.file)
		}
		if todo, ok := r.Body.(*ToDo); ok {
			return fmt.Sprintf("%s, which runs %s: %s", which, one.line, todo.Text)
		}
		if next, n, err := pattern.Rewrite(s.find, s.put, s.where, line); err == nil && n > 0 {
			return fmt.Sprintf("%s, and has to run: %s", which, next)
		}
	}
	return ""
}

// matches tells whether a shell's pattern is somewhere in a command line.
func (s *shaped) matches(line string) bool {
	found, err := s.find.Find(pattern.NewSource(lex.Named("shell"), line), s.where)
	return err == nil && len(found) > 0
}

// scripts are the manifests' scripts as they are now, by their names.
func (t *state) scripts(r *Rule) map[string][]script {
	all := map[string][]script{}
	for _, name := range t.names() {
		if path.Base(name) != "package.json" || r.Within != nil && !r.Within(name) {
			continue
		}
		if f := t.glance(name, []string{"scripts"}); f != nil {
			for _, c := range f.Commands() {
				all[c.Name] = append(all[c.Name], script{name, c.Line})
			}
		}
	}
	return all
}
