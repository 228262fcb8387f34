package report

import (
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/core/notes"
)

// mostSaid is how many entries of a package's notes a report has.
const mostSaid = 6

// telling are the kinds of entries that reviewers look for.
var telling = []string{
	string(notes.Breaking), string(notes.Removed), string(notes.Needs),
	string(notes.Renamed), string(notes.Security), string(notes.Deprecated),
}

// Extract is what notes say that concerns the project, or that is more than an addition or a mended fault: of each package
// a few entries, in their order. Packages whose notes say nothing of that are left out.
func Extract(all []model.PackageNotes) (some []model.PackageNotes) {
	for _, p := range all {
		var kept []model.NoteEntry
		for _, e := range p.Entries {
			if len(kept) < mostSaid && (len(e.Uses) > 0 || slices.Contains(telling, e.Kind)) {
				kept = append(kept, e)
			}
		}
		if len(kept) > 0 {
			p.Entries = kept
			some = append(some, p)
		}
	}
	return some
}
