package source

import (
	"fmt"

	"bellwether/internal/core/keys"
)

// Broken tells what a rewrite would break: configuration that can be read no more, or brackets
// that have no partner any more. It is empty for nothing.
func Broken(before, after *File) string {
	if _, isConfig := keys.FormatOf(before.Name); isConfig {
		if _, err := before.Config(); err == nil {
			if _, err := after.Config(); err != nil {
				return "the file could not be read any more (" + err.Error() + "); it is left as it is"
			}
		}
		return ""
	}
	if before.Lang == nil {
		return ""
	}
	a, b := before.Loose(), after.Loose()
	for c, n := range b {
		if n > a[c] {
			return fmt.Sprintf("a %q would have no partner; it is left as it is", c)
		}
	}
	return ""
}
