package reserved

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestOf(t *testing.T) {
	for _, name := range []string{
		".git", ".git/hooks/x", "a/.GIT/config", "a/.git", ".git.", ".git ", ".git. .", ".g\u200cit", ".gi\u00adt", "\ufeff.git",
		"git~1", "GIT~1", "git~12/x", ".git::$INDEX_ALLOCATION", ".git:x", ".gıt", ".G\u0130T", "a\\.git\\hooks", "sub/.Git . . /x",
		".gi\ufe0ft",
	} {
		assert.Equal(t, Git, Of(name), "%q", name)
	}
	for _, name := range []string{
		".bellwether", ".bellwether/route.yaml", "a/.BELLWETHER", ".Bellwether.", ".bellwether /x", ".bell\u200bwether", "bellwe~1/x",
		"BELLWE~2", ".bellwether::$DATA", "x\\.bellwether",
	} {
		assert.Equal(t, Bellwether, Of(name), "%q", name)
	}
	for _, name := range []string{
		"git", ".gitignore", ".github/x", "a.git", ".gits", "git~", "git~1a", "bellwether", ".bellwether-abc", "bellwe~", "x:.git", ".", "",
		"..", "...git",
	} {
		assert.Equal(t, Nobody, Of(name), "%q", name)
	}
}

func TestKey(t *testing.T) {
	for _, same := range [][]string{
		{"A.txt", "a.txt", "a.TXT.", "a.txt ", "a.txt:stream"},
		{"caf\u00e9", "cafe\u0301", "CAF\u00c9"},
		{"Kelvin", "\u212aelvin"},
		{"dir/x", "DIR/X", "dir./x"},
		{"ſ", "s", "S"},
		{"σ", "ς", "Σ"},
	} {
		for _, name := range same {
			assert.Equal(t, Key(same[0]), Key(name), "%q and %q", same[0], name)
		}
	}
	assert.NotEqual(t, Key("a/b"), Key("ab"))
	assert.NotEqual(t, Key("cafe"), Key("café"))
}
