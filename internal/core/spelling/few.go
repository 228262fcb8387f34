package spelling

import (
	"fmt"
	"strings"
)

// Few lists at most a number of names, and counts the others. A single one more is
// named, too, since that is no longer than counting it.
func Few(names []string, most int) string {
	if len(names) <= most+1 {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}
