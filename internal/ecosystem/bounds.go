package ecosystem

import "fmt"

// The bounds of what a registry lists of one package.
const (
	MaxReleases = 50_000 // how many releases it may have
	MaxVersion  = 256    // how long the text of a version may be, in bytes
)

// ListedVersion tells whether a text of a list can be a version at all. What is longer is no version that anybody
// wrote, and is passed over.
func ListedVersion(text string) bool { return text != "" && len(text) <= MaxVersion }

// ErrReleases is the error of a list of more releases than any package has: all of them would be sorted and tried.
var ErrReleases = fmt.Errorf("it lists more than %d releases, which no package has", MaxReleases)

// CheckReleases is ErrReleases for a number of releases that is too high.
func CheckReleases(n int) error {
	if n > MaxReleases {
		return ErrReleases
	}
	return nil
}
