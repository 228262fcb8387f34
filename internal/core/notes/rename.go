package notes

import (
	"regexp"
	"strings"
)

const quotedName = "(?:``([^`]+)``|`([^`]+)`|\"([^\"\\s]+)\"|'([^'\\s]+)')"

// renames are the sentences that plainly state another name, with the old and the new one in
// quotes or code font. Swapped has the new one first.
var renames = []struct {
	form    *regexp.Regexp
	swapped bool
}{
	{regexp.MustCompile(`(?i)` + quotedName + `[^.;` + "`" + `]{0,40}?\b(?:is now(?: called| named)?|(?:is|was|has been|have been|were|are)(?: now)? (?:renamed|moved|changed)(?: in)?(?: to| as| into)|became|becomes|(?:is|was|has been|been) replaced (?:by|with)|renamed (?:to|as)|moved to)\s+(?:the\s+)?` + quotedName), false},
	{regexp.MustCompile(`(?i)\b(?:renam(?:e|ed|es|ing)|mov(?:e|ed|es|ing)|replac(?:e|ed|es|ing)|chang(?:e|ed|es|ing))\b[^.;` + "`" + `]{0,40}?` + quotedName + `[^.;` + "`" + `]{0,30}?\b(?:to|as|with|by|into)\s+(?:the\s+)?(?:new\s+)?` + quotedName), false},
	{regexp.MustCompile(`(?i)\buse\s+(?:the\s+)?(?:new\s+)?` + quotedName + `[^.;` + "`" + `]{0,30}?\b(?:instead of|rather than|in place of)\s+(?:the\s+)?` + quotedName), true},
	{regexp.MustCompile(`(?i)` + quotedName + `[^` + "`" + `]{0,90}?\b(?:use|switch to|prefer|see|replace it with|migrate to)\s+(?:the\s+)?(?:new\s+)?` + quotedName + `(?:\s+instead)?`), false},
	{regexp.MustCompile(quotedName + `\s*(?:->|→|=>|⇒)\s*` + quotedName), false},
}

// bareRename are the same without quotes, as messages of deprecations say it.
var bareRename = []*regexp.Regexp{
	regexp.MustCompile(`(?i)(?:^|[\s:"'` + "`" + `])([A-Za-z_][\w$.:#-]*[\w$])(?:\(\))?["'` + "`" + `]?\s+(?:is|was|has been|are)\s+(?:now\s+)?(?:deprecated|removed|obsolete|gone)\b[^.;,]{0,60}?[.;,:!-]+\s*(?:please\s+)?use\s+["'` + "`" + `]?([A-Za-z_][\w$.:#/-]*[\w$])`),
	regexp.MustCompile(`(?i)\buse\s+["'` + "`" + `]?([A-Za-z_][\w$.:#/-]*[\w$])(?:\(\))?["'` + "`" + `]?\s+instead of\s+["'` + "`" + `]?([A-Za-z_][\w$.:#-]*[\w$])`),
}

// Renames are the pairs of names of which a text plainly says that one goes on as the other.
func Renames(text string) (found []Rename) {
	add := func(old, fresh string) {
		old, fresh = plainName(strings.TrimSpace(old)), plainName(strings.TrimSpace(fresh))
		if old == fresh || !isName(old) || !isName(fresh) {
			return
		}
		for _, r := range found {
			if r.Old == old || r.Old == fresh {
				return
			}
		}
		found = append(found, Rename{old, fresh})
	}
	for _, r := range renames {
		for _, m := range r.form.FindAllStringSubmatch(text, -1) {
			a, b := strings.Join(m[1:5], ""), strings.Join(m[5:9], "")
			if r.swapped {
				a, b = b, a
			}
			add(a, b)
		}
	}
	if len(found) > 0 {
		return found
	}
	for i, r := range bareRename {
		if m := r.FindStringSubmatch(text); m != nil && !common[strings.ToLower(m[1])] && !common[strings.ToLower(m[2])] {
			if i == 1 {
				m[1], m[2] = m[2], m[1]
			}
			add(m[1], m[2])
		}
	}
	return found
}

// common are words that are no names by themselves.
var common = func() map[string]bool {
	words := map[string]bool{}
	for _, w := range strings.Fields(`a an and are array as at be been boolean but by class code config const data default deprecated do else error
		event false file for from function get has have if import in index instead is it key list method module name new node none not now null
		number object of old on one option options or out package parameter path property return set string test that the their them then there
		these they this those to true type undefined use used user using value version was when which with you your`) {
		words[w] = true
	}
	return words
}()

// Common tells whether a word is too common to be looked for in a project.
func Common(name string) bool { return len(name) < 3 || common[strings.ToLower(name)] }
