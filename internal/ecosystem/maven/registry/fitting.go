package registry

import (
	"slices"
	"strings"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/version"
)

// releaseWords are words in versions that say no more than that it is a release.
var releaseWords = []string{"final", "ga", "release", "sp", "v", "rel", "stable"}

var (
	flavourWord = lazyregexp.New(`[A-Za-z]+[0-9]*`)
	dateMajor   = lazyregexp.New(`^(?:19|20)[0-9]{6}(?:[.-]|$)`)
)

// flavour is what a version says besides numbers and that it is a release: "jre" of "33.0-jre", "native-mt" of
// "1.3.9-native-mt-2".
func flavour(text string) string {
	var words []string
	for _, w := range flavourWord.FindAllString(text, -1) {
		if !slices.Contains(releaseWords, strings.TrimRight(strings.ToLower(w), "0123456789")) {
			words = append(words, strings.ToLower(w))
		}
	}
	return strings.Join(words, "-")
}

// fitting leaves out of the versions of a package those that nobody means who asks for a newer one: of another flavour than
// the one in use, and those that are dates where most are not. What is in use always stays.
func fitting(list []string, inUse string) []string {
	dates := 0
	for _, v := range list {
		if dateMajor.MatchString(v) {
			dates++
		}
	}
	odd := func(v string) bool {
		return 2*dates < len(list) && dateMajor.MatchString(v) && !dateMajor.MatchString(inUse)
	}
	wanted := flavour(inUse)
	return slices.DeleteFunc(slices.Clone(list), func(v string) bool {
		if v == inUse {
			return false
		}
		parsed, err := version.Maven{}.Parse(v)
		preview := err == nil && parsed.Preview()
		return odd(v) || inUse != "" && !preview && flavour(v) != wanted && !previewOf(inUse)
	})
}

func previewOf(text string) bool {
	v, err := version.Maven{}.Parse(text)
	return err == nil && v.Preview()
}
