package gem

import (
	"slices"
	"strings"
)

// words are the names in a value: ":mri", "[:mri, :mingw]".
func words(value string) []string {
	return strings.FieldsFunc(value, func(c rune) bool {
		return c != '_' && (c < 'a' || c > 'z') && (c < '0' || c > '9')
	})
}

// meetAny tells whether one of the platforms that a Gemfile names ("mri", "jruby_92") is for one of the
// lock's. Which Ruby of a platform is meant counts only when gems are installed.
func meetAny(named, platforms []string) bool {
	return slices.ContainsFunc(named, func(name string) bool {
		name, _, _ = strings.Cut(strings.TrimPrefix(name, "x64_"), "_")
		return slices.ContainsFunc(platforms, func(platform string) bool { return family(name) == family(platform) })
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
