package gemfile

import (
	"slices"
	"strings"

	"bellwether/internal/core/condition"
)

// words are the names in a value: ":mri", "[:mri, :mingw]".
func words(value string) []string {
	return strings.FieldsFunc(value, func(c rune) bool {
		return c != '_' && (c < 'a' || c > 'z') && (c < '0' || c > '9')
	})
}

// platformKey is what conditions call the platform that gems are installed on.
const platformKey = "platform"

// anyPlatform is the condition that the platform is one of those that a Gemfile names; nil for none.
func anyPlatform(names []string) (any condition.Expr) {
	for _, name := range names {
		term := condition.Term{Key: platformKey, Op: condition.Equal, Value: name}
		if any == nil {
			any = term
		} else {
			any = condition.Or{X: any, Y: term}
		}
	}
	return any
}

// Holds tells whether a condition may hold on one of the lock's platforms: a Gemfile names them as "mri" or "jruby_92". Which Ruby
// of a platform is meant counts only when gems are installed.
func Holds(when condition.Expr, platforms []string) bool {
	return when == nil || slices.ContainsFunc(platforms, func(platform string) bool {
		return when.Eval(func(t condition.Term) condition.Truth {
			name, _, _ := strings.Cut(strings.TrimPrefix(t.Value, "x64_"), "_")
			if family(name) == family(platform) {
				return condition.True
			}
			return condition.False
		}) != condition.False
	})
}

// family is what a platform's name, in a Gemfile or in a lock, is about: Ruby itself, Java, Windows.
func family(platform string) string {
	switch {
	case platform == "jruby" || strings.Contains(platform, "java"):
		return "java"
	case strings.Contains(platform, "mingw") || strings.Contains(platform, "mswin") || platform == "windows":
		return "windows"
	}
	return "ruby"
}
