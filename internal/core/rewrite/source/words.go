package source

import "strings"

// Standing are the places of a word in a text where it is no part of a longer one.
func Standing(text, word string) (places []int) {
	for at := 0; ; {
		n := strings.Index(text[at:], word)
		if n < 0 {
			return places
		}
		at += n
		before, after := text[:at], text[at+len(word):]
		begins := before == "" || before[len(before)-1] == '.' || !inName(before[len(before)-1]) || word[0] == '$'
		if begins && (after == "" || !inName(after[0])) {
			places = append(places, at)
		}
		at += len(word)
	}
}

// inName tells whether a character goes on with the name of a key or a variable.
func inName(c byte) bool {
	return c == '_' || c == '-' || c == '.' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}
