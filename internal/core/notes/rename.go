package notes

import (
	"strings"

	"bellwether/internal/core/lazyregexp"
)

// The parts that the forms below are made of: a name in code font or in quotes, what may stand
// between two, a name without quotes, and small words before a name.
const (
	quotedName = `(?:\x60\x60([^\x60]+)\x60\x60|\x60([^\x60]+)\x60|"([^"\s]+)"|'([^'\s]+)')`
	little     = `[^.;\x60]{0,40}?`
	bareName   = `["'\x60]?([A-Za-z_$][\w$.:#/-]*[\w$])(?:\(\))?["'\x60]?`
	the        = `(?:the\s+)?(?:new\s+)?`
)

// form is a sentence, in any case of letters.
func form(parts ...string) *lazyregexp.Regexp {
	return lazyregexp.New(`(?i)` + strings.Join(parts, ""))
}

// renames are the sentences that plainly state another name, with the old and the new one in
// quotes or code font. Swapped has the new one first.
var renames = []struct {
	form    *lazyregexp.Regexp
	swapped bool
}{
	{form(quotedName, little, `\b(?:is now(?: called| named)?|became|becomes|renamed (?:to|as)|moved to)\s+`, the, quotedName), false},
	{form(
		quotedName, little, `\b(?:is|was|has been|have been|were|are|been)(?: now)? (?:renamed|moved|changed|replaced)(?: in)?`,
		`(?: to| as| into| by| with)?\s+`, the, quotedName,
	), false},
	{form(
		`\b(?:renam|mov|replac|chang)(?:e|ed|es|ing)\b`, little, quotedName, little, `\b(?:to|as|with|by|into)\s+`, the, quotedName,
	), false},
	{form(`\buse\s+`, the, quotedName, little, `\b(?:instead of|rather than|in place of)\s+`, the, quotedName), true},
	{form(quotedName, `[^\x60]{0,90}?\b(?:use|switch to|prefer|see|replace it with|migrate to)\s+`, the, quotedName), false},
	{form(quotedName, `\s*(?:->|→|=>|⇒)\s*`, quotedName), false},
}

// The same without quotes, as messages of deprecations say it: with the old name first, and
// with the new one first.
var (
	bareGone = form(
		`(?:^|[\s:])`, bareName, `\s+(?:is|was|has been|are)\s+(?:now\s+)?(?:deprecated|removed|obsolete|gone)\b[^.;,]{0,60}?`,
		`[.;,:!-]+\s*(?:please\s+)?use\s+`, bareName,
	)
	bareInstead = form(`\buse\s+`, bareName, `\s+instead of\s+`, bareName)
)

// Renames are the pairs of names of which a text plainly says that one goes on as the other.
func Renames(text string) (found []Rename) {
	if strings.Contains(text, "signature") { // the name stays, and is called otherwise
		return nil
	}
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
	usual := func(m []string) bool { return common[strings.ToLower(m[1])] || common[strings.ToLower(m[2])] }
	if m := bareGone.FindStringSubmatch(text); m != nil && !usual(m) {
		add(m[1], m[2])
	}
	if m := bareInstead.FindStringSubmatch(text); m != nil && !usual(m) {
		add(m[2], m[1])
	}
	return found
}

// common are words that are no names by themselves.
var common = func() map[string]bool {
	words := map[string]bool{}
	for _, w := range strings.Fields(`a an and are array as at be been boolean but by class code config const data default deprecated do else
		error event false file for from function get has have if import in index instead is it key list method module name
		new node none not now null
		number object of old on one option options or out package parameter path property return set string test that the their them then there
		these they this those to true type undefined use used user using value version was when which with you your`) {
		words[w] = true
	}
	return words
}()

// Common tells whether a word is too common to be looked for in a project.
func Common(name string) bool { return len(name) < 3 || common[strings.ToLower(name)] }
